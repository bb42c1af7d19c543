"""What moves registers, against closed forms and step by step, on bench time alone."""

import hashlib
import math
import os
import random
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from kanaleto.bench.compiledmoves import Movement
from kanaleto.bench.servedunits import Units
from kanaleto.demo.start import copy_site
from kanaleto.files.loading import load_site
from kanaleto.site.filefaults import FaultyFile
from kanaleto.site.links.link import FramingKind
from kanaleto.wire.codes import Table

STEPS = os.environ.get("KANALETO_STEPS", "9000")  # an hour is 36 000: `make soak`
HEAD = '[site]\nname = "S"\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1:1502"\n'
DEVICE = '[[line.device]]\nname = "D"\nunit_id = 1\nmap = "m.csv"\n'
MAP = (
    "name,table,address,type,order,factor,access,labels,bit,initial\n"
    "Level,holding,0,float32,,,,,,\nSwapped,holding,2,float32,CDAB,,,,,\nScaled,holding,4,int16,,0.1,,,,\n"
    "Count,holding,5,uint16,,,rw,,,\nTarget,holding,6,uint16,,,rw,,,40\n"
    "Command,holding,7,bits,,,rw,0=Enable;1=Acknowledge,,\nStatus,holding,8,bits,,,,0=Enabled;1=Moving;7=Tripped,,\n"
    "State,holding,9,uint16,,,,0=Stopped;1=Opening,,\nLamp,coil,0,bool,,,,,,\nLong,holding,10,uint32,DCBA,,,,,\n"
    "Spare,holding,8,bool,,,,,9,\n"
)


class Moving(unittest.TestCase):
    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def made(self, moves: str, head: str = HEAD, seed: int = 7, before: Movement | None = None) -> Movement:
        (self.folder / "m.csv").write_text(MAP)
        (self.folder / "site.toml").write_text(head + DEVICE + moves)
        site, self.warnings = load_site(self.folder / "site.toml")
        devices = [one for line in site.lines for one in Units(line, line.link.framing is not FramingKind.TCP).devices]
        self.devices = {one.device.name: one for one in devices}
        return Movement(devices, site.lines, seed, before)

    def faults(self, moves: str) -> list[str]:
        with self.assertRaises(FaultyFile) as caught:
            self.made(moves)
        return [f"{fault.line}: {fault.text}" for fault in caught.exception.faults]

    def value(self, name: str, device: str = "D") -> float:
        value = self.devices[device].value(name)
        assert isinstance(value, int | float)
        return float(value)

    def ran(self, movement: Movement, seconds: float) -> None:
        for _ in range(round(seconds * 10)):
            movement.step()


