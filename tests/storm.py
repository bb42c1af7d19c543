"""The application under an impatient technician: `python -m tests.storm [--seconds S] [--seed N]`, `make storm`.

A made-up site is served on loopback and opened in the real application in tmux. For some time keys are pressed, as
drawn from the seed: views, movement, edits and their undoing, prompts with sound and unsound text, filters, the
palette, resizing. Meanwhile somebody edits the site's files on disk, badly now and then, and the devices go away and
come back. At the end the application must be alive, quit when it is told to, have left no crash file, and the files
must be sound. The seed repeats what is pressed, not the instant.

Bursts go into everything that sends. Three lists are compared: what stood on the screen for 0.3 s, what the far end
heard, what the journal holds: a person's write was heard only where its bytes had been seen, and each has its row.
Now and then something inside is made to fail (a drill): the journal must tell each of it, and the rest goes on.
"""

import argparse
import json
import os
import random
import re
import socket
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
import tomllib
from collections import Counter
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from kanaleto.capture.capturefile import CaptureFile
from kanaleto.lines.outcome import OutcomeKind
from tests.exchanges import SERIAL, TCP, exchange
from tests.farend import told
from tests.stormwords import (
    ADDED,
    ANSWERS,
    BURSTS,
    CAPTURES,
    CHANGED,
    FOUND,
    KEPT,
    LETTERS,
    MOVES,
    PASTED,
    ROUTED,
    ROUTINE,
    SETTLED,
    SIZES,
    WIRE_KEYS,
    WRITTEN,
)
from tests.terminal import KANALETO, Terminal
from tests.test_bench import free_port

_READ_S, _SLACK_S = 0.3, 0.12
_DRILL_S = 4
_HEX = re.compile(r"[0-9A-F]{2}")
_ASKS = ("sends it, escape does not", "begins, escape does not", "leaves it")


_ROOM = "name,table,address,type,access,from\nLevel,holding,0,float32,r,D01/Level 1\nFlow,holding,2,uint16,r,D11/Flow\n"
_OUTCOMES = (OutcomeKind.GOOD, OutcomeKind.TIMEOUT, OutcomeKind.GARBLED)
_HELD_BACK = 2  # that nothing came after: of one name, four seconds apart, in the last ten


def _held_back(text: str) -> int:
    """How many more a row of the journal tells of."""
    more = re.search(r"\((\d+) more times since\)", text)
    return int(more[1]) if more else 0


class Stormed(AssertionError):
    """What did not stand it, with the last keys and the screen."""


