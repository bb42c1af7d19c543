"""All ways to write × all rules that forbid it or want a word, with the far end listening."""

import contextlib
import io
import tempfile
import unittest
from pathlib import Path
from typing import NamedTuple

from msgspec.structs import replace

from kanaleto.cli.main import main
from kanaleto.control.alive import Wish
from kanaleto.control.order import Consent, Order, State
from kanaleto.control.permission import Touched, permission, permission_at, permission_of_pdu
from kanaleto.site.links.parse import parse_link
from kanaleto.site.model import Line, Writing
from kanaleto.wire.codes import WRITING, Table
from kanaleto.wire.reach import Items, only_reads, written_by
from tests.controlled import Controlled, controlled, routines_of
from tests.rawends import RawSlave
from tests.simulated import device

_MAP = """name,table,address,type,access,write,bit
Free,holding,1,uint16,rw,,
Never,holding,2,uint16,rw,never,
Read,holding,3,uint16,r,,
Ask,holding,4,uint16,rw,confirm,
Hidden,holding,5,uint16,rw,,
Only written,holding,6,uint16,w,,
Bit never,holding,7,bool,rw,never,3
Bit free,holding,7,bool,rw,,4
Free coil,coil,1,bool,rw,,
Never coil,coil,2,bool,rw,never,
Read coil,coil,3,bool,r,,
"""
_NEVER_PDUS = {
    "06": "06 0002 0005", "06 read-only": "06 0003 0005", "10 across": "10 0001 0003 06 0001 0002 0003",
    "16": "16 0002 00F2 0025", "16 of its bit": "16 0007 FFF7 0008", "17": "17 0001 0001 0002 0001 02 0005",
    "05": "05 0002 FF00", "05 read-only": "05 0003 FF00", "0F across": "0F 0001 0003 01 07",
    "not whole": "06 0001 00",
}  # fmt: skip
"""At a device that may be written, of which some points never are."""
_FREE_PDUS = {
    "06": "06 0001 0005", "10": "10 0001 0001 02 0005", "16": "16 0001 00F2 0025", "0F": "0F 0001 0001 01 01",
    "16 of the other bit": "16 0007 FFEF 0010", "05": "05 0001 FF00", "03": "03 0001 0001", "07": "07",
    "08 00": "08 0000 1234", "08 0B": "08 000B 0000", "0B": "0B", "0C": "0C", "11": "11", "2B 0E": "2B 0E 01 00",
}  # fmt: skip
_CHANGING_PDUS = {
    **{number: f"08 00{number} 0000" for number in ("01", "03", "04", "0A", "14")}, "08 short": "08 00",
    "15": "15 09 06 0004 0000 0001 0007", "2B 0D": "2B 0D 01", "41": "41 01 02", "06": "06 0001 0005",
}  # fmt: skip
"""What does not only read: never to a device of `never`, whatever its map says."""


def _line(
    link: str = "tcp://127.0.0.1:1502", writing: Writing = Writing.UNLOCK, other: Writing = Writing.UNLOCK
) -> Line:
    one = replace(device("D", 1, _MAP), writing=writing)
    return Line("L", parse_link(link), (one, replace(device("E", 2, _MAP), writing=other)), writing=writing)


class Done(NamedTuple):
    exit_code: int
    output: str