class ClosedForms(Moving):
    def test_waves_begin_in_the_middle_and_rise(self) -> None:
        for wave, at in (
            ("sine", lambda x: math.sin(2 * math.pi * x)),
            ("triangle", lambda x: 4 * x if x < 0.25 else 2 - 4 * x if x < 0.75 else 4 * x - 4),
            ("square", lambda x: 1 if x < 0.5 else -1),
            ("saw", lambda x: 2 * ((x + 0.5) % 1) - 1),
        ):
            text = f'{{ wave = "{wave}", low = 2, high = 14, period_s = 40, phase_s = 5 }}'
            movement = self.made(f'[line.device.moves]\n"Level" = {text}\n"Swapped" = {text}\n"Scaled" = {text}\n')
            for step in range(1, 900):
                movement.step()
                wanted = 8 + 6 * at(((step / 10 + 5) / 40) % 1)
                with self.subTest(wave, step=step):
                    self.assertAlmostEqual(self.value("Level"), wanted, delta=1e-5)
                    self.assertAlmostEqual(self.value("Swapped"), wanted, delta=1e-5)
                    self.assertAlmostEqual(self.value("Scaled"), wanted, delta=0.0501)

    def test_following_with_a_lag_and_a_rate(self) -> None:
        movement = self.made('[line.device.moves]\n"Level" = { follow = "Target", lag_s = 2.0 }\n')
        self.ran(movement, 3.0)
        self.assertAlmostEqual(self.value("Level"), 40 * (1 - math.exp(-1.5)), places=4)
        movement = self.made('[line.device.moves]\n"Level" = { follow = "D/Target", rate = 4 }\n')
        self.ran(movement, 3.0)
        self.assertAlmostEqual(self.value("Level"), 12.0, places=4)
        self.ran(movement, 30.0)
        self.assertAlmostEqual(self.value("Level"), 40.0, places=4)

    def test_counters_go_round_and_stand_still_while_they_may_not_count(self) -> None:
        moves = '[line.device.moves]\n"Count" = { counts_s = 0.5, by = 1000, while = "[Target] > 0" }\n'
        movement = self.made(moves)
        self.ran(movement, 10)
        self.assertEqual(self.value("Count"), 20_000)
        self.devices["D"].put("Target", 0)
        self.ran(movement, 10)
        self.assertEqual(self.value("Count"), 20_000)
        self.devices["D"].put("Target", 1)
        self.devices["D"].answer(bytes.fromhex("060005fde8"))  # 65 000, by a master: it goes on from there
        self.ran(movement, 0.5)
        self.assertEqual(self.value("Count"), 66_000 - 65_536)

    def test_a_walk_has_the_spread_that_it_says_and_its_ends(self) -> None:
        ends = []
        for seed in range(300):
            movement = self.made('[line.device.moves]\n"Level" = { walk = 0.2 }\n', seed=seed)
            self.ran(movement, 10)
            ends.append(self.value("Level"))
        spread = math.sqrt(sum(end * end for end in ends) / len(ends))
        self.assertAlmostEqual(spread, 0.2 * math.sqrt(10), delta=0.1)
        movement = self.made('[line.device.moves]\n"Level" = { walk = 9.0, low = -1, high = 2 }\n')
        seen = []
        for _ in range(500):
            movement.step()
            seen.append(self.value("Level"))
        self.assertEqual((min(seen), max(seen)), (-1.0, 2.0))

    def test_lists_by_a_period_or_by_their_times(self) -> None:
        (self.folder / "l.csv").write_text(
            "at,t\n2026-01-01T00:00:00Z,5\n2026-01-01T00:00:03Z,7\n2026-01-01T00:00:04Z,9\n"
        )
        movement = self.made('[line.device.moves]\n"Level" = { list = "l.csv", column = "t", every_s = 2 }\n')
        seen = []
        for _ in range(14):
            self.ran(movement, 0.5)
            seen.append(self.value("Level"))
        self.assertEqual(seen, [5, 5, 5, 7, 7, 7, 7, 9, 9, 9, 9, 5, 5, 5])
        movement = self.made(
            '[line.device.moves]\n"Level" = { list = "l.csv", column = "t", every_s = "at", then = "hold" }\n'
        )
        seen = []
        for _ in range(7):
            self.ran(movement, 1)
            seen.append(self.value("Level"))
        self.assertEqual(seen, [5, 5, 7, 9, 9, 9, 9])

    def test_quantities_and_formulas_by_need(self) -> None:
        movement = self.made(
            '[line.device.moves]\n"Scaled" = { formula = "[Level] + 1" }\n"Level" = { formula = "[volume] / 40" }\n'
            '"Long" = { formula = "[volume] * 1000", while = "[Target] > 0" }\n'
            '"Lamp" = { formula = "[volume] > 110" }\n'
            '[line.device.quantity.volume]\nstart = 100.0\nnext = "before + dt * 2"\nhigh = 120\n'
        )
        self.assertEqual((self.value("Level"), self.value("Scaled")), (2.5, 3.5))
        self.ran(movement, 6)
        self.assertAlmostEqual(self.value("Level"), 112 / 40, places=5)
        self.assertEqual(self.value("Scaled"), 3.8)
        self.assertEqual((self.value("Long"), self.value("Lamp")), (112_000, 1))
        self.devices["D"].put("Target", 0)
        self.ran(movement, 20)
        self.assertAlmostEqual(self.value("Level"), 3.0)
        self.assertEqual(self.value("Long"), 112_000)

    def test_what_does_not_fit_is_clamped_and_counted(self) -> None:
        movement = self.made(
            '[line.device.moves]\n"Scaled" = { wave = "square", low = -9000, high = 9000, period_s = 2 }\n'
        )
        self.ran(movement, 0.5)
        self.assertEqual(self.value("Scaled"), 3276.7)
        self.assertEqual(set(movement.clamped), {("D", "Scaled")})
        movement = self.made('[line.device.moves]\n"Level" = { formula = "1 / [Count]" }\n')
        self.ran(movement, 1)
        self.assertEqual(self.value("Level"), 0.0)
        self.assertEqual(set(movement.wrong), {("D", "Level")})


