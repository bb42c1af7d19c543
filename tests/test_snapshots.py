"""Snapshots: taken, written, read with every fault, compared, written back."""

import tempfile
import unittest
from pathlib import Path

from msgspec.structs import replace

from kanaleto.control.order import State
from kanaleto.control.snapshots import (
    Held,
    as_text,
    differences,
    for_device,
    load,
    orders_for,
    restore,
    save,
    standing,
    take,
)
from kanaleto.site.filefaults import FaultyFile
from kanaleto.wire.codes import Table
from kanaleto.wire.frames import Frame
from kanaleto.wire.rtu import Rtu
from tests.controlled import DRIVE, Controlled, controlled
from tests.simulated import Pieces, device


class Snapshots(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "taken" / "before.csv"

    def test_there_and_back(self) -> None:
        """Taken, saved, read, changed, and written back: only what differs goes out, in order."""

        async def work(rig: Controlled) -> None:
            drive = rig.line.units.devices[0]
            for name, value in (("Target", 41.5), ("Level", 2.25), ("Horn", 1), ("Often", 0xABCD)):
                drive.put(name, value)
            rows, failed = await take(rig.session, ["Drive"])
            self.assertEqual(failed, [])
            self.assertNotIn("Only written", {row.point for row in rows})
            save(self.path, as_text("A, site", "2026-05-17T03:00:00Z", rows))
            again = load(self.path)
            self.assertEqual([replace(row, line=0) for row in again], rows)
            for name, value in (("Target", 10), ("Horn", 0), ("Position", 5), ("Never", 3)):
                drive.put(name, value)
            now, _ = await take(rig.session, ["Drive"])
            found = differences(again, now)
            self.assertEqual({one.held.point for one in found}, {"Target", "Horn", "Position", "Never"})
            orders, left = orders_for(rig.session.site, [one.held for one in found])
            self.assertEqual([order.name for order in orders], ["Horn", "Target"])
            self.assertEqual(len(left), 2)
            results = await restore(rig.control.orders, orders, lambda result: None)
            self.assertTrue(all(result.is_equal for result in results))
            self.assertEqual((drive.value("Target"), drive.value("Horn")), (41.5, 1))

        controlled(work)

    def test_what_is_polled_is_compared_as_it_stands_now(self) -> None:
        async def work(rig: Controlled) -> None:
            drive = rig.line.units.devices[0]
            drive.put("Target", 41.5)
            rows, _ = await take(rig.session, ["Drive"])
            drive.put("Target", 12.5)
            drive.put("Horn", 1)
            await rig.running.for_s(1.0)
            rig.session.publish()
            now = standing(rows, rig.session.snapshot)
            found = differences(rows, [now[row.key] for row in rows if row.key in now])
            self.assertEqual({one.held.point for one in found}, {"Target", "Horn"})
            self.assertEqual(now[("Drive", "Target", Table.HOLDING, 1)].value, "12.50")

        controlled(work)

    def test_bare_ranges_and_another_device(self) -> None:
        other = device("Other drive", 8, DRIVE, 0.2)

        async def work(rig: Controlled) -> None:
            rows, failed = await take(rig.session, ["Drive"], [(Table.HOLDING, 0, 3), (Table.HOLDING, 100, 101)])
            self.assertEqual([row.point for row in rows], ["Command word", "Target", "Status word", "Position"])
            self.assertRegex(failed[0], "holding 100.*cannot be read")
            rig.line.units.devices[0].put("Target", 30)
            rows, _ = await take(rig.session, ["Drive"])
            orders, _ = orders_for(rig.session.site, for_device(rows, "Other drive"))
            results = await restore(rig.control.orders, orders, lambda result: None)
            self.assertIn(State.NOT_SENT, [result.state for result in results])  # one wants to be confirmed
            self.assertEqual(rig.value("Target", 8), 30)

        controlled(work, device("Drive", 7, DRIVE, 0.2), other)

    def test_what_is_refused_is_told_and_the_rest_goes_on(self) -> None:
        async def work(rig: Controlled) -> None:
            rows, _ = await take(rig.session, ["Drive"])
            wanted = [replace(row, data=b"\0\x05") for row in rows if row.point in ("Target", "Often", "Mode")]

            def refuses(frame: Frame, at: float, right: Pieces) -> Pieces:
                answer = Rtu().encode(7, b"\x86\x04")
                return [(at + 0.01, answer)] if frame.pdu[:3] == b"\x06\x00\x09" else right

            rig.line.fault = refuses
            orders, _ = orders_for(rig.session.site, wanted)
            results = await restore(rig.control.orders, orders, lambda result: None)
            self.assertEqual([result.state for result in results], [State.DONE, State.REFUSED, State.DONE])

        controlled(work)

    def test_settings_of_a_port_are_left(self) -> None:
        each_device = device("Drive", 7, "name,table,address,access,setting\nUnit,holding,0,rw,unit_id\n")
        rows = [Held("Drive", "Unit", Table.HOLDING, 0, b"\0\x09"), Held("Gone", "X", Table.HOLDING, 0, b"\0\0")]

        async def work(controlled_one: Controlled) -> None:
            orders, left = orders_for(controlled_one.session.site, rows)
            self.assertEqual(orders, [])
            self.assertIn("power off and on", left[0])
            self.assertIn("no such device", left[1])

        controlled(work, each_device)

    def test_every_fault_of_a_file_with_its_line(self) -> None:
        self.path.parent.mkdir()
        head = "# kanaleto snapshot 1, S, T\ndevice,point,table,address,words,value,unit\n"
        self.path.write_text(
            head + "D,P,hold,0,0000,,\nD,P,holding,70000,0000,,\nD,P,coil,0,2,,\n,P,holding,0,0000,,\n"
        )
        with self.assertRaises(FaultyFile) as raised:
            load(self.path)
        self.assertEqual([fault.line for fault in raised.exception.faults], [3, 4, 5, 6])
        for text in ("# something else\n", "a,b\n1,2\n", ""):
            self.path.write_text(text)
            with self.assertRaises(FaultyFile):
                load(self.path)
