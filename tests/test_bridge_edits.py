"""Edits of composed devices: runs of points into runs of registers; what names a point follows when it is renamed, and
what is removed is answered for with 0B and told."""

from kanaleto.editing.composedit import assign_run, delete_row, points_named
from kanaleto.editing.deviceedit import change_device
from kanaleto.editing.door import Door
from kanaleto.editing.pointedit import change_points, delete_points
from kanaleto.editing.workingcopy import CannotEdit
from kanaleto.files.loading import load_whole
from kanaleto.site.bridges import Bridge, ComposedRow
from tests.test_door import InFolder

SITE = """[site]
name = "S"
[[derived]]
name = "Both"
formula = "[Mast/Wind] + [Winch/Wind]"
[[line]]
name = "L"
link = "tcp://192.0.2.7"
[[line.device]]
name = "Mast"
unit_id = 1
map = "m.csv"
order = "CDAB"
[[line.device]]
name = "Winch"
unit_id = 2
map = "m.csv"
order = "CDAB"
[[bridge]]
name = "Room"
listen = "tcp://127.0.0.1:15502"
[[bridge.route]]
units = 9
to = "L"
[[bridge.device]]
unit_id = 50
map = "room.csv"
numbering = "reference"
[[bridge.pass]]
from = "Mast/Wind"
to = "Winch/Target"
every_s = 1.0
while = "[Mast/Wind] > 2"
"""
MAP = """name,table,address,type,factor,unit,access,bit
Wind,holding,0,float32,,m/s,r,
Target,holding,2,int16,0.1,m,rw,
Flag,holding,3,uint16,,,r,4
Lamp,coil,0,,,,rw,
"""
ROOM = """name,table,address,type,access,from
Wind,holding,40101,float32,r,Mast/Wind
Double,holding,40103,float32,r,= 2 * [Mast/Wind]
"""


class BridgeEdits(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.path = self.folder / "s.toml"
        self.path.write_text(SITE)
        (self.folder / "m.csv").write_text(MAP)
        (self.folder / "room.csv").write_text(ROOM)
        self.opened_door: Door = self.door(load_whole(self.path), self.path)

    @property
    def bridge(self) -> Bridge:
        return load_whole(self.path).site.bridges[0]

    def composed(self, unit_id: int = 50) -> dict[str, ComposedRow]:
        found = self.bridge.composed(unit_id)
        assert found is not None
        return {row.name: row for row in found.rows}

    def refused(self, points: str, at: str, unit_id: int = 50) -> str:
        before = (self.path.read_text(), (self.folder / "room.csv").read_text())
        with self.assertRaises((CannotEdit, ValueError)) as caught:
            self.opened_door.edit(assign_run(self.bridge, unit_id, points, at)).result(60)
        self.assertEqual((self.path.read_text(), (self.folder / "room.csv").read_text()), before)
        return str(caught.exception)

    def test_a_run_gets_registers_one_after_the_other_in_type_order_and_scale_of_its_points(self) -> None:
        self.opened_door.edit(assign_run(self.bridge, 50, "Winch/Wind..Flag; Mast/Lamp", "holding 40201")).result(60)
        rows = self.composed()
        self.assertEqual(
            [(rows[name].address, rows[name].end) for name in ("Wind (2)", "Target", "Flag", "Lamp")],
            [(200, 202), (202, 203), (203, 204), (204, 205)],
        )
        self.assertEqual(rows["Wind (2)"].codec.order.value, "CDAB")
        self.assertEqual(rows["Target"].codec.encode(1.5), b"\x00\x0f")
        self.assertEqual([rows[name].is_written for name in ("Wind (2)", "Target", "Flag", "Lamp")], [0, 1, 0, 1])

    def test_a_unit_id_that_has_no_device_gets_one_and_its_values_can_be_taken_out(self) -> None:
        self.opened_door.edit(assign_run(self.bridge, 60, "Mast/*", "holding 0")).result(60)
        self.assertEqual(list(self.composed(60)), ["Wind", "Target", "Flag", "Lamp"])
        self.opened_door.edit(delete_row(self.bridge, 60, "Target")).result(60)
        self.assertEqual(list(self.composed(60)), ["Wind", "Flag", "Lamp"])

    def test_what_cannot_be_is_refused_in_one_sentence_and_nothing_is_changed(self) -> None:
        self.assertIn(
            "Wind would stand at holding 40102, where Wind stands", self.refused("Winch/Wind", "holding 40102")
        )
        self.assertIn("unit ID 9 of Room has a route already", self.refused("Mast/Wind", "holding 0", 9))
        self.assertIn("coil has bits only", self.refused("Mast/Wind", "coil 1"))
        self.assertIn("behind the last register", self.refused("Mast/Wind", "holding 465536"))
        for text, why in (
            ("Mats/Wind", "did you mean 'Mast'"), ("Mast", "write Device/Point"), ("Mast/Wnd", "did you mean 'Wind'"),
            ("Mast/Flag..Wind", "stands before"), (" ; ", "no point is named"),
        ):  # fmt: skip
            with self.subTest(text), self.assertRaisesRegex(ValueError, why):
                points_named(load_whole(self.path).site, text)

    def test_a_renamed_point_is_followed_everywhere(self) -> None:
        self.opened_door.edit(change_points("Mast", ["Wind"], {"name": "Wind speed"})).result(60)
        site = load_whole(self.path).site
        self.assertEqual({row.point for row in self.composed().values() if row.device}, {"Wind speed"})
        formulas = {derived.name: derived.formula for derived in (*site.derived, *site.composing)}
        self.assertEqual(formulas["Both"], "[Mast/Wind speed] + [Winch/Wind speed]")
        self.assertIn("2 * [Mast/Wind speed]", formulas.values())
        self.assertIn("[Mast/Wind speed] > 2", formulas.values())
        self.assertEqual((site.bridges[0].passes[0].device, site.bridges[0].passes[0].point), ("Mast", "Wind speed"))
        self.opened_door.undo().result(60)
        self.assertEqual((self.folder / "room.csv").read_text(), ROOM)
        self.assertEqual(self.path.read_text(), SITE)

    def test_a_renamed_device_is_followed_everywhere(self) -> None:
        self.opened_door.edit(change_device("Mast", {"name": "Weather mast"})).result(60)
        site = load_whole(self.path).site
        self.assertEqual({row.device for row in self.composed().values() if row.device}, {"Weather mast"})
        self.assertIn("2 * [Weather mast/Wind]", [derived.formula for derived in site.composing])
        self.assertEqual(site.bridges[0].passes[0].device, "Weather mast")
        self.assertEqual(self.composed()["Double"].sources, ("Weather mast",))

    def test_a_removed_point_is_told_and_its_register_stays(self) -> None:
        self.path.write_text(SITE.split("[[bridge.pass]]")[0].replace("[Mast/Wind] + ", ""))
        (self.folder / "room.csv").write_text(ROOM.splitlines()[0] + "\nLow,holding,40101,int16,r,Mast/Target\n")
        door = self.door(load_whole(self.path), self.path)
        door.edit(delete_points("Mast", ["Target"])).result(60)
        loaded = load_whole(self.path)
        texts = [str(warning) for warning in loaded.warnings if "answered 0B" in str(warning)]
        self.assertEqual(len(texts), 1)
        self.assertIn("'Mast/Target' is no point of this site", texts[0])
        self.assertEqual(self.composed()["Low"].point, "Target")
