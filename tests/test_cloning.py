"""Clones: whatever a device is asked, its copy answers the same; by reading alone, in a file that can be served. And
the words with which a simulated point begins."""

import asyncio
import json
import random
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from msgspec.structs import replace

from kanaleto.bench.clonefile import ClonedLine, count_differences, why_not_written, write_clone
from kanaleto.bench.cloning import Cloner, Copied, Silent, moves_of, with_guesses
from kanaleto.bench.device import SimulatedDevice
from kanaleto.bench.servedunits import Units
from kanaleto.bench.server import is_as_serial
from kanaleto.demo.start import copy_site
from kanaleto.files.loading import load_site
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.site.filefaults import FaultyFile
from kanaleto.site.model import Line
from kanaleto.wire.codes import WRITING, Table
from kanaleto.wire.pdu import Refused, Request, parse_answer
from tests.test_bench import free_port

READING = (1, 2, 3, 4)


class Original:
    """A device that is asked in memory, and says what it heard."""

    def __init__(self, line: Line, name: str) -> None:
        self.units = Units(line, is_as_serial(line))
        self.simulated = next(one for one in self.units.devices if one.device.name == name)
        self.heard: list[bytes] = []
        self.is_silent = False

    async def ask(self, unit_id: int, request: Request, timeout_s: float) -> Outcome:
        pdu = request.encode()
        self.heard.append(pdu)
        answer = self.simulated.answer(pdu) if not self.is_silent else None
        content = parse_answer(answer) if answer is not None else None
        kind = OutcomeKind.TIMEOUT if answer is None else OutcomeKind.GOOD
        kind = OutcomeKind.EXCEPTION if isinstance(content, Refused) else kind
        return Outcome(kind, unit_id, pdu, answer or b"", content, 0.0, 0.0, 0.0, 0.0)


class Copies(unittest.TestCase):
    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def site(self, rows: str, keys: str = "", link: str = "tcp://127.0.0.1:502") -> Line:
        (self.folder / "m.csv").write_text(rows)
        path = self.folder / "site.toml"
        path.write_text(
            f'[site]\nname = "S"\n[[line]]\nname = "L"\nlink = "{link}"\n'
            f'[[line.device]]\nname = "D"\nunit_id = 5\nmap = "m.csv"\n{keys}'
        )
        return load_site(path)[0].lines[0]

    def copied(self, line: Line, original: Original, name: str = "D") -> tuple[SimulatedDevice, Copied]:
        """The copy as it is served from its file."""
        device = next(device for device in line.devices if device.name == name)
        copy = asyncio.run(Cloner(original.ask, device, 1.0, 0.0, is_as_serial(line)).run())
        out = self.folder / "copy.toml"
        write_clone(out, "Copy", [ClonedLine(line, line.link, [copy])])
        self.assertEqual(count_differences(out, [ClonedLine(line, line.link, [copy])]), {(line.name, name): 0})
        site, _ = load_site(out)
        return Units(site.lines[0], is_as_serial(line)).devices[0], copy

    def compare(self, original: SimulatedDevice, copy: SimulatedDevice, seed: int, count: int = 2000) -> None:
        """Seeded requests: inside, at borders, over limits, functions that it has not."""
        draw = random.Random(seed)
        points = original.device.points
        for number in range(count):
            function = draw.choice((*READING, 3, 3, 4, draw.randrange(1, 128)))
            point = draw.choice(points)
            address = draw.choice((point.address, point.end, max(point.address - 1, 0), draw.randrange(0x10000)))
            items = draw.choice((1, point.size, draw.randrange(1, 30), draw.randrange(0, 2100), 125, 126, 2000, 2001))
            pdu = bytes((function,)) + address.to_bytes(2) + items.to_bytes(2)
            if function in WRITING or function in (0x08, 0x0B, 0x0C, 0x15):
                continue
            self.assertEqual(copy.answer(pdu), original.answer(pdu), f"seed {seed}, request {number}: {pdu.hex()}")


