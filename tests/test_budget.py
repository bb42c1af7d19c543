"""The tasks whose keys are counted, from an empty start unless a task says more: what is typed as a fact (a link, a
number, a file) counts nothing, every other key one, unlocking too. `python -m unittest tests.test_budget` prints the
counts."""

import re
import sys
import tempfile
import time
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from tests.terminal import KANALETO, Terminal
from tests.test_bench import free_port
from tests.test_find_screen import Keys, Served, start, tcp_site

_FAR = "name,table,address,type,order,access,initial\nFlow,holding,9,float32,ABCD,,2.5\nPump,coil,0,bool,,rw,\n"
_FLOW = "name,table,address,type,order,unit\nFlow,holding,9,float32,CDAB,m³/h\n"
_READ_S = 1.5  # what a key confirms must have been readable before


class Budget(unittest.TestCase):
    counts: dict[str, tuple[int, int]] = {}

    @classmethod
    def tearDownClass(cls) -> None:
        for what, (count, most) in sorted(cls.counts.items()):
            sys.stderr.write(f"{count} of {most} keys: {what}\n")

    def within(self, what: str, keys: Keys, most: int) -> None:
        self.counts[what] = keys.count, most
        self.assertLessEqual(keys.count, most, what)

    @contextmanager
    def opened(self, points: str, until: str) -> Iterator[tuple[Terminal, Keys]]:
        """A far end, and the application on a site that polls it, the cursor on the first point."""
        port = free_port()
        far = Served(tcp_site(port))
        (far.folder / "map.csv").write_text(_FAR)
        (far.folder / "mine.csv").write_text(points)
        mine = tcp_site(port).replace("map.csv", "mine.csv").partition('[[line.device]]\nname = "D41"')[0]
        (far.folder / "mine.toml").write_text(mine)
        with far, Terminal() as terminal:
            terminal.run(f"{KANALETO} {far.folder}/mine.toml")
            terminal.wait_for(until)
            time.sleep(4)  # what sends or unlocks counts only once everything is there
            yield terminal, Keys(terminal)
            terminal.type("C-q", "C-q")

    def test_the_first_value_of_a_holding_register(self) -> None:
        port = free_port()
        with Served(tcp_site(port)), Terminal() as terminal:
            start(terminal)
            keys = Keys(terminal)
            keys.fact(f"127.0.0.1:{port}")
            keys.press("Enter")
            keys.fact("2")
            keys.press("Tab", "Tab")
            keys.fact("7")
            keys.press("Enter")
            terminal.wait_for(r"7 +40008 +04D2 +1234")
            self.within("first value of one holding register from a TCP device", keys, 6)
            terminal.type("C-q", "C-q")

    def test_the_order_of_a_float(self) -> None:
        with self.opened(_FLOW, "Flow +[0-9]") as (terminal, keys):
            terminal.type("2")
            terminal.wait_for("OTHER READINGS")
            keys.press("d")
            terminal.wait_for("the display for Flow says")
            keys.fact("2.5")
            keys.press("Enter")
            terminal.wait_for("only float32 ABCD")
            keys.press("b")
            terminal.wait_for(r"2\.5 m³/h")
            self.within("find the order of a float whose display reads 2.5", keys, 3)

    def test_a_map_of_a_hundred_points(self) -> None:
        port = free_port()
        with Served(tcp_site(port)) as served, Terminal() as terminal:
            rows = "".join(f"Reserve {number};{number};U16;;\n" for number in range(100, 198))
            table = served.folder / "manual.csv"
            table.write_text("Bezeichnung;Adresse;Datentyp;Faktor;Einheit\nNull;0;U16;;\nStrom;7;INT16;0,1;A\n" + rows)
            start(terminal)
            keys = Keys(terminal)
            keys.fact(f"127.0.0.1:{port}")
            keys.press("Enter")
            keys.fact("2")
            keys.press("i")
            terminal.wait_for("import a table for unit 2")
            keys.fact(str(table))
            keys.press("Enter")
            terminal.wait_for("100 points, 0 doubts")
            keys.press("Enter")
            terminal.wait_for(r"Strom +int16 ×0\.1 +123\.4 A")
            self.within("import a map of 100 points and see them polled", keys, 5)
            terminal.type("C-q", "C-q")

    def test_a_coil_on_and_off(self) -> None:
        with self.opened("name,table,address,type,access\nPump,coil,0,bool,rw\n", r"Pump +0\b") as (_, keys):
            keys.confirm("u", "writing is unlocked")
            keys.confirm("w", "becomes (1|on)")
            time.sleep(_READ_S)
            keys.confirm("Enter", "written, read back, equal")
            time.sleep(_READ_S)
            keys.confirm("Enter", "the way back stands above")
            self.within("switch a coil on and off again", keys, 4)

    def test_the_units_of_a_line_whose_settings_nobody_knows(self) -> None:
        with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder:
            port = Path(folder) / "port"
            device = '[[line.device]]\nname = "D2"\nunit_id = 2\nmap = "map.csv"\n'
            far = f'[site]\nname = "Far"\n[[line]]\nname = "L"\nlink = "rtu://{port}?baud=57600&parity=even"\n{device}'
            with Served(far), Terminal() as terminal:
                start(terminal)
                keys = Keys(terminal)
                keys.fact(str(port))
                keys.press("Enter", "t")
                terminal.wait_for("unit 2 answered after .* check bytes right")
                keys.press("g")
                terminal.wait_for("247 of 247 asked · 1 found")
                self.within("find the units on a serial line whose settings nobody knows", keys, 4)
                terminal.type("C-q", "C-q")

    def test_a_map_stands_in_as_a_device(self) -> None:
        with self.opened(_FLOW, "Flow +[0-9]") as (terminal, keys):
            keys.press("2", "B")
            terminal.wait_for("stands in at")
            self.within("serve a device's map as a simulated device", keys, 3)

    def test_the_bytes_of_what_failed_last(self) -> None:
        with self.opened("name,table,address,type\nGone,holding,900,uint16\n", "illegal data address") as (
            terminal,
            keys,
        ):
            keys.press("4", "e")
            terminal.wait_until(lambda text: re.search(r"│ +83 +│ +│ +02 +│", text), "the bytes of the refusal")
            self.within("see the bytes of the last exchange that failed", keys, 2)


if __name__ == "__main__":
    unittest.main()