class Judged(unittest.TestCase):
    def test_pdus(self) -> None:
        line = _line()
        for name, text in _NEVER_PDUS.items():
            self.assertTrue(permission_of_pdu((), line, 1, bytes.fromhex(text)).never, name)
        for name, text in _FREE_PDUS.items():
            self.assertEqual(permission_of_pdu((), line, 1, bytes.fromhex(text)).never, "", name)
        never = _line(writing=Writing.NEVER)
        for name, text in _CHANGING_PDUS.items():
            self.assertTrue(permission_of_pdu((), never, 1, bytes.fromhex(text)).never, name)
            self.assertFalse(only_reads(bytes.fromhex(text)), name)
        for text in ("03 0001 0001", "08 0000 1234", "08 000B 0000", "2B 0E 01 00", "11", "18 0001"):
            self.assertEqual(permission_of_pdu((), never, 1, bytes.fromhex(text)).never, "", text)

    def test_who_is_reached(self) -> None:
        five = Touched(Items(Table.HOLDING, 1, 2))
        serial = _line("rtu:///dev/ttyX?baud=9600", other=Writing.NEVER)
        self.assertIn("E is never written", permission(serial, 0, [five]).never)
        self.assertIn("a broadcast reaches it", permission(serial, 0, [five]).never)
        self.assertEqual(permission(serial, 1, [five]).never, "")
        self.assertEqual(permission(_line(other=Writing.NEVER), 0, [five]).never, "")  # no broadcast on TCP
        self.assertEqual(permission(_line("rtu:///dev/ttyX?baud=9600", other=Writing.CONFIRM), 0, [five]).confirms, "E")
        alone = Line("L", parse_link("tcp://127.0.0.1:1502"), (replace(device("D", 1, _MAP), writing=Writing.NEVER),))
        for unit in 0, 1, 255:  # it is itself the server
            self.assertIn("D is never written", permission(alone, unit, [five]).never)
        self.assertEqual(permission(alone, 9, [five]).never, "")
        self.assertIn("unit 9 of L", permission(replace(alone, writing=Writing.NEVER), 9, [five]).never)

    def test_another_line_to_the_same_place_is_no_way_round(self) -> None:
        five = [Touched(Items(Table.HOLDING, 1, 2))]
        for one, other, is_same in (
            ("tcp://127.0.0.1:1502", "tcp://localhost:1502", True),
            ("tcp://127.0.0.1:1502", "tcp://127.0.0.1:1503", False),
            ("tcp://plc.example:502", "rtu+tcp://PLC.example:502", True),
            ("rtu:///dev/ttyX?baud=9600", "ascii:///dev/ttyX?baud=19200", True),
            ("rtu:///dev/ttyX?baud=9600", "rtu:///dev/ttyY?baud=9600", False),
        ):  # fmt: skip
            never = _line(one, writing=Writing.NEVER)
            guest = Line(f"{other}, not in the site", parse_link(other), ())
            said = permission_at([never], guest, 1, five)
            self.assertEqual(bool(said.never), is_same, (one, other))
            self.assertEqual(permission_at([never], guest, 9, five).never, "")  # a unit that the site does not know

    def test_never_read(self) -> None:
        limits = replace(device("D", 1, _MAP).limits, never_read=((Table.HOLDING, 5, 5),))
        line = Line("L", parse_link("tcp://127.0.0.1:1502"), (replace(device("D", 1, _MAP), limits=limits),))
        for text in ("03 0005 0001", "03 0001 000A", "18 0005", "17 0005 0001 0001 0001 02 0005", "03 0006 0001"):
            self.assertTrue(permission_of_pdu((), line, 1, bytes.fromhex(text)).never, text)
        self.assertEqual(permission_of_pdu((), line, 1, bytes.fromhex("06 0005 0001")).never, "")

    def test_what_is_written_is_told_only_of_whole_pdus(self) -> None:
        self.assertEqual(written_by(bytes.fromhex("10 0001 0002 04 0001 0002")), (Items(Table.HOLDING, 1, 3),))
        self.assertEqual(written_by(bytes.fromhex("0F 0001 000A 02 0102")), (Items(Table.COIL, 1, 11),))
        self.assertEqual(written_by(bytes.fromhex("17 0001 0001 0005 0001 02 0005")), (Items(Table.HOLDING, 5, 6),))
        for text in (
            "10 0001 0002 03 0001 0002",
            "10 0001 0002 04 0001",
            "0F 0001 000A 01 01",
            "06 0001",
            "41 01",
            "16 0001",
        ):
            self.assertIsNone(written_by(bytes.fromhex(text)), text)