class Cloning(Copies):
    def test_each_device_of_the_demo_with_its_values_frozen(self) -> None:
        path = copy_site(self.folder, free_port())
        site, _ = load_site(path)
        for number, (line, device) in enumerate(site.devices()):
            with self.subTest(device.name):
                original = Original(line, device.name)
                draw = random.Random(number)
                for point in device.points:
                    if point.access.is_read:
                        data = bytes(draw.randrange(256) for _ in range(2 * point.size))
                        original.simulated.put_data(point, bytes((data[0] & 1,)) if point.table.is_bits else data)
                copy, copied = self.copied(line, original, device.name)
                self.assertFalse(copied.moves)
                writes = [pdu for pdu in original.heard if pdu[0] in WRITING]
                self.assertEqual(writes, [])
                self.compare(original.simulated, copy, number)

    def test_limits_gaps_functions_and_what_no_map_names(self) -> None:
        rows = "name,table,address,type\nA,holding,10,uint32\nB,holding,20,uint16\nC,coil,3,\n"
        for keys in (
            "max_registers = 7\nmax_bits = 9\n", 'gaps = "zero"\nmax_registers = 60\n',
            "functions = [1, 3, 4, 6, 43]\n", 'never_read = ["holding 15-19"]\n',
            'server_id = "Old one"\n[line.device.identity]\n0 = "Made-up"\n7 = "x"\n',
        ):  # fmt: skip
            for link in ("tcp://127.0.0.1:502", f"rtu://{self.folder}/port?baud=9600"):
                with self.subTest(keys=keys, link=link):
                    line = self.site(rows, keys, link)
                    original = Original(line, "D")
                    copy, _ = self.copied(line, original)
                    self.compare(original.simulated, copy, 7)
                    for pdu in original.heard:
                        if "never_read" in keys and pdu[0] == 3:
                            first, count = int.from_bytes(pdu[1:3]), int.from_bytes(pdu[3:5])
                            self.assertFalse(first <= 19 and first + count > 15, pdu.hex())
                    shutil.rmtree(self.folder / "copy.kanaleto")
        whole = self.site(rows + "D,holding,12,uint16\nE,holding,22,uint16\n")
        original = Original(whole, "D")
        original.simulated.put("D", 4711)
        known = replace(whole, devices=(replace(whole.devices[0], points=whole.devices[0].points[:3]),))
        copy, _ = self.copied(known, original)
        self.assertEqual(
            copy.answer(bytes.fromhex("03000c0001")), original.simulated.answer(bytes.fromhex("03000c0001"))
        )

    def test_one_that_is_silent_or_has_nothing_to_read(self) -> None:
        line = self.site("name,table,address\nA,holding,0\n")
        original = Original(line, "D")
        original.is_silent = True
        with self.assertRaisesRegex(Silent, "does not answer"):
            asyncio.run(Cloner(original.ask, line.devices[0], 1.0, 0.0).run())
        self.assertLessEqual(len(original.heard), 3)

    def test_what_moved_becomes_a_signal_of_its_kind(self) -> None:
        rows = "name,table,address,type,factor,access\nCount,holding,0,uint16,,\nNoise,holding,1,uint16,0.1,\n"
        rows += "Walk,holding,2,int16,0.1,\nStill,holding,3,uint16,,\nTarget,holding,4,uint16,,rw\nLamp,discrete,0,,,\n"
        line = self.site(rows)
        draw = random.Random(4)
        rounds, walk = [], 200.0
        for at in range(12):
            walk += draw.gauss(0, 3)
            words = {0: 1000 + 2 * at, 1: 500 + round(draw.gauss(0, 4)), 2: round(walk) & 0xFFFF, 3: 9, 4: at}
            rounds.append((float(at), {Table.HOLDING: words, Table.DISCRETE: {0: at % 2}}))
        points = line.devices[0].points
        moves, moved = moves_of(points, rounds)
        self.assertEqual(sorted(moves), ["Count", "Noise", "Walk"])
        self.assertEqual(sorted(moved), ["Count", "Lamp", "Noise", "Target", "Walk"])
        self.assertEqual(moves["Count"], {"counts_s": 1.0, "by": 2.0})
        self.assertAlmostEqual(float(str(moves["Noise"]["formula"])), 50.0, delta=0.5)
        self.assertAlmostEqual(float(str(moves["Noise"]["noise"])), 0.4, delta=0.25)
        self.assertIn("walk", moves["Walk"])
        notes = {point.name: point.note for point in with_guesses(points, moves, moved)}
        self.assertIn("counts 2 each 1 s", notes["Count"])
        self.assertIn("left to masters", notes["Target"])
        self.assertIn("stands still", notes["Lamp"])
        self.assertEqual(notes["Still"], "")

    def test_nothing_that_was_edited_is_written_over(self) -> None:
        line = self.site("name,table,address\nA,holding,0\n")
        original, out = Original(line, "D"), self.folder / "copy.toml"
        self.copied(line, original)
        self.assertEqual(why_not_written(out), "")
        self.copied(line, original)
        text, table = out.read_text(), self.folder / "copy-d.csv"
        for path, more in ((out, "# mine\n"), (table, "B,holding,1\n")):
            before = path.read_text()
            path.write_text(before + more)
            self.assertRegex(why_not_written(out), f"{path.name} was edited since")
            path.write_text(before)
        out.write_text('[site]\nname = "Mine"\n')
        self.assertIn("is no clone", why_not_written(out))
        out.write_text(text)
        self.assertIn("ends in .toml", why_not_written(self.folder / "x.txt"))
        self.assertIn("no folder", why_not_written(self.folder / "a" / "x.toml"))

    def test_by_the_command_from_a_site_and_from_a_line(self) -> None:
        port = free_port()
        self.site("name,table,address,initial\n" + "".join(f"A{at},holding,{at},{at + 1000}\n" for at in range(12)),
                  link=f"tcp://127.0.0.1:{port}")  # fmt: skip

        def run(*arguments: str) -> "subprocess.CompletedProcess[str]":
            return subprocess.run(
                [sys.executable, "-m", "kanaleto.cli", *arguments], capture_output=True, text=True, cwd=self.folder,
                timeout=240,
            )  # fmt: skip

        nobody = run("clone", "site.toml", "no.toml", "--yes")
        self.assertEqual((nobody.returncode, nobody.stderr.count("\n") >= 1), (1, True))
        self.assertFalse((self.folder / "no.toml").exists())
        serving = subprocess.Popen(
            [sys.executable, "-m", "kanaleto.cli", "serve", "site.toml"], stdout=subprocess.PIPE, text=True,
            cwd=self.folder,
        )  # fmt: skip
        self.addCleanup(serving.wait)
        self.addCleanup(serving.terminate)
        assert serving.stdout is not None
        self.addCleanup(serving.stdout.close)
        self.assertEqual(serving.stdout.readline(), "ready\n")
        done = run("clone", "site.toml", "one.toml", "--yes", "--json", "--for", "4")
        told = json.loads(done.stdout)
        self.assertEqual(
            (told["unit_id"], told["points"], told["differs"], done.returncode), (5, 12, 0, 0), done.stderr
        )
        done = run("clone", f"tcp://127.0.0.1:{port}", "two.toml", "--yes", "--json", "--unit", "5", "--for", "12")
        told = json.loads(done.stdout)
        self.assertEqual((told["unit_id"], done.returncode), (5, 0), done.stderr)
        site, _ = load_site(self.folder / "two.toml")
        copy = Units(site.lines[0], False).devices[0]
        self.assertEqual(copy.words(Table.HOLDING, 0, 12), [1000 + at for at in range(12)])
        for arguments, code in (
            (("site.toml", "one.toml", "--unit", "9", "--yes"), 2), (("nowhere.toml", "x.toml", "--yes"), 2),
            (("site.toml", "x.csv", "--yes"), 2), (("site.toml", "one.toml", "--at", "no://x", "--yes"), 2),
        ):  # fmt: skip
            self.assertEqual(run("clone", *arguments).returncode, code, arguments)