class Machines(Moving):
    MACHINE = (
        "[line.device.machine.Status]\n"
        """Stopped = { bits = [], to = { Moving = "bit([Command], 'Enable')", Tripped = "asked_s > 10" } }\n"""
        'Moving = { bits = ["Enabled", "Moving"], after_s = 0.5, '
        """to = { Stopped = "not bit([Command], 'Enable')" } }\n"""
        """Tripped = { bits = ["Tripped"], to = { Stopped = "rises(bit([Command], 'Acknowledge'))" } }\n"""
        "[line.device.machine.State]\n"
        """Resting = { value = "Stopped", to = { Going = "bit([Status], 'Moving')" } }\n"""
        """Going = { value = 1, to = { Resting = "not bit([Status], 'Moving')" } }\n"""
        '[line.device.moves]\n"Spare" = { formula = "[Target] > 10" }\n'
        """"Level" = { formula = "1 if [State] == 'Opening' else 0" }\n"""
    )

    def test_step_by_step(self) -> None:
        movement = self.made(self.MACHINE)
        device = self.devices["D"]
        self.assertEqual((self.value("Status"), self.value("State")), (1 << 9, 0))
        device.answer(bytes.fromhex("0600070001"))
        self.assertEqual(self.value("Status"), 3 | 1 << 9, "before it is answered")
        device.answer(bytes.fromhex("0600070000"))
        self.assertEqual(self.value("Status"), 3 | 1 << 9, "it stays for half a second at least")
        movement.step()
        self.assertEqual((self.value("State"), self.value("Level")), (1, 1.0))
        self.ran(movement, 0.4)
        self.assertEqual(self.value("Status"), 3 | 1 << 9)
        self.ran(movement, 0.2)
        self.assertEqual(self.value("Status"), 1 << 9)
        self.ran(movement, 0.2)
        self.assertEqual((self.value("State"), self.value("Level")), (0, 0.0))
        device.put("Target", 0)
        self.ran(movement, 9)
        self.assertEqual(self.value("Status"), 0)
        self.ran(movement, 1.3)
        self.assertEqual(self.value("Status"), 0x80, "nobody has asked for ten seconds")
        device.answer(bytes.fromhex("0600070002"))
        self.assertEqual(self.value("Status"), 0)

    def test_all_registers_of_a_frozen_device_stand_still_those_of_machines_too(self) -> None:
        movement = self.made(self.MACHINE)
        self.ran(movement, 1)
        stood = self.value("Status"), self.value("State"), self.value("Level")
        movement.freeze({("D", "")})
        self.devices["D"].answer(bytes.fromhex("0600070001"))
        self.ran(movement, 5)
        self.assertEqual(stood, (self.value("Status"), self.value("State"), self.value("Level")))
        movement.freeze(set())
        self.assertEqual(self.value("Status") % 4, 3, "what went on meanwhile is shown")
        self.ran(movement, 0.3)
        self.assertEqual((1, 1.0), (self.value("State"), self.value("Level")))

    def test_a_pulse_shorter_than_a_step_is_seen(self) -> None:
        self.made(self.MACHINE)
        device = self.devices["D"]
        device.answer(bytes.fromhex("0600070001"))
        device.answer(bytes.fromhex("0600070000"))
        self.assertEqual(self.value("Status") % 4, 3)

    def test_an_edit_keeps_what_still_exists(self) -> None:
        quantity = '[line.device.quantity.volume]\nstart = 100\nnext = "before + dt"\n'
        before = self.made(self.MACHINE + quantity)
        self.devices["D"].answer(bytes.fromhex("0600070001"))
        self.ran(before, 5)
        standing = self.devices["D"]
        after = self.made(self.MACHINE + quantity.replace("before + dt", "before + 2 * dt"), before=before)
        self.devices["D"].take_over(standing)
        after.take_over()
        self.assertEqual(self.value("Status") % 4, 3)
        self.ran(after, 5)
        self.assertAlmostEqual(after.values[after._slot_of["D", "volume"]], 115.0)