class Storm:
    """One run in a folder of its own."""

    def __init__(self, seed: int, folder: Path, terminal: Terminal) -> None:
        self.seed, self.keys, self.heard, self.drilled = seed, 0, 0, 0
        self._random = random.Random(seed)
        self._folder, self._terminal = folder, terminal
        self._last: list[str] = []
        self._ports = [free_port(), free_port(), free_port()]
        self._served: subprocess.Popen[bytes] | None = None
        self._screens = Screens(terminal)
        rows = ["name,table,address,type,factor,unit,access,period_s,labels,order"]
        kinds = (
            ("int16", "0.1", ""),
            ("float32", "", "CDAB"),
            ("uint32", "", ""),
            ("uint16", "0.01", ""),
            ("int32", "", "BADC"),
        )
        rows += [
            f"Level {n},holding,{2 * n},{kind},{factor},m,rw,{0.2 * (n % 3)},,{order}"
            for n, (kind, factor, order) in enumerate(kinds)
        ]
        rows += [
            "State,holding,20,bits,,,r,,0=Ready;3=Fault,",
            "Lamp,coil,2,bool,,,rw,0.2,,",
            "Flow,input,5,uint16,0.1,l/s,r,,,",
        ]
        self._map = "\n".join(rows) + "\n"
        told = [exchange(number, (SERIAL, TCP)[number % 2], _OUTCOMES[number % 5 % 3]) for number in range(3000)]
        for name in CAPTURES[:2]:
            capture = CaptureFile(folder / name, "Storm", [], most_bytes=1 << 30)
            capture.put(told)
            capture.close()
        (folder / CAPTURES[2]).write_bytes((folder / CAPTURES[1]).read_bytes()[:-77])
        (folder / "routines").mkdir()
        (folder / "routines" / "there.toml").write_text(ROUTINE)
        (folder / "routines" / "safe.toml").write_text(
            'name = "Safe"\ndevice = "D01"\n[[step]]\nwrite = { "Level 0" = 0 }\n'
        )
        for where in (folder, folder / "far"):
            where.mkdir(exist_ok=True)
            (where / "site.toml").write_text(self._site())
            (where / "room.csv").write_text(_ROOM)
            for line in (0, 1):
                for unit in (1, 2, 3):
                    (where / f"map-{line}-{unit}.csv").write_text(self._map)

    def _site(self) -> str:
        text = '[site]\nname = "Storm"\n'
        for line, port in enumerate(self._ports[:2]):
            text += f'[[line]]\nname = "Line {line}"\nlink = "tcp://127.0.0.1:{port}"\ntimeout_s = 0.4\n'
            for unit in (1, 2, 3):
                device = (
                    f'name = "D{line}{unit}"\nunit_id = {unit}\nmap = "map-{line}-{unit}.csv"\nperiod_s = 0.5\n{KEPT}'
                )
                text += f"[[line.device]]\n{device}"
        text += f'[[bridge]]\nname = "Room"\nlisten = "tcp://127.0.0.1:{self._ports[2]}"\n'
        text += '[[bridge.route]]\nunits = "1-3"\nto = "Line 0"\n[[bridge.device]]\nunit_id = 9\nmap = "room.csv"\n'
        return text + '[[derived]]\nname = "Sum"\nformula = "[D01/Level 0] + time_in([D01/Level 1] > 0)"\n'

    # What happens

    def run(self, seconds: float) -> None:
        """Raises Stormed."""
        terminal, pick = self._terminal, self._random
        self._serve()
        self._screens.start()
        try:
            terminal.run(f"export KANALETO_DRILL={self.seed}:{_DRILL_S}:{self._folder / 'drilled.txt'}")
            terminal.run("stty susp undef")  # what ends must say why, whatever is typed behind
            terminal.run(f"{KANALETO} {self._folder / 'site.toml'}; echo 'ENDED' 'WITH' $?")
            terminal.wait_for("Storm", 60)
            end = time.monotonic() + seconds
            next_disk, next_far = time.monotonic() + 3, time.monotonic() + 12
            turns = 0
            while time.monotonic() < end:
                self._turn()
                time.sleep(pick.choice((0.02, 0.05, 0.1, 0.3)))
                if time.monotonic() > next_disk:
                    self._edit_on_disk()
                    next_disk = time.monotonic() + pick.uniform(0.5, 4)
                if time.monotonic() > next_far:
                    self._come_or_go()
                    next_far = time.monotonic() + pick.uniform(3, 10)
                turns += 1
                if turns % 10 == 0 and "ENDED WITH" in terminal.screen:
                    self._fail("it ended in the middle")
            self._end()
        finally:
            self._screens.stop()
            self._stop_serving()

    def _turn(self) -> None:
        pick = self._random
        ways: tuple[tuple[float, Callable[[], None]], ...] = (
            (0.15, lambda: self._press("Escape", pick.choice("1234567"))),
            (0.22, lambda: self._press(*pick.choices(MOVES, k=pick.randint(1, 8)))),
            (0.15, lambda: self._press("Escape", pick.choice("1234"), pick.choice(LETTERS))),
            (0.18, self._edit),
            (0.06, self._edit_settings),
            (
                0.08,
                lambda: self._press(
                    "Escape", "2", *["Down"] * pick.randint(0, 6), "DC", *pick.choices(["C-z", "C-y", "DC"], k=3)
                ),
            ),
            (0.06, lambda: self._press(*pick.choices(["C-z", "C-y"], k=pick.randint(1, 6)))),
            (0.06, self._find),
            (0.25, self._write),
            (0.1, self._burst),
            (0.1, self._bench),
            (0.1, self._wire),
            (0.1, self._bridge),
            (0.1, self._prove),
            (0.05, lambda: self._terminal.resize(*pick.choice(SIZES))),
            (0.05, lambda: self._press(*pick.choices(LETTERS, k=pick.randint(1, 5)))),
        )
        pick.choices([way for _, way in ways], [weight for weight, _ in ways])[0]()

    def _edit(self) -> None:
        pick = self._random
        key, texts = pick.choice(
            (("a", ADDED), ("c", CHANGED), ("d", ANSWERS), ("F", ANSWERS), ("/", ("lev", "zz")), ("i", ANSWERS))
        )
        self._press("Escape", "2", key)
        time.sleep(pick.choice((0, 0.05, 0.2)))
        self._type(pick.choice(texts).format(n=pick.randrange(99), a=pick.randrange(60)))
        self._press("Enter")

    def _edit_settings(self) -> None:
        """A letter typed into the settings of a device, and more behind them."""
        pick = self._random
        self._press("Escape", "Escape", "2")
        time.sleep(0.1)
        self._press("Tab", *["Down"] * pick.randint(0, 5), pick.choice("cca"))
        time.sleep(pick.choice((0.05, 0.3)))
        self._type(pick.choice(SETTLED))
        self._press("Enter", *pick.choice((("Escape",), ("Enter",), ("Enter", "Escape"))))

    def _write(self) -> None:
        """Unlocked, and then written in all ways that there are, with and without waiting for what stands there."""
        pick = self._random
        if pick.random() < 0.5:
            self._write_well()
            return
        for key in (
            "Escape",
            "Escape",
            "3",
            "Escape",
            *pick.choices(["Up", "Down", "NPage", "Home"], k=pick.randint(0, 6)),
        ):
            self._press(key)
            time.sleep(0.02)  # else an escape is taken for the beginning of another key
        if "◆ writes" not in self._terminal.screen or pick.random() < 0.1:
            for key in pick.choice((("u",), ("u", "u"))):
                time.sleep(0.08)  # it counts only where it stands alone
                self._press(key)
        self._press(*pick.choice((("w",), ("w",), ("v", "v", "w"), ("W", "Down", "w"), ("W", "End", "Enter"), ("K",))))
        self._type(pick.choice(WRITTEN))
        for _ in range(pick.randint(1, 4)):
            time.sleep(pick.choice((0.02, 0.7, 0.9)))
            self._press(pick.choice(("Enter", "Enter", "Enter", "Enter", "y", "s", "Escape")))

    def _write_well(self) -> None:
        """As somebody does who reads: what is sent, and its way back; with a key in between now and then."""
        pick = self._random
        for key in ("Escape", "Escape", "Escape", "3", "Escape", "/"):
            self._press(key)
            time.sleep(0.15)
        self._type(f"d0{pick.randint(1, 3)}")
        for key in ("Enter", "Home", "Down", *["Down"] * pick.randint(0, 2)):
            time.sleep(0.06)
            self._press(key)
        for key in ("u", "u") if "◆ writes the site" not in self._terminal.screen else ():
            time.sleep(0.1)
            self._press(key)
        self._press("w")
        self._type(pick.choice(("1", "2", "3.5", "5 every 0.2 s then 0", "4", "7")))
        for _ in range(pick.randint(1, 3)):
            time.sleep(pick.choice((0.05, 1.0, 1.6)))
            self._press("Enter")
        time.sleep(0.6)

    def _burst(self) -> None:
        """Keys in one go, and pastes with and without brackets, into whatever has the keys or would send."""
        pick = self._random
        self._press("Escape")
        time.sleep(0.05)
        self._press("3", *pick.choices(["Up", "Down", "Home"], k=pick.randint(0, 4)))
        if pick.random() < 0.6:
            self._press(*pick.choice(BURSTS))
        elif pick.random() < 0.5:
            self._last = [*self._last, "(pasted)"][-80:]
            self._terminal.paste(pick.choice(PASTED))
        else:
            self._type(pick.choice(PASTED))

    def _bench(self) -> None:
        """Devices stand in beside the lines, by hand, with faults; now and then their process is killed. Lines are not
        led elsewhere: what is heard there is not in the journal of the far end."""
        pick = self._random
        self._press("Escape", "Escape", "5", *pick.choices(["Up", "Down"], k=pick.randint(0, 8)))
        if pick.random() < 0.5:
            self._press("B")
        if pick.random() < 0.7:
            self._press("Tab", *pick.choices(["Up", "Down", "f", "z", "[", "]"], k=pick.randint(1, 5)))
        if pick.random() < 0.4:
            self._press("Enter")
            self._type(pick.choice(("5", "7 in 2 s", "on", "x", "")))
            self._press("Enter", "Escape")
        if pick.random() < 0.4:
            self._press("Tab", *["Down"] * pick.randint(0, 12), "Enter", "Enter", "Escape")
        if pick.random() < 0.1:
            subprocess.run(["pkill", "-9", "-P", str(self._pid()), "-f", "kanaleto.bench.process"], check=False)

    def _bridge(self) -> None:
        """Passed on and not, routes edited, masters that ask, vanish, or send half a request."""
        pick = self._random
        self._press("Escape", "Escape", "6", *pick.choices(["Up", "Down", "b", "t", "s"], k=pick.randint(1, 6)))
        if pick.random() < 0.4:
            self._press(pick.choice("acdf"))
            time.sleep(pick.choice((0.05, 0.3)))
            self._type(pick.choice(ROUTED))
            self._press("Enter", *pick.choice((("Escape",), ("Enter", "Escape"))))
        for _ in range(pick.randint(0, 3)):
            request = (
                bytes.fromhex("0001 0000 0006") + bytes((pick.choice((1, 2, 9, 77)),)) + bytes.fromhex("0300000002")
            )
            with suppress(OSError), socket.create_connection(("127.0.0.1", self._ports[2]), 0.3) as master:
                master.settimeout(0.3)
                master.sendall(request[: pick.choice((5, 12, 12))])
                if pick.random() < 0.6:
                    master.recv(100)

    def _prove(self) -> None:
        """Evidence taken, judged by hand, noted; what is there asked; all of it typed ahead now and then."""
        pick = self._random
        self._press("Escape", "Escape", "7")
        time.sleep(pick.choice((0.02, 0.3)))
        self._press(*pick.choices(["]", "Up", "Down", "PgDn", "a", "t", "End"], k=pick.randint(1, 6)))
        for _ in range(pick.randint(1, 3)):
            self._press(pick.choice(("Enter", "V", "N", "o", "M", "Enter", "c")))
            time.sleep(pick.choice((0.02, 0.4)))
            self._type(
                pick.choice(("1", "2.5", "real", "stand-in", "on", "passed", "failed it is wet", " prove=no", "x"))
            )
            self._press("Enter", *pick.choice(((), ("Escape",), ("]",))))

    def _wire(self) -> None:
        """Through the exchanges: filters, failures, findings, captures opened in the same list and left again."""
        pick = self._random
        self._press("Escape", "4", *pick.choices(WIRE_KEYS, k=pick.randint(2, 10)))
        if pick.random() < 0.5:
            self._press("Escape", "o")
            time.sleep(pick.choice((0.02, 0.3)))
            self._press("C-u")
            self._type(str(self._folder / pick.choice(CAPTURES)))
            self._press("Enter")
            time.sleep(pick.choice((0.02, 0.5)))
            self._press(*pick.choices(WIRE_KEYS, k=pick.randint(1, 10)))
        if pick.random() < 0.4:
            self._press("/")
            self._type(pick.choice(("outcome:silent", "took_ms:>20 -unit:2", "point:level", "outcome:", "zz")))
            self._press(pick.choice(("Enter", "Escape")))
        if pick.random() < 0.2:
            self._press("x")
            time.sleep(0.2)
            self._press("C-u")
            self._type(str(self._folder / f"out-{self.keys}{pick.choice(('.jsonl', '.zip', '.svg', '.what'))}"))
            self._press("Enter")

    def _pid(self) -> int:
        """Of the application; 0 where it is not found."""
        found = subprocess.run(
            ["pgrep", "-f", f"kanaleto {self._folder / 'site.toml'}"], capture_output=True, text=True, check=False
        )
        return int(found.stdout.split()[0]) if found.stdout.split() else 0

    def _find(self) -> None:
        self._press("C-p")
        self._type(self._random.choice(FOUND))
        time.sleep(0.2)
        self._press(*self._random.choice((("Enter",), ("Escape",), ("Enter", "Enter"), ("NPage", "Enter"))))

    def _press(self, *keys: str) -> None:
        self.keys += len(keys)
        self._last = [*self._last, *keys][-80:]
        self._terminal.send(*keys)

    def _type(self, text: str) -> None:
        self.keys += len(text)
        self._last = [*self._last, repr(text)][-80:]
        if text:
            self._terminal.write(text)

    # What others do meanwhile

    def _edit_on_disk(self) -> None:
        pick = self._random
        path = self._folder / f"map-{pick.randrange(2)}-{pick.randint(1, 3)}.csv"
        if pick.random() < 0.25:
            path.write_text(self._map + "Torn,hold")
            time.sleep(pick.choice((0.05, 0.4, 1.2)))
        head, *rows = self._map.splitlines()
        # formulas need those of D01
        kept = rows if path.name == "map-0-1.csv" else pick.sample(rows, pick.randint(1, len(rows)))
        beside = path.with_suffix(".other")
        beside.write_text("\n".join([head, *kept]) + "\n")
        os.replace(beside, path)

    def _serve(self) -> None:
        site, log = str(self._folder / "far" / "site.toml"), str(self._folder / "heard.txt")
        command = [sys.executable, "-m", "tests.farend", site, log]
        self._served = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)

    def _stop_serving(self) -> None:
        if self._served is not None:
            self._served.terminate()
            self._served.wait(60)
            self._served = None

    def _come_or_go(self) -> None:
        if self._served is not None:
            self._stop_serving()
        else:
            self._serve()

    # How it ends

    def _fail(self, why: str) -> None:
        crashes = [path.read_text()[-2500:] for path in self._terminal.folder.rglob("crash*.txt")]
        raise Stormed(
            "\n".join(
                [f"seed {self.seed}: {why}", self._terminal.screen, f"last keys: {' '.join(self._last)}", *crashes]
            )
        )

    def _end(self) -> None:
        terminal = self._terminal
        terminal.resize(160, 47)
        end = time.monotonic() + 40
        while "ENDED WITH" not in terminal.screen:
            if time.monotonic() > end:
                self._fail("it does not end by ctrl+q")
            terminal.send("Escape")
            terminal.send("C-q")
            time.sleep(0.7)
        if "ENDED WITH 0" not in terminal.screen or any(terminal.folder.rglob("crash*.txt")):
            self._fail("it ended with an error")
        site = str(self._folder / "site.toml")
        self._compare_with_drill()
        self._compare_with_journal()
        self._compare_with_screen()
        self._look_at_what_is_kept()
        checked = subprocess.run([sys.executable, "-m", "kanaleto", "check", site], capture_output=True, text=True)
        if checked.returncode:
            self._fail(f"the files are not sound: {checked.stdout}{checked.stderr}")

    def _look_at_what_is_kept(self) -> None:
        """No device has lost its map, its limit or its note: no line named them."""
        site = tomllib.loads((self._folder / "site.toml").read_text())
        for line in site["line"]:
            for device in line.get("device", ()):
                ours = re.fullmatch(r"D\d\d", device["name"]) is not None
                if "map" not in device or (ours and (device.get("max_registers"), device.get("note")) != (100, "kept")):
                    self._fail(f"{device} has lost what nobody took away")

    def _compare_with_drill(self) -> None:
        """Nothing fails in silence; what fails again within ten seconds is told with the next that is; what fails in
        the last second, when the journal is closed, has its file."""
        path = self._folder / "drilled.txt"
        drilled = Counter(path.read_text().splitlines() if path.exists() else ())
        self.drilled = sum(drilled.values())
        db = sqlite3.connect(self._folder / "site.kanaleto" / "journal.db")
        told = [text for (text,) in db.execute("SELECT text FROM event WHERE kind = 'fault'")]
        db.close()
        kept = [path.read_text() for path in self._terminal.folder.rglob("fault-*.txt")]
        for name, times in drilled.items():
            said = f"{name} was made to fail"
            heard = sum(1 + _held_back(text) for text in told if said in text)
            if heard < times - _HELD_BACK or (heard < times and not any(said in text for text in kept)):
                self._fail(f"{name} failed {times} times, and the journal tells {heard} of them")

    def _compare_with_journal(self) -> None:
        """Each writing request that the far end heard has its row, and no row is without one, but for such as say that
        nobody knows."""
        heard = Counter((unit, address) for unit, address, _, _ in told(self._folder / "heard.txt"))
        rows: Counter[tuple[int, int]] = Counter()
        doubtful: Counter[tuple[int, int]] = Counter()
        db = sqlite3.connect(self._folder / "site.kanaleto" / "journal.db")
        for count, text in db.execute("SELECT count, data FROM event WHERE kind = 'write' AND data IS NOT NULL"):
            data = json.loads(text)
            if "address" not in data:
                continue
            key = (data["unit_id"], data["address"])
            rows[key] += count
            if data.get("outcome") != "done" or data.get("failed"):
                doubtful[key] += count
        db.close()
        self.heard = sum(heard.values())
        for key in heard | rows:
            if not 0 <= rows[key] - heard[key] <= doubtful[key]:
                self._fail(f"{key}: heard {heard[key]} times, {rows[key]} in the journal, {doubtful[key]} in doubt")

    def _compare_with_screen(self) -> None:
        """What a person sent had stood on the screen, byte for byte, for as long as one needs to read it."""
        by_person: list[tuple[float, int, int]] = []
        db = sqlite3.connect(self._folder / "site.kanaleto" / "journal.db")
        for begun, text in db.execute("SELECT begun, data FROM event WHERE kind = 'write' AND data IS NOT NULL"):
            data = json.loads(text)
            if data.get("by") == "person" and "address" in data:
                by_person.append((begun / 1e6, data["unit_id"], data["address"]))
        db.close()
        for unit, address, pdu, at in told(self._folder / "heard.txt"):
            times = [wall for wall, of, where in by_person if (of, where) == (unit, address) and 0 <= at - wall < 1.5]
            if times and not self._screens.had(f"{unit:02x}{pdu}", at):
                self._fail(f"unit {unit} heard {pdu} at {at:.3f}, which had not stood on the screen for {_READ_S} s")


