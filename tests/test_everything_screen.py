"""Find everything in a real terminal: one key on a place, as commands, and which one is it; over served devices that
are stopped in the middle."""

import json
import os
import signal
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import Any

from kanaleto.files.loading import load_site
from kanaleto.site.links.serial import SerialLink
from tests.commanded import run
from tests.terminal import KANALETO, Terminal
from tests.test_bench import free_port
from tests.test_find_screen import Served, start, tcp_site


def command(*words: str, code: int | None = 0) -> tuple[str, str]:
    """What it says on stdout and stderr; any exit code will do where that is None."""
    came, out, err = run(*words, within_s=300)
    if code is not None and came != code:
        raise AssertionError(f"exit code {came}, not {code}:\n{out}{err}")
    return out, err


class OneKey(unittest.TestCase):
    def test_a_line_becomes_a_site_by_one_key_and_the_one_unplugged_is_known(self) -> None:
        port = free_port()
        with Served(tcp_site(port)) as served, Terminal() as terminal:
            start(terminal)
            terminal.wait_for("Asking only reads; yet some devices clear a counter")
            terminal.type(*f"127.0.0.1:{port}", "Enter")
            terminal.wait_for("every")
            terminal.type("Escape")
            terminal.wait_for("f finds everything")
            terminal.type("f")
            terminal.wait_for("Everything +(asking units|looking for registers)")
            terminal.wait_for("unit 2 +4 addresses")
            terminal.type("f")
            terminal.wait_for("is under way; escape stops it")
            served.signal(signal.SIGSTOP)
            terminal.resize(100, 30)
            terminal.resize(160, 47)
            served.signal(signal.SIGCONT)
            terminal.wait_for("unit 41 +4 addresses")
            terminal.type("q")
            terminal.wait_for("escape keeps what was found so far")
            terminal.type("Escape")
            terminal.wait_for("added 2 units with 6 points")
            terminal.wait_for("2 devices, 6 points on 1 line")
            terminal.type("d")
            terminal.wait_for("2 of 2 answer")
            served.signal(signal.SIGSTOP)
            terminal.wait_for("0 of 2 answer")
            terminal.wait_for("does not answer, for|the line itself")
            served.signal(signal.SIGCONT)
            terminal.wait_for("2 of 2 answer")
            terminal.type("Escape", "C-z")
            terminal.wait_for("0 devices, 0 points")
            terminal.type("q")

    def test_at_a_terminal_the_command_waits_for_a_key(self) -> None:
        port = free_port()
        with (
            Served(tcp_site(port)),
            Terminal() as terminal,
            tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder,
        ):
            terminal.run(
                f"{KANALETO} find tcp://127.0.0.1:{port} --everything --out {folder}/found --within 15 --pace 0;"
                " echo over"
            )
            terminal.wait_for("enter begins, ctrl")
            self.assertFalse((Path(folder) / "found").exists())
            terminal.type("Enter")
            terminal.wait_for("2 units and 6 points in")
            self.assertTrue((Path(folder) / "found" / "unit-41.csv").exists())


