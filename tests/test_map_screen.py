"""Map in a real terminal: the order of a float from what the display says, a map imported and polled, edits and
undo."""

import re
import unittest

from tests.terminal import KANALETO, Terminal
from tests.test_bench import free_port
from tests.test_find_screen import Keys, Served, start, tcp_site


class Finding(unittest.TestCase):
    def test_the_order_of_a_float_takes_three_keys_and_the_number(self) -> None:
        port = free_port()
        with Served(tcp_site(port)) as served, Terminal() as terminal:
            (served.folder / "mine.csv").write_text(
                "name,table,address,type,order,unit\nFlow,holding,9,float32,CDAB,m³/h\n"
            )
            mine = tcp_site(port).replace("map.csv", "mine.csv").partition('[[line.device]]\nname = "D41"')[0]
            (served.folder / "mine.toml").write_text(mine)
            terminal.run(f"{KANALETO} {served.folder}/mine.toml")
            terminal.wait_for("Flow")
            terminal.type("2")
            terminal.wait_for("OTHER READINGS")
            keys = Keys(terminal)
            keys.press("d")
            terminal.wait_for("the display for Flow says")
            keys.fact("2.5")
            keys.press("Enter")
            terminal.wait_for("float32 ABCD agrees|only float32 ABCD")
            keys.press("b")
            terminal.wait_for(r"2\.5 m³/h")
            self.assertLessEqual(keys.count, 3)
            self.assertIn("float32,ABCD", (served.folder / "mine.csv").read_text())
            terminal.type("C-z")
            terminal.wait_for("undone: read Flow as float32 ABCD")
            self.assertIn("float32,CDAB", (served.folder / "mine.csv").read_text())
            terminal.type("z")
            terminal.wait_for("OFF BY ONE")
            terminal.wait_for("illegal data address")
            terminal.type("q")

    def test_a_map_of_a_hundred_points_is_imported_and_polled_in_five_keys(self) -> None:
        port = free_port()
        with Served(tcp_site(port)) as served, Terminal() as terminal:
            rows = "".join(f"Strom {number};{number};INT16;0,1;A\n" for number in range(7, 10))
            rows += "".join(f"Reserve {number};{number};U16;;\n" for number in range(100, 197))
            table = served.folder / "manual.csv"
            table.write_text("Bezeichnung;Adresse;Datentyp;Faktor;Einheit\nNull;0;U16;;\n" + rows)
            start(terminal)
            keys = Keys(terminal)
            keys.fact(f"127.0.0.1:{port}")
            keys.press("Enter")
            keys.fact("2")
            keys.press("i")
            terminal.wait_for("import a table for unit 2")
            keys.fact(str(table))
            keys.press("Enter")
            terminal.wait_for("101 points, 0 doubts")
            keys.press("Enter")
            terminal.wait_for(r"Strom 7 +int16 ×0\.1 +123\.4 A", 30)
            self.assertLessEqual(keys.count, 5)
            screen = terminal.screen
            self.assertRegex(screen, "101 points on 1 line")

            terminal.type("/", "S", "t", "r", "o", "m", "Enter")
            terminal.wait_until(lambda text: "Reserve" not in text, "the filter")
            terminal.type("c")
            terminal.wait_for("change Strom 7")
            terminal.type("Space", *"unit=kW", "Enter")
            terminal.wait_for(r"123\.4 kW")
            terminal.type("v", "v", "c")
            terminal.wait_for("change all 2 marked")
            terminal.type(*"decimals=3", "Enter")
            terminal.wait_for(r"123\.400 kW")
            terminal.type("Escape")
            terminal.type("a")
            terminal.wait_for("new for Unit 2")
            terminal.type(*"Strom X {1..3}, 8, uint16", "Enter")
            terminal.wait_for("Strom X 3")
            terminal.wait_for("104 points")
            terminal.type("C-z")
            terminal.wait_for("101 points")
            terminal.type("a")
            terminal.wait_for("new for Unit 2")
            terminal.type(*"Strom 7, 8", "Enter")
            terminal.wait_for("✕ .*has this name already")
            terminal.wait_for("new for Unit 2.*Strom 7, 8")  # to be corrected
            terminal.type("Escape", "y")
            terminal.wait_for("rows copied to the clipboard")
            terminal.type("F")
            terminal.wait_for("scale of Strom")
            terminal.type("C-u")
            terminal.wait_until(lambda text: "16416=" not in text and "1234=" not in text, "an empty line")
            terminal.type(*"4-20mA", "Enter")
            terminal.wait_for("raw ranges that fit now: ")
            terminal.wait_for(r"then engineering\) +4-20mA")  # to be corrected
            terminal.type("Escape")
            terminal.wait_until(lambda text: "scale of Strom" not in text, "the line to be left")
            terminal.type("F")
            terminal.wait_for("scale of Strom")
            terminal.type("C-u")
            terminal.wait_until(lambda text: "16416=" not in text and "1234=" not in text, "an empty line")
            terminal.type(*"4-20mA 0-4000 0-100", "Enter")
            terminal.wait_for("4–20 mA, between 0 … 100|fault of the loop")
            terminal.paste("name\taddress\nPasted\t9\n")
            terminal.wait_for("Import clipboard")
            terminal.wait_for("1 point, 0 doubts")
            terminal.type("Enter")
            terminal.wait_for("102 points")
            terminal.type("x")
            terminal.wait_for("export the map of Unit 2")
            terminal.type(*"pumps", "Enter")
            terminal.wait_for("102 points written to .*pumps.csv")
            terminal.type("q")

    def test_smaller_terminals_and_a_long_map(self) -> None:
        port = free_port()
        with Served(tcp_site(port)) as served, Terminal((80, 24)) as terminal:
            rows = "".join(
                f"Point {number} with a rather long name of its own,holding,{number}\n" for number in range(5000)
            )
            (served.folder / "map.csv").write_text("name,table,address\n" + rows)
            terminal.run(f"{KANALETO} {served.site}")
            terminal.wait_for("10000 points|Point 0", 60)
            terminal.type("2")
            terminal.wait_for(r"0 +0000 .*Point 0 with")
            terminal.type("End")
            terminal.wait_for(r"4999 +1387 .*Point 4999")
            terminal.type("Home", "Enter")
            terminal.wait_for("1 word at 0")
            terminal.type("Escape")
            terminal.wait_for(r"0 +0000 .*Point 0 with")
            terminal.type("h")
            terminal.wait_for("D41")
            self.assertTrue(re.search(r"D2", terminal.screen))
            terminal.type("q")