class Screens:
    """Looks at the terminal many times a second: since when which bytes stand behind "goes out"."""

    def __init__(self, terminal: Terminal) -> None:
        self._terminal, self._is_over = terminal, threading.Event()
        self._spans: list[tuple[float, float, str]] = []
        self._thread = threading.Thread(target=self._look, daemon=True)

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        self._is_over.set()
        self._thread.join(5)

    def _look(self) -> None:
        while not self._is_over.wait(0.06):
            now = time.time()
            try:
                screen = self._terminal.screen
            except subprocess.CalledProcessError:
                return
            row = next((line for line in screen.splitlines() if line.startswith("  goes out")), "")
            # a part of a word is written as a whole where the device wants that, and several go one after the other
            text = "*" if "more, one after" in row or "mask write" in row or "Write back" in screen else row
            text = text if text == "*" else "".join(part for part in row.split() if _HEX.fullmatch(part)).lower()
            text = "*" if any(mark in screen for mark in _ASKS) else text
            text += "…" if row.rstrip().endswith("…") else ""
            if self._spans and self._spans[-1][2] == text:
                self._spans[-1] = (self._spans[-1][0], now, text)
            else:
                self._spans.append((now, now, text))

    def had(self, frame: str, at: float) -> bool:
        """Whether these bytes had been seen long enough when they were heard."""
        return any(
            (text.startswith("*") or frame in text or _begins(text, frame))
            and since <= at - _READ_S + _SLACK_S
            and at - last < 6.0
            for since, last, text in self._spans
        )


