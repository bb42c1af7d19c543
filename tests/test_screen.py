"""The application in a real terminal: the demo from start to end, small terminals, dead lines, an empty site."""

import re
import signal
import tempfile
import time
import unittest
from pathlib import Path

from tests.terminal import KANALETO, Terminal
from tests.test_bench import free_port


def level(screen: str) -> str | None:
    """The value of the first pool level on Live."""
    found = re.search(r"^ . . ?Pool level +(\d+\.\d+)|^ +Pool level +(\d+\.\d+)", screen, re.MULTILINE)
    return (found[1] or found[2]) if found else None


class DemoOnScreen(unittest.TestCase):
    def test_from_start_to_end(self) -> None:
        with Terminal() as terminal:
            terminal.run("clear; echo 'kept as it was'; stty -a | cksum")
            before = terminal.wait_for(r"kept as it was\n\d+ \d+")
            terminal.run(f"{KANALETO} demo")
            screen = terminal.wait_until(
                lambda text: text.count("% busy") == 3 and level(text), "three lanes and a level", 60
            )
            for line in ("East line", "West line", "Cabinet"):
                self.assertRegex(screen, rf"(?m)^ {line} .*% busy.*/s")
            first = level(screen)
            terminal.wait_until(lambda text: level(text) not in (None, first), "another level")

            terminal.type("Enter")
            self.assertIn("FROM THE WIRE TO THE VALUE", terminal.wait_for("period asked"))
            terminal.type("Escape")
            terminal.wait_until(lambda text: "FROM THE WIRE" not in text, "the closed point")
            terminal.type("p")
            terminal.wait_for("PINNED")
            terminal.type("/", "w", "i", "n", "c", "h", "Enter")
            screen = terminal.wait_until(
                lambda text: "Crane winch" in text and "Upper sluice" not in text, "only the winch"
            )
            terminal.type("Escape")

            terminal.type("4")
            terminal.wait_for(r"read \d+ holding from 4\d{4}")
            terminal.wait_for(r"REQUEST .* bytes")
            terminal.type("n")
            terminal.wait_for(r"read \d+ holding from 101 ")
            terminal.type("k")
            terminal.wait_for(r"\d+ more · f follows")
            terminal.type("f")
            terminal.wait_until(lambda text: "f follows" not in text, "following again")
            terminal.type("?")
            terminal.wait_for("EVERYWHERE")
            terminal.type("Escape")
            terminal.wait_for("REQUEST")
            terminal.type("Space")
            terminal.wait_for("holding polling lets the watchdog of .* press space again")
            terminal.type("Space")
            terminal.wait_for("polling held")
            terminal.type("Space")
            terminal.wait_for("● polling")

            terminal.type("3")
            terminal.wait_for("Pool level")
            terminal.type("C-p", "o", "n", "e", "Space", "c", "y")
            terminal.wait_for("ask every block once")
            terminal.type("Escape", "q")
            terminal.wait_for("quitting lets the watchdog of .* press q again")
            terminal.type("q")
            screen = terminal.wait_until(
                lambda text: "% busy" not in text and "kept as it was" in text, "the terminal as it was"
            )
            terminal.run("stty -a | cksum")
            sum_line = re.compile(r"(?m)\b\d{5,} \d+$")
            sums = sum_line.findall(terminal.wait_until(lambda text: len(sum_line.findall(text)) == 2, "two sums"))
            self.assertEqual(sums[0], sums[1])
            self.assertIn(sums[0], before)

    def test_smaller_terminals_show_the_main_thing(self) -> None:
        for size in ((100, 30), (80, 24)):
            with self.subTest(size=size), Terminal(size) as terminal:
                terminal.run(f"{KANALETO} demo")
                screen = terminal.wait_until(
                    lambda text: text.count(" %") >= 3 and level(text), "lanes and a level", 60
                )
                self.assertIn("East line", screen)
                terminal.type("4")
                terminal.wait_for(r"read \d+ \w+ from")
                terminal.wait_for("REQUEST")
                terminal.type("q", "q")
                terminal.wait_until(lambda text: "from" not in text, "the end")

    def test_a_terminal_too_small_gets_one_sentence(self) -> None:
        with Terminal((40, 10)) as terminal:
            terminal.run(f"{KANALETO} demo; echo code $?")
            screen = terminal.wait_for(r"code \d")
            self.assertRegex(screen.replace("\n", ""), r"this terminal is 40×10; the application needs at least 60×16")
            self.assertIn("code 2", screen)