class Commands(unittest.TestCase):
    def test_everything_within_a_time_stopped_gone_on_with_and_refused(self) -> None:
        port = free_port()
        link = f"tcp://127.0.0.1:{port}"
        with Served(tcp_site(port)), tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder:
            out = Path(folder) / "found"
            process = subprocess.Popen(
                [sys.executable, "-m", "kanaleto", "find", link, "--everything", "--out", str(out), "--pace", "0"],
                stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
            )  # fmt: skip
            with self.assertRaises(subprocess.TimeoutExpired):
                process.communicate(timeout=6)
            process.send_signal(signal.SIGINT)
            told = process.communicate(timeout=60)
            self.assertEqual(process.returncode, 0, told)
            self.assertIn("stopped; what was found so far is written", told[1])
            _, faults = load_site(out / "site.toml")
            self.assertFalse([fault for fault in faults if not fault.is_warning])

            self.assertIn("--resume goes on", command("find", link, "--everything", "--out", str(out), code=2)[1])
            told_json: list[dict[str, Any]] = []
            for _ in range(8):  # a busy machine takes longer, and goes on where it stopped
                words = ("--everything", "--out", str(out), "--resume", "--within", "5", "--json", "--pace", "0")
                lines, _ = command("find", *words, code=None)
                told_json = [json.loads(line) for line in lines.splitlines()]
                if told_json[-1]["points"] == 6:
                    break
            self.assertEqual([one["unit_id"] for one in told_json[:-1]], [2, 41])
            self.assertEqual((told_json[-1]["units"], told_json[-1]["points"]), (2, 6))
            site, _ = load_site(out / "site.toml")
            types = {point.name: str(point.codec.type) for _, device in site.devices() for point in device.points}
            self.assertEqual(types, {"Holding 7": "uint16", "Holding 8": "uint16", "Holding 9": "float32"})
            self.assertEqual(command("check", str(out / "site.toml"))[1], "")

    def test_a_serial_line_of_which_nobody_knows_the_settings(self) -> None:
        """On a pseudo-terminal that keeps the pace of its wire."""
        with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder:
            port = Path(folder) / "port"
            devices = "".join(
                f'[[line.device]]\nname = "D{unit}"\nunit_id = {unit}\nmap = "map.csv"\n' for unit in (114, 203)
            )
            site = f'[site]\nname = "Far"\n[[line]]\nname = "L"\nlink = "rtu://{port}?baud=38400"\n{devices}'
            out = Path(folder) / "found"
            wanted = {unit: [(7, "uint16"), (8, "uint16"), (9, "float32")] for unit in (114, 203)}
            points: dict[int, list[tuple[int, str]]] = {}
            with Served(site):
                for number in range(8):  # a busy machine takes longer, and goes on where it stopped
                    words = ("--resume",) if number else (f"rtu://{port}",)
                    command("find", "--everything", "--out", str(out), "--within", "30", "--yes", *words, code=None)
                    found, _ = load_site(out / "site.toml")
                    points = {
                        device.unit_id: [(point.address, str(point.codec.type)) for point in device.points]
                        for _, device in found.devices()
                    }
                    if points == wanted:
                        break
            self.assertEqual(points, wanted)
            link = found.lines[0].link
            assert isinstance(link, SerialLink)
            self.assertEqual(link.settings.baud, 38400)

    def test_what_cannot_be_is_told_in_a_sentence(self) -> None:
        with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder:
            out = str(Path(folder) / "found")
            for words, code, reason in (
                (("tcp://127.0.0.1:9", "--everything"), 2, "needs --out FOLDER"),
                (("--everything", "--out", out), 2, "name a LINK to look at"),
                (("tcp://127.0.0.1:9", "--everything", "--out", out, "--unit", "3"), 2, "--unit does not go with"),
                (("tcp://127.0.0.1:9", "--everything", "--out", out, "--ports"), 2, "different places to look at"),
                (("tcp://127.0.0.1:9", "--everything", "--out", out, "--within", "3"), 1, "refused the connection"),
                (("rtu:///no/such/port", "--everything", "--out", out, "--within", "3"), 1, "no port|no such"),
                (("--everything", "--out", out, "--resume"), 2, "holds no search to go on with"),
                (("tcp://127.0.0.1:9", "--out", out), 2, "--out goes with --everything only"),
                (("tcp://127.0.0.1:9", "--registers", "--resume"), 2, "--resume needs a FILE"),
                (("tcp://127.0.0.1:9", "--everything", "--out", out, "--within", "0"), 2, "--within"),
            ):
                with self.subTest(words):
                    self.assertRegex(command("find", *words, code=code)[1], reason)
            self.assertFalse(os.path.exists(out))


if __name__ == "__main__":
    unittest.main()
