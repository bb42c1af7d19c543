"""Changing a device's own settings: asked first, found again, told what is known."""

import unittest

from msgspec.structs import replace

from kanaleto.control.changing import CannotChange, SettingChanges, Where
from kanaleto.lines.exchange import Exchanger
from kanaleto.site.links.link import Link
from kanaleto.site.links.serial import SerialLink
from tests.controlled import Controlled, controlled
from tests.simulated import Wires, device, silent

MAP = (
    "name,table,address,type,access,labels,setting\nUnit,holding,0,uint16,rw,,unit_id\n"
    "Speed,holding,1,uint16,rw,0=9600;1=19200;2=38400,baud\nLevel,holding,2,uint16,r,,\n"
)


class Changing(unittest.TestCase):
    def test_unit_ids(self) -> None:
        """One that answers already is refused before a byte is written; else it is found where it went."""

        async def work(rig: Controlled) -> None:
            changes = SettingChanges(rig.session, rig.control)
            for text, why in (("8", "Other already"), ("0", "1…247"), ("300", "1…247"), ("9", "somebody answers")):
                with self.subTest(text=text), self.assertRaisesRegex(CannotChange, why):
                    await changes.prepare(rig.order("Unit", text))
            self.assertEqual(rig.wrote, [])
            order = rig.order("Unit", "12")
            change = await changes.prepare(order)
            self.assertEqual(change.text, "unit ID 7 → 12")
            self.assertTrue((await rig.control.orders.send(order)).is_equal)
            self.assertEqual((await changes.find(change, 5)).where, Where.OLD)
            units = rig.line.units
            self.assertTrue(units.readdress(7, 12))  # its power was off and on
            self.assertEqual((await changes.find(change, 5)).where, Where.NEW)
            self.assertFalse(units.readdress(12, 8))
            rig.line.fault = silent(12)
            found = await changes.find(change, 5)
            self.assertEqual(found.where, Where.NOWHERE)
            self.assertIn("the site is left as it is", found.text)

        stranger = device("Stranger", 9, MAP)
        drives = (device("Drive", 7, MAP), device("Other", 8, MAP), stranger)

        async def without_stranger(rig: Controlled) -> None:
            line = replace(rig.line.line, devices=rig.line.line.devices[:2])
            rig.session.take_over(replace(rig.line.site, lines=(line,)))
            await rig.running.for_s(1)
            await work(rig)

        controlled(without_stranger, *drives)

    def test_baud(self) -> None:
        """Others of the line are named; it is found at the new settings, or at the old."""
        wires = Wires(device("Drive", 7, MAP))
        asked: list[Link] = []

        def make(link: Link) -> Exchanger:
            asked.append(link)
            return wires.opener(link)

        async def work(rig: Controlled) -> None:
            changes = SettingChanges(rig.session, rig.control, make)
            with self.assertRaisesRegex(CannotChange, "nobody knows"):
                await changes.prepare(rig.order("Speed", "7"))
            change = await changes.prepare(rig.order("Speed", "2"))
            self.assertEqual(change.text, "19200 8E1 → 38400 8E1")
            self.assertIn("Other", change.warning)
            self.assertEqual((await changes.find(change, 3)).where, Where.OLD)
            assert isinstance(change.link, SerialLink)
            wires.link = replace(wires.link, settings=change.link.settings)
            self.assertEqual((await changes.find(change, 3)).where, Where.NEW)
            wires.link = replace(wires.link, settings=replace(change.link.settings, baud=1200))
            self.assertEqual((await changes.find(change, 3)).where, Where.NOWHERE)
            self.assertGreater(len(asked), 6)

        controlled(work, device("Drive", 7, MAP), device("Other", 8, MAP))