class Application(unittest.TestCase):
    """The door, and all that goes through it."""

    def _refused(self, rule: str, **ways: str) -> None:
        """No way past `rule`, which `ways` set; nothing was heard."""

        async def work(rig: Controlled) -> None:
            name = ways.get("point", "Free")
            free = rig.order("Free", "7", "D")
            place = rig.session.plan.place_of(("D", name))
            order = replace(free, points=(name,), address=place.point.address) if place is not None else free  # type: ignore[union-attr]
            orders: dict[str, Order] = {
                "person": order,
                "all consents": replace(order, consents=frozenset(Consent)),
                "bare": replace(order, points=(), device=""),
                "across": replace(order, points=(), data=bytes(6)),
                "to all": replace(order, points=(), device="", unit_id=0, consents=frozenset(Consent)),
                "routine": replace(order, owner="routine 1", consents=frozenset(Consent)),
            }  # fmt: skip
            for way, made in orders.items():
                result = await rig.control.send(made)
                self.assertEqual(
                    (result.state, result.needs, rig.wrote), (State.NOT_SENT, None, []), (rule, way, result.text)
                )
                self.assertIn(rule, result.text, way)
            for way in "person", "to all":
                wish = Wish(order=orders[way], period_s=0.2, safe=bytes(2), is_late_all_right=True)
                kept, result = await rig.control.alives.begin(wish)
                self.assertIsNone(kept, (rule, way))
                self.assertIn(rule, result.text)
            back = replace(order, data=bytes(2))
            pulse = await rig.control.pulse(orders["all consents"], back, 0.2, lambda result: None)
            self.assertEqual((pulse.state, rig.wrote), (State.NOT_SENT, []), rule)
            text = f'name = "R"\ndevice = "D"\n[[step]]\nwrite = {{ "{name}" = 5 }}\n'
            routines, _ = routines_of(rig.session.site, r=text)
            rig.control.take_routines(routines, [])
            for routine in routines:
                self.assertEqual(await rig.control.finished(rig.control.run(routine)), "failed", rule)
            self.assertEqual(rig.wrote, [], rule)

        first = replace(device("D", 1, _MAP, 0.2), writing=Writing(ways.get("device", "unlock")))
        second = replace(device("E", 2, _MAP, 0.2), writing=Writing(ways.get("other", "unlock")))
        controlled(work, first, second)