class TheDemo(unittest.TestCase):
    def test_an_hour_with_two_hundred_writes_is_the_same_in_two_processes(self) -> None:
        script = (
            "import sys\nfrom tests.test_moving import hash_of_demo\nprint(hash_of_demo(*map(int, sys.argv[1:])))\n"
        )
        runs = [
            subprocess.Popen(
                [sys.executable, "-c", script, *arguments], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
                env={**os.environ, "PYTHONHASHSEED": order},
            )
            for order, *arguments in (("1", "1", STEPS), ("2", "1", STEPS), ("1", "1", "900"), ("1", "2", "900"))
        ]  # fmt: skip
        pairs = [run.communicate(timeout=1200) for run in runs]
        first, again, short, other = (out.strip() for out, _ in pairs)
        self.assertEqual(len(first), 64, pairs[0][1])
        self.assertEqual(first, again)
        self.assertNotEqual(short, other, "other writes make other words")


def hash_of_demo(seed: int, steps: int) -> str:
    """Of all words of all devices of the demo after so many steps with 200 seeded writes among them."""
    with tempfile.TemporaryDirectory() as folder:
        site, _ = load_site(copy_site(Path(folder), 15020))
    units = [Units(line, line.link.framing is not FramingKind.TCP) for line in site.lines]
    devices = [one for own in units for one in own.devices]
    movement, draw, found = Movement(devices, site.lines, 7), random.Random(seed), hashlib.sha256()
    writes = {draw.randrange(steps): None for _ in range(200)}
    written = [
        (one, point) for one in devices for point in one.device.points
        if point.access.is_written and point.table is Table.HOLDING and point.size == 1 and point.setting is None
    ]  # fmt: skip
    for step in range(steps):
        if step in writes:
            one, point = draw.choice(written)
            one.answer(b"\6" + point.address.to_bytes(2) + draw.randrange(0x10000).to_bytes(2))
        movement.step()
        if step % 100 == 0:
            for one in devices:
                found.update(repr(one.state()).encode())
    for one in devices:
        found.update(repr(one.state()).encode())
    return found.hexdigest()