class Words(Copies):
    def test_a_point_begins_with_its_words(self) -> None:
        rows = (
            "name,table,address,type,bit,words,initial\nA,holding,0,float32,,0x41A0 0000,\nB,holding,2,bool,3,0xFFFF,\n"
            "C,holding,2,bool,0,0x0000,\nD,coil,0,,,1,\nE,input,5,uint16,,0xffff,\nF,holding,9,uint16,,,7\n"
        )
        simulated = SimulatedDevice(self.site(rows).devices[0])
        self.assertEqual([simulated.value(name) for name in "ABCDEF"], [20.0, 1, 0, 1, 65535, 7])
        simulated.put("A", 1.0)
        simulated.begin_again()
        self.assertEqual(simulated.value("A"), 20.0)

    def test_words_that_are_none_are_told(self) -> None:
        for cell, text in (
            ("float32,0x41A0,", "2 registers in hexadecimal, as 0x41A0 41A0"), ("uint16,zz,", "1 register in hex"),
            ("uint16,0x0001,5", "words and initial both say"),
        ):  # fmt: skip
            with self.assertRaises(FaultyFile) as caught:
                self.site(f"name,table,address,type,words,initial\nA,holding,0,{cell}\n")
            self.assertIn(text, str(caught.exception.faults[0]))
            self.assertEqual(caught.exception.faults[0].line, 2)


if __name__ == "__main__":
    unittest.main()