class SitesOnScreen(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def _site(self, text: str, points: str = "Level,holding,0\n") -> Path:
        (self.folder / "map.csv").write_text("name,table,address\n" + points)
        path = self.folder / "site.toml"
        path.write_text('[site]\nname = "Mine"\n' + text)
        return path

    def test_an_empty_site(self) -> None:
        with Terminal() as terminal:
            terminal.run(f"{KANALETO} {self._site('')}")
            terminal.wait_for("Get an answer at all")
            terminal.type("Escape", "3")
            terminal.wait_for("this site has no points yet")
            terminal.wait_for("this site has no lines yet")
            terminal.type("4")
            terminal.wait_for("no exchange yet")
            terminal.type("q")
            terminal.wait_until(lambda text: "Wire" not in text, "the end")

    def test_dead_lines_say_why(self) -> None:
        device = '[[line.device]]\nname = "{0}"\nunit_id = 1\nmap = "map.csv"\n'
        text = f'[[line]]\nname = "Net"\nlink = "tcp://127.0.0.1:{free_port()}"\n{device.format("A")}'
        text += f'[[line]]\nname = "Wires"\nlink = "rtu://nothing/here"\n{device.format("B")}'
        rows = "".join(
            f"Number {number} of a rather long list of points with long names,holding,{number}\n"
            for number in range(2000)
        )
        with Terminal() as terminal:
            terminal.run(f"{KANALETO} {self._site(text, rows)}")
            for told in ("refused the connection", "there is no port", "4000 points"):
                terminal.wait_for(told)
            terminal.type("End")
            terminal.wait_for("Number 1999 of a rather long list")
            terminal.type("q")
            terminal.wait_until(lambda text: "Live" not in text, "the end")

    def test_the_wheel_moves_a_list_and_the_cursor_stays_in_sight(self) -> None:
        text = f'[[line]]\nname = "Net"\nlink = "tcp://127.0.0.1:{free_port()}"\n'
        text += '[[line.device]]\nname = "A"\nunit_id = 1\nmap = "map.csv"\n'
        rows = "".join(f"N{number},holding,{number}\n" for number in range(90))
        with Terminal((100, 24)) as terminal:
            terminal.run(f"{KANALETO} {self._site(text, rows)}")
            terminal.wait_for(r"N0 ")
            for _ in range(3):
                terminal.roll(True, 20, 5)
            terminal.wait_until(lambda screen: "N20" in screen and "N5 " not in screen, "what stands below")
            terminal.type("Up")
            screen = terminal.wait_for(r"N7 ")
            self.assertNotRegex(screen, r"N0 ")  # the cursor had come along
            for _ in range(9):
                terminal.roll(False, 20, 5)
            terminal.wait_for(r"N0 ")
            terminal.type("q")
            terminal.wait_until(lambda text: "Live" not in text, "the end")

    def test_what_was_stopped_goes_on_and_the_end_is_the_end(self) -> None:
        path = self._site(f'[[line]]\nname = "Net"\nlink = "tcp://127.0.0.1:{free_port()}"\n')
        with Terminal((100, 24)) as terminal:
            terminal.run(f"{KANALETO} {path}")
            terminal.wait_for("no points yet")
            for number in (signal.SIGTSTP, signal.SIGSTOP):
                terminal.signal(number)
                terminal.wait_for("Stopped")
                terminal.type("fg", "C-j")  # nobody has put the terminal back for a process that was not told
                terminal.wait_until(lambda screen: "no points yet" in screen and "Stopped" not in screen, "the whole")
                terminal.type("4")
                terminal.wait_for("no connection")
                terminal.type("3")
                terminal.wait_for("no points yet")
            for _ in range(4):  # whoever was not stopped goes on
                terminal.signal(signal.SIGCONT)
            for _ in range(60):
                terminal.type("4")  # again: what is typed in the moment of waking is dropped
                time.sleep(1)
                if "no exchange yet" in terminal.screen:
                    break
            for turn in range(400):
                if "Wire" not in terminal.screen:
                    break
                if turn % 20 == 0:
                    terminal.type("q")
                terminal.signal(signal.SIGCONT)
                time.sleep(0.3)
            terminal.type("C-u")  # a key too many is the shell's
            for _ in range(5):
                terminal.signal(signal.SIGCONT)
                time.sleep(0.05)
            terminal.run("echo code $?")
            terminal.wait_for("code 0")
            self.assertFalse(list(terminal.folder.rglob("crash-*.txt")))

    def test_an_error_of_our_own_is_one_sentence_and_a_file(self) -> None:
        broken = self.folder / "broken.py"
        for patch in ("kanaleto.polling.line.LinePoller.run", "kanaleto.tui.frame.lanes.Lanes.draw_line"):
            module, name, method = patch.rsplit(".", 2)
            broken.write_text(
                f"import {module} as m\ndef fails(*a): raise RuntimeError('made to fail')\nm.{name}.{method} = fails\n"
                "from kanaleto.cli.main import run\nrun()\n"
            )
            site = self._site(f'[[line]]\nname = "Net"\nlink = "tcp://127.0.0.1:{free_port()}"\n')
            with self.subTest(patch=patch), Terminal((120, 30), {"XDG_STATE_HOME": str(self.folder)}) as terminal:
                terminal.run(f"{KANALETO.split()[0]} {broken} {site}; echo code $?")
                screen = terminal.wait_for(r"code \d").replace("\n", "")
                self.assertRegex(
                    screen, r"an error of its own, RuntimeError: made to fail; the details are in .*crash-.*code 1"
                )
                self.assertNotIn("Traceback", screen)
        self.assertTrue(list(self.folder.rglob("crash-*.txt")))
        self.assertTrue(list(self.folder.rglob("fault-*.txt")))  # of the line that began again before that

    def test_an_edited_site_is_taken_over_and_a_faulty_one_told(self) -> None:
        path = self._site(f'[[line]]\nname = "Net"\nlink = "tcp://127.0.0.1:{free_port()}"\n')
        with Terminal() as terminal:
            terminal.run(f"{KANALETO} {path}")
            terminal.wait_for("no points yet")
            text = path.read_text()
            path.write_text(text + '[[line.device]]\nname = "Meter"\nunit_id = 900\nmap = "map.csv"\n')
            terminal.wait_for("edited and not taken over: .*site.toml:8: unit_id = 900 must be at most 255")
            path.write_text(text + '[[line.device]]\nname = "Meter"\nunit_id = 9\nmap = "map.csv"\n')
            screen = terminal.wait_for(r"Meter +Net · unit 9")
            self.assertIn("Level", screen)
            terminal.type("q")
            terminal.wait_until(lambda text: "Wire" not in text, "the end")

    def test_a_faulty_site_is_told_without_a_screen(self) -> None:
        path = self._site('[[line]]\nname = "Net"\nlink = "tcp://"\n')
        with Terminal() as terminal:
            terminal.run(f"{KANALETO} {path}; echo code $?")
            screen = terminal.wait_for(r"code \d").replace("\n", "")
            self.assertRegex(screen, r"site\.toml:5: link 'tcp://' names no host.*code 2")
