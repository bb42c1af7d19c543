"""Find in a real terminal: from an empty start to a first value, to the units of an unknown line, to a site that is
kept."""

import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from tests.terminal import KANALETO, Terminal
from tests.test_bench import free_port

MAP = (
    "name,table,address,type,initial\nLevel,holding,7,uint16,1234\n"
    "Rate,holding,8,uint16,77\nFlow,holding,9,float32,2.5\n"
)


class Served:
    """A site that is served by a process of its own, as a context."""

    def __init__(self, site: str) -> None:
        self._folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.folder = Path(self._folder.name)
        (self.folder / "map.csv").write_text(MAP)
        self.site = self.folder / "far.toml"
        self.site.write_text(site)

    def __enter__(self) -> "Served":
        command = [sys.executable, "-m", "kanaleto", "serve", str(self.site)]
        self._process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
        assert self._process.stdout is not None
        assert self._process.stdout.readline().strip() == "ready"
        return self

    def signal(self, number: int) -> None:
        """To the process that serves."""
        self._process.send_signal(number)

    def __exit__(self, *arguments: object) -> None:
        self._process.terminate()
        self._process.wait(60)
        assert self._process.stdout is not None
        self._process.stdout.close()
        self._folder.cleanup()


def tcp_site(port: int) -> str:
    devices = "".join(f'[[line.device]]\nname = "D{unit}"\nunit_id = {unit}\nmap = "map.csv"\n' for unit in (2, 41))
    return f'[site]\nname = "Far"\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1:{port}"\n{devices}'


class Keys:
    """Types into a terminal and counts: facts are given, every other key is one."""

    def __init__(self, terminal: Terminal) -> None:
        self._terminal, self.count = terminal, 0

    def fact(self, text: str) -> None:
        self._terminal.type(*text)

    def press(self, *keys: str) -> None:
        self.count += len(keys)
        self._terminal.type(*keys)

    def confirm(self, key: str, pattern: str) -> None:
        """A key that counts only alone, and what comes of it."""
        self.count += 1
        self._terminal.press(key, pattern)


def start(terminal: Terminal) -> None:
    terminal.run(KANALETO)
    terminal.wait_for("Get an answer at all")
    terminal.wait_for("enter look there")


class FromNothing(unittest.TestCase):
    def test_the_first_value_of_a_tcp_device_takes_six_keys_at_most(self) -> None:
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
            terminal.wait_for(r"7 +40008 +04D2 +1234 +1234 +0000 0100 1101 0010")
            self.assertLessEqual(keys.count, 6)

            terminal.type("+", "+", "+")
            terminal.wait_for(r"8 +40009 +004D +77")
            terminal.type("]")
            terminal.wait_for("illegal data address")
            terminal.type("[")
            terminal.wait_for(r"8 +40009 +004D +77")
            terminal.type("v", "v", "a")
            terminal.wait_for("1 device, 2 points on 1 line")
            terminal.type("C-z")
            terminal.wait_for("0 devices, 0 points")
            terminal.type("C-y")
            terminal.wait_for("1 device, 2 points on 1 line")
            terminal.type("3")
            terminal.wait_for(r"Holding 7 +1 234")

            terminal.type("q")
            terminal.wait_until(lambda text: "% busy" not in text, "the end")
            start(terminal)
            terminal.wait_for("unsaved, ")
            terminal.type("Escape")
            terminal.wait_until(lambda text: "type a link" in text, "the list")
            terminal.type("End")
            terminal.wait_for("enter open")
            terminal.type("k", "Enter")  # the demo is the last, the unsaved site stands above it
            terminal.wait_for(r"Holding 7 +1 234")
            with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder:
                path = Path(folder) / "pump-house.toml"
                terminal.type("C-s")
                terminal.wait_for("save the site as")
                terminal.type("C-u")
                terminal.wait_until(
                    lambda text: "save the site as  ~/" not in text and "as ~/" not in text, "an empty line"
                )
                terminal.type(*str(path), "Enter")
                terminal.wait_for("saved as")
                self.assertIn("Pump house", path.read_text())
                self.assertEqual(len(list((Path(folder) / "maps").iterdir())), 1)
            terminal.type("q")

    def test_the_units_of_a_line_whose_settings_nobody_knows_take_four_keys_at_most(self) -> None:
        with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder:
            port = Path(folder) / "port"
            devices = "".join(
                f'[[line.device]]\nname = "D{unit}"\nunit_id = {unit}\nmap = "map.csv"\n' for unit in (2, 11)
            )
            site = (
                f'[site]\nname = "Far"\n[[line]]\nname = "L"\nlink = "rtu://{port}?baud=57600&parity=even"\n{devices}'
            )
            with Served(site), Terminal() as terminal:
                start(terminal)
                keys = Keys(terminal)
                keys.fact(str(port))
                keys.press("Enter", "t")
                screen = terminal.wait_for("unit 2 answered after .* check bytes right", 60)
                self.assertIn("57600 8E1", screen)
                keys.press("g")
                terminal.wait_for("247 of 247 asked · 2 found", 90)
                self.assertLessEqual(keys.count, 4)
                terminal.wait_for("unit 11")
                terminal.wait_for("says of itself: .*D11", 30)

                terminal.type("BTab", "Down", "e")
                terminal.wait_for("Registers of unit 2")
                terminal.wait_for("holding registers 7–10 read", 120)
                terminal.type("A")
                terminal.wait_for("1 device, 4 points on 1 line")
                terminal.type("Escape", "Escape", "3")
                terminal.wait_for(r"Holding 7 +1 234")
                terminal.type("q")

    def test_a_range_of_hosts_bad_links_and_a_port_that_is_not_there(self) -> None:
        port = free_port()
        with Served(tcp_site(port)), Terminal() as terminal:
            start(terminal)
            terminal.type(*"whatever is this", "Enter")
            terminal.wait_for("must read like 192.0.2.10-60")
            terminal.type(*f"127.0.0.1-3:{port}", "Enter")
            terminal.wait_for("1 answers, 2 refused")
            terminal.wait_for("this machine itself")
            terminal.type("y", *"/dev/no-such-port", "Enter", "t")
            terminal.wait_for("there is no port")
            terminal.type("y", *"tcp://127.0.0.1:9", "Enter", "Enter")
            terminal.wait_for("refused the connection")
            terminal.type("Escape", "q")

    def test_the_demo_opens_from_the_start_screen(self) -> None:
        with Terminal((100, 30)) as terminal:
            start(terminal)
            terminal.type("Escape")
            terminal.wait_until(lambda text: "enter look there" not in text, "the list to have the keys")
            terminal.type("End")
            terminal.wait_for("enter open")
            terminal.type("Enter")
            terminal.wait_for("Alder Lock", 60)
            terminal.wait_for("Pool level", 30)
            terminal.type("q", "q")