class Faults(Moving):
    def test_everything_that_is_wrong_is_told_with_its_line(self) -> None:
        text = "\n".join(
            self.faults(
                '[line.device.moves]\n"Nope" = { walk = 1 }\n"Level" = { wave = "sine", low = 1 }\n'
                '"Swapped" = { formula = "[Nothing] + 1" }\n"Count" = { walk = 1, formula = "1" }\n'
                '"Scaled" = { formula = "[Target] +" }\n"Long" = { follow = "Nobody" }\n'
                '"Lamp" = { counts_s = 1, low = 3 }\n'
                '[line.device.quantity.Level]\nnext = "before"\n'
                '[line.device.machine.Status]\nA = { bits = ["Nowhere"], to = { B = "1" } }\n'
                "[line.device.machine.Target]\nA = { to = {} }\n"
            )
        )
        for wanted in (
            r"11: .*moves 'Nope', which is no point", r"12: .*wave needs high", r"13: .*\[Nothing\] is no point",
            r"14: .*formula and walk are several", r"15: .*is no formula that can be read",
            r"16: .*follows \[Nobody\]", r"17: .*low does not go with counts_s",
            r"18: .*'Level' is a point of this device", r"21: .*has no bit 'Nowhere'",
            r"21: .*leads to 'B', which is no state here", r"23: .*needs either bits or a value",
        ):  # fmt: skip
            self.assertRegex(text, wanted)

    def test_circles_owners_and_lists(self) -> None:
        circle = '[line.device.moves]\n"Level" = { formula = "[Swapped]" }\n"Swapped" = { formula = "[D/Level]" }\n'
        self.assertRegex("\n".join(self.faults(circle)), r"need each other: .*\[D/Level\].*\[D/Swapped\]")
        owners = '[line.device.moves]\n"Spare" = { walk = 1 }\n[line.device.machine.Status]\nA = { bits = [9] }\n'
        self.assertRegex("\n".join(self.faults(owners)), "moves a bit of the same register already")
        (self.folder / "l.csv").write_text("t\n1\n\n2\nx\n")
        for column, reason in (("t", r"l\.csv:5 has no number"), ("u", "has no column 'u'")):
            text = f'[line.device.moves]\n"Level" = {{ list = "l.csv", column = "{column}", every_s = 1 }}\n'
            self.assertRegex("\n".join(self.faults(text)), reason)
        self.made('[line.device.moves]\n"Count" = { wave = "sine", low = 1, high = 2, period_s = 3 }\n')
        self.assertRegex(str([str(warning) for warning in self.warnings]), "may be written, and wave overwrites that")


class Alike(Moving):
    def test_the_same_seed_and_writes_are_the_same_words_in_two_processes(self) -> None:
        script = "import sys\nfrom tests.test_moving import words_of\nprint(words_of(sys.argv[1], int(sys.argv[2])))\n"
        moves = (
            Machines.MACHINE
            + '"Swapped" = { walk = 0.3, noise = 0.1 }\n"Scaled" = { wave = "sine", low = -9, high = 9,'
            ' period_s = 7, noise = 2 }\n"Count" = { counts_s = 0.3 }\n'
        )
        (self.folder / "m.csv").write_text(MAP)
        (self.folder / "site.toml").write_text(HEAD + DEVICE + moves)
        texts = [
            subprocess.run(
                [sys.executable, "-c", script, str(self.folder / "site.toml"), seed], capture_output=True, text=True,
                check=True,
            ).stdout
            for seed in ("7", "7", "8")
        ]  # fmt: skip
        self.assertEqual(texts[0], texts[1])
        self.assertNotEqual(texts[0], texts[2])


def words_of(path: str, seed: int, steps: int = 3600) -> str:
    """A digest of all words after each step, with seeded writes in between."""
    site, _ = load_site(Path(path))
    devices = [one for line in site.lines for one in Units(line, False).devices]
    movement, pick = Movement(devices, site.lines, seed), random.Random(1)
    writes = {pick.randrange(steps): pick.randrange(4) for _ in range(200)}
    digest = hashlib.sha256()
    for step in range(steps):
        if step in writes:
            devices[0].answer(bytes((6, 0, 7, 0, writes[step])))
        movement.step()
        for one in devices:
            for point in one.device.points:
                digest.update(repr(one.value(point.name)).encode())
    return digest.hexdigest()


class InTheMiddle(Moving):
    def test_what_a_master_writes_within_a_step_is_not_written_over(self) -> None:
        movement = self.made('[line.device.moves]\n"Count" = { counts_s = 3600 }\n')
        device = self.devices["D"]

        def write() -> None:
            device.answer(bytes.fromhex("0600050064"))

        movement._writers.insert(0, write)  # as if it came between reckoning and the registers
        movement.step()
        self.assertEqual(self.value("Count"), 100)
        movement._writers.pop(0)
        self.ran(movement, 1)
        self.assertEqual(self.value("Count"), 100)


if __name__ == "__main__":
    unittest.main()
