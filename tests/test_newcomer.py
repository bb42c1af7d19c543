"""Tasks of somebody who reads no manual, by keys in a real terminal: devices, imports, what is off or overwritten."""

import json
import unittest
from pathlib import Path

from tests.terminal import KANALETO, Terminal
from tests.test_bench import free_port
from tests.test_find_screen import Served, tcp_site

MANUAL = (
    "Bezeichnung;Registeradresse;Registerart;Datentyp;Bemerkung\n"
    "Druck;8;Halteregister;int16;am Kessel\nTemperatur;9;Halteregister;seltsam;\nPumpe;3;Spule;;\n"
)


class Newcomer(unittest.TestCase):
    def at_work(self, terminal: Terminal, served: Served, port: int) -> Path:
        """The application on a site of one's own."""
        site = Path(served.folder) / "mine.toml"
        site.write_text(tcp_site(port).replace("Far", "Mine").replace("map.csv", "own.csv"))
        (site.parent / "own.csv").write_text("name,table,address\nFirst,holding,7\n")
        (site.parent / "manual.csv").write_text(MANUAL)
        terminal.run(f"{KANALETO} {site}")
        terminal.wait_for("2 devices, 2 points")
        return site

    def test_devices(self) -> None:
        port = free_port()
        with Served(tcp_site(port)) as served, Terminal() as terminal:
            site = self.at_work(terminal, served, port)
            terminal.type("2", "Tab")
            terminal.wait_for("SETTINGS")
            terminal.wait_for("own.csv, its own")
            terminal.type("c")
            terminal.wait_for("settings of D2 +name=D2 unit_id=2 line=L map=own.csv")
            terminal.write("name='Feed pump' period_s=0.5 max_gap=ten")  # added to what stands there
            terminal.type("Enter")
            terminal.wait_for("max_gap 'ten' must be a whole number")
            terminal.type("BSpace", "BSpace", "BSpace", "4", "Enter")
            terminal.wait_for("rename D2 to Feed pump")
            terminal.wait_for("max_gap +4, its own")
            self.assertIn("max_gap = 4", site.read_text())
            self.assertIn('map = "own.csv"', site.read_text())
            terminal.type("c")
            terminal.wait_for("settings of Feed pump")
            terminal.write("map= retries=2")
            terminal.type("Enter")
            terminal.wait_for("this takes map of Feed pump away, and its 1 point: enter again does it")
            self.assertIn('map = "own.csv"', site.read_text())
            terminal.type("Escape")
            terminal.type("C")
            terminal.wait_for("copy Feed pump, with its map: unit ID, name +3")
            terminal.write("41, Twin")
            terminal.type("Enter")
            terminal.wait_for("Twin")
            terminal.type("Home", "DC")
            terminal.wait_for("take Feed pump and its point out of the site")
            terminal.type("n", "Enter")
            terminal.wait_for("Feed pump was left")
            terminal.type("DC", "y", "Enter")
            terminal.wait_for("delete Feed pump; ctrl.z takes it back")
            self.assertNotIn("Feed pump", site.read_text())
            terminal.type("C-z")
            terminal.wait_for("undone: delete Feed pump")
            self.assertIn("Feed pump", site.read_text())
            terminal.type("C-q")

    def test_an_import_that_is_left_leaves_nothing(self) -> None:
        port = free_port()
        with Served(tcp_site(port)) as served, Terminal() as terminal:
            site = self.at_work(terminal, served, port)
            before = {path.name: path.read_bytes() for path in site.parent.glob("*.*") if path.is_file()}
            terminal.type("2", "i")
            terminal.write(f"{site.parent}/manual.csv")
            terminal.type("Enter")
            terminal.wait_for("Import manual.csv +3 points, 1 doubt")
            terminal.type("f")
            terminal.wait_for("address +is Registeradresse now")
            terminal.type("Down", "Enter")  # the name's column as the address: a clash
            terminal.wait_for("so is Registeradresse")
            terminal.type("Enter")
            terminal.wait_for("are both to be the address")
            terminal.type("g")
            terminal.wait_for("Import manual.csv +3 points, 1 doubt")
            terminal.type("x", "Escape")
            terminal.wait_for("First")
            after = {path.name: path.read_bytes() for path in site.parent.glob("*.*") if path.is_file()}
            self.assertEqual(after, before)
            self.assertEqual(list(terminal.folder.rglob("headings.json")), [])
            terminal.type("i")
            terminal.write(f"{site.parent}/manual.csv")
            terminal.type("Enter")
            terminal.wait_for("Import manual.csv +3 points, 1 doubt")
            terminal.type("Enter")
            terminal.wait_for("3 points taken over")
            terminal.wait_for("Druck")
            terminal.type("x")
            terminal.write(f"{site.parent}/out.json")
            terminal.type("Enter")
            terminal.wait_for("4 points written to")
            names = [point["name"] for point in json.loads((site.parent / "out.json").read_text())["points"]]
            self.assertEqual(names, ["First", "Druck", "Temperatur", "Pumpe"])
            terminal.type("x")
            terminal.write(f"{site.parent}/manual.csv")
            terminal.type("Enter")
            terminal.wait_for("manual.csv is there already: overwrite it")
            terminal.type("n", "Enter")
            terminal.wait_for("left as it is")
            self.assertEqual((site.parent / "manual.csv").read_text(), MANUAL)
            terminal.type("i")
            terminal.write(f"{site.parent}/out.json")
            terminal.type("Enter")
            terminal.wait_for("0 points, 0 doubts · 4 of names that are there already: left as they are")
            terminal.type("m")
            terminal.wait_for("4 points, 0 doubts · 4 of names that are there already: replaced")
            terminal.type("Escape", "C-q")

    def test_what_is_off_says_so(self) -> None:
        port = free_port()
        with Served(tcp_site(port)) as served, Terminal() as terminal:
            self.at_work(terminal, served, port)
            terminal.type("C-p")
            terminal.write("switch d2 off")
            terminal.wait_for("Switch D2 off +all, for now")
            terminal.type("Enter")
            terminal.wait_for("1 device off")
            terminal.wait_for("switched off, for now: enabled=no in its settings keeps it so")
            terminal.wait_for("all others answering · 1 off")
            terminal.type("C-p")
            terminal.write("switch d2")
            screen = terminal.wait_for("Switch D2 on")
            self.assertNotIn("Switch D2 off", screen)
            terminal.type("Enter")
            terminal.wait_until(lambda text: "device off" not in text and "all answering" in text, "it is on again")
            terminal.type("/")
            terminal.write("2 nothing like it")
            terminal.wait_for("a filter is on, and nothing has '2 nothing like it': escape clears it")
            terminal.type("Escape", "C-q")