class Commands(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        (self.folder / "m.csv").write_text(_MAP)

    def _far(self, scheme: str) -> RawSlave:
        far = RawSlave(f"{scheme}://127.0.0.1:1")
        self.addCleanup(far.close)
        far.handler = lambda unit, pdu: (
            bytes((pdu[0], 2)) + bytes(2) if pdu[0] == 3 else pdu[:5] if pdu[0] in (15, 16) else pdu
        )
        return far

    def _site(
        self, scheme: str, far: RawSlave, device_keys: str = "", other_keys: str = "", line_keys: str = ""
    ) -> str:
        path = self.folder / "s.toml"
        path.write_text(
            f'[site]\nname = "S"\n[[line]]\nname = "L"\nlink = "{scheme}://127.0.0.1:{far.port}"\n{line_keys}\n'
            f'[[line.device]]\nname = "D"\nunit_id = 1\nmap = "m.csv"\n{device_keys}\n'
            f'[[line.device]]\nname = "E"\nunit_id = 2\nmap = "m.csv"\n{other_keys}\n'
        )
        return str(path)

    def _run(self, *arguments: str) -> Done:
        string_io = io.StringIO()
        with contextlib.redirect_stdout(string_io), contextlib.redirect_stderr(string_io):
            return Done(main(list(arguments)), string_io.getvalue())

    def _heard(self, far: RawSlave) -> list[bytes]:
        return [pdu for _, pdu in far.seen]

    def test_points(self) -> None:
        far = self._far("tcp")
        site = self._site("tcp", far)
        writes = {
            "06": ("holding", "2", "5"), "read-only": ("holding", "3", "5"),
            "10 across": ("holding", "1", "5", "6", "7"),
            "16": ("holding", "2", "--or", "1"), "16 of its bit": ("holding", "7", "--or", "8"),
            "05": ("coil", "2", "on"), "05 read-only": ("coil", "3", "1"), "0F across": ("coil", "1", "1", "1", "1"),
        }  # fmt: skip
        for name, arguments in writes.items():
            for extra in ((), ("--yes",), ("--verify", "--yes")):
                done = self._run("write", "L", *arguments, "--site", site, *extra)
                self.assertEqual((done.exit_code, far.seen), (2, []), (name, done.output))
                self.assertRegex(done.output, "never|read-only", name)
        for name, text in _NEVER_PDUS.items():
            done = self._run("raw", "L", *text.split(), "--site", site, "--yes")
            self.assertEqual((done.exit_code, far.seen), (2, []), (name, done.output))
        for arguments in (("holding", "1", "5"), ("holding", "7", "--or", "16"), ("coil", "1", "on")):
            self.assertEqual(self._run("write", "L", *arguments, "--site", site).exit_code, 0, arguments)
        self.assertEqual([pdu[0] for pdu in self._heard(far)], [6, 0x16, 5])

    def test_confirm(self) -> None:
        far = self._far("tcp")
        for keys, address in (('writing = "confirm"', "1"), ("", "4")):
            site = self._site("tcp", far, keys)
            for arguments in (("write", "L", "holding", address, "5"), ("raw", "L", "06", f"000{address}", "0005")):
                done = self._run(*arguments, "--site", site)
                self.assertEqual((done.exit_code, far.seen), (2, []), (arguments, done.output))
                self.assertIn("add --yes", done.output)
                self.assertEqual(self._run(*arguments, "--site", site, "--yes").exit_code, 0)
                self.assertEqual(len(far.seen), 1)
                far.seen.clear()

    def test_a_device_of_never(self) -> None:
        far = self._far("tcp")
        site = self._site("tcp", far, 'writing = "never"')
        for name, text in _CHANGING_PDUS.items():
            done = self._run("raw", "L", *text.split(), "--site", site, "--yes")
            self.assertEqual((done.exit_code, far.seen), (2, []), (name, done.output))
        self.assertEqual(self._run("raw", "L", "03", "0001", "0001", "--site", site).exit_code, 0)
        self.assertEqual(self._run("raw", "L", "06", "0001", "0005", "--unit", "2", "--site", site).exit_code, 0)

    def test_broadcasts(self) -> None:
        far = self._far("rtu+tcp")
        for keys in ({"other_keys": 'writing = "never"'}, {"line_keys": 'writing = "never"'}):
            site = self._site("rtu+tcp", far, **keys)
            for arguments in (
                ("write", "L", "holding", "1", "5"), ("write", "L", "coil", "1", "1", "0"),
                ("write", "L", "holding", "1", "5", "6"), ("raw", "L", "06", "0001", "0005"),
                ("raw", "L", "08", "0001", "0000"), ("raw", "L", "41", "01"),
            ):  # fmt: skip
                done = self._run(*arguments, "--unit", "0", "--site", site, "--yes")
                self.assertEqual((done.exit_code, far.seen), (2, []), (keys, arguments, done.output))
        site = self._site("rtu+tcp", far)
        self.assertEqual(self._run("write", "L", "holding", "1", "5", "--unit", "0", "--site", site).exit_code, 0)
        self.assertEqual(far.seen, [(0, bytes.fromhex("0600010005"))])
        done = self._run("write", "L", "holding", "2", "5", "--unit", "0", "--site", site)
        self.assertIn("D: Never is never written", done.output)

    def test_never_read_is_not_read_back(self) -> None:
        far = self._far("tcp")
        site = self._site("tcp", far, 'never_read = ["holding 5"]')
        for address in "5", "6":
            for arguments in (("5",), ("--or", "1")):
                done = self._run("write", "L", "holding", address, *arguments, "--verify", "--site", site)
                self.assertEqual((done.exit_code, far.seen), (2, []), done.output)
                self.assertIn("leave --verify out", done.output)
        self.assertEqual(self._run("raw", "L", "03", "0005", "0001", "--site", site).exit_code, 2)
        self.assertEqual(self._run("write", "L", "holding", "5", "5", "--site", site).exit_code, 0)
        self.assertEqual(self._heard(far), [bytes.fromhex("0600050005")])

    def test_routines(self) -> None:
        far = self._far("tcp")
        (self.folder / "routines").mkdir()
        for point in "Never", "Read", "Free":
            text = f'name = "{point}"\ndevice = "D"\n[[step]]\nwrite = {{ "{point}" = 5 }}\n'
            (self.folder / "routines" / f"{point}.toml").write_text(text)
        site = self._site("tcp", far)
        for point in "Never", "Read":
            done = self._run("routine", site, point, "--yes")
            self.assertNotEqual(done.exit_code, 0, done.output)
        site = self._site("tcp", far, 'writing = "never"')
        self.assertNotEqual(self._run("routine", site, "Free", "--yes").exit_code, 0)
        self.assertEqual([pdu for pdu in self._heard(far) if pdu[0] in WRITING], [])


class Rules(Application):
    def test_a_device_that_is_never_written(self) -> None:
        self._refused("never", device="never")

    def test_a_point_that_is_never_written(self) -> None:
        self._refused("Never is never written", point="Never")

    def test_a_broadcast_reaches_every_device(self) -> None:
        async def work(rig: Controlled) -> None:
            free = rig.order("Free", "7", "D")
            to_all = replace(free, points=(), device="", unit_id=0, consents=frozenset(Consent))
            result = await rig.control.send(to_all)
            self.assertEqual((result.state, rig.wrote), (State.NOT_SENT, []))
            self.assertIn("E is never written", result.text)
            kept, _ = await rig.control.alives.begin(Wish(order=to_all, period_s=0.2, is_late_all_right=True))
            self.assertIsNone(kept)
            self.assertTrue((await rig.control.send(free)).is_well)

        controlled(work, device("D", 1, _MAP, 0.2), replace(device("E", 2, _MAP, 0.2), writing=Writing.NEVER))

    def test_confirm_and_lock_and_holder_of_every_way(self) -> None:
        async def work(rig: Controlled) -> None:
            ask = rig.order("Ask", "7", "D")
            to_all = replace(ask, points=(), device="", unit_id=0)
            for order in ask, replace(ask, owner="routine 1"), replace(ask, points=(), device=""), to_all:
                self.assertEqual((await rig.control.send(order)).needs, Consent.CONFIRM)
                kept, result = await rig.control.alives.begin(Wish(order=order, period_s=0.2, is_late_all_right=True))
                self.assertEqual((kept, result.needs), (None, Consent.CONFIRM))
            free = rig.order("Free", "7", "D")
            kept, _ = await rig.control.alives.begin(Wish(order=free, period_s=0.5, is_late_all_right=True))
            self.assertIsNotNone(kept)
            went = len(rig.wrote)
            broadcast = replace(free, points=(), device="", unit_id=0, consents=frozenset({Consent.BROADCAST}))
            across = replace(free, points=(), data=bytes(2), owner="routine 1")
            for order in broadcast, across:  # a broadcast meets every holder
                self.assertEqual((await rig.control.send(order)).needs, Consent.HOLDER)
            rig.control.lock_now("writing is locked: u unlocks it")
            rig.lock.lock()
            for order in free, broadcast, across, replace(free, consents=frozenset(Consent)):
                result = await rig.control.send(order)
                self.assertIn("locked", result.text)
            self.assertEqual(set(rig.wrote[went:]) - {rig.wrote[0]}, set())

        controlled(work, device("D", 1, _MAP, 0.2), device("E", 2, _MAP, 0.2))

    def test_nothing_is_read_back_after_a_broadcast(self) -> None:
        async def work(rig: Controlled) -> None:
            rig.session.hold(True)
            before = len(rig.line.requests)
            free = rig.order("Free", "7", "D")
            texts: list[str] = []
            to_all = replace(free, points=(), device="", unit_id=0, consents=frozenset({Consent.BROADCAST}))
            result = await rig.control.send(to_all, texts.append)
            await rig.running.for_s(8.0)
            self.assertEqual((result.text, result.after, texts), ("to all: nobody answers", None, []))
            self.assertEqual([frame.unit_id for frame in rig.line.requests[before:]], [0])
            self.assertEqual((rig.value("Free", 1), rig.value("Free", 2)), (7, 7))

        controlled(work, device("D", 1, _MAP, 0.2), device("E", 2, _MAP, 0.2))

    def test_a_point_that_is_only_read(self) -> None:
        self._refused("Read is read-only", point="Read")


if __name__ == "__main__":
    unittest.main()