def _begins(text: str, frame: str) -> bool:
    """Whether a row that ends in … for lack of room is the beginning of a frame, behind six bytes of its header."""
    return text.endswith("…") and frame.startswith(text.removesuffix("…")[8:])


def storm(seconds: float, seed: int) -> tuple[int, int, int]:
    """Live through it; gives how many keys were pressed, how many writing requests the far end heard, and how often
    something failed in a drill. Raises Stormed."""
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder, Terminal() as terminal:
        one = Storm(seed, Path(folder), terminal)
        one.run(seconds)
        return one.keys, one.heard, one.drilled


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--seconds", type=float, default=120)
    parser.add_argument("--seed", type=int, default=random.randrange(10**6))
    parser.add_argument("--times", type=int, default=1, help="so many seeds in a row")
    options = parser.parse_args()
    for seed in range(options.seed, options.seed + options.times):
        try:
            keys, heard, drilled = storm(options.seconds, seed)
        except AssertionError as error:
            print(f"{error}\nagain: python -m tests.storm --seconds {options.seconds:g} --seed {seed}")
            return 1
        text = f"{keys} keys, {heard} writes heard, {drilled} failures asked for"
        print(f"{options.seconds:g} s, seed {seed}, {text}: it lived", flush=True)
    return 0


if __name__ == "__main__":
    sys.exit(main())
