"""Rehearsals: our own engine passes, masters that do wrong are failed by the right line, one that never asks makes all
void. The bench steps ten times as fast as the clock."""

import asyncio
import json
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path

from kanaleto.bench.bench import Bench
from kanaleto.bench.rehearsal import RehearsalRun, Verdict, read_rehearsal
from kanaleto.demo.start import copy_site
from kanaleto.files.loading import load_site
from kanaleto.serving.answerer import Master
from kanaleto.site.filefaults import FaultyFile
from tests.test_bench import free_port

MAP = (
    "name,table,address,type,access,initial,labels\n"
    "Level,holding,0,uint16,r,7,\nHorn,holding,1,uint16,rw,0,0=off;1=on\n"
)
STEPS = """name = "One comes and goes"
begin_within_s = 3
[[step]]
at_s = 4
fault = { silent = {} }
device = "One"
for_s = 3
expect = [
  { pace = "others", least = 0.9 },
  { asked_again_within_s = 1 },
  { back_within_s = 1 },
  { point = "[Two/Horn]", is = "on", within_s = 1 },
  { not_written = "[One/Horn]" },
  { writes_every_s = 0.5, point = "[Two/Horn]" },
]
"""
DEMO = "rehearsals/east-line.toml"
READ, BEEP = bytes.fromhex("0300000001"), bytes.fromhex("0600010001")


class Rehearsals(unittest.TestCase):
    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        (self.folder / "m.csv").write_text(MAP)
        self.port = free_port()
        self.site = self.folder / "site.toml"
        devices = "".join(
            f'[[line.device]]\nname = "{name}"\nunit_id = {unit}\nmap = "m.csv"\nperiod_s = 0.2\ntimeout_s = 0.3\n'
            for unit, name in ((1, "One"), (2, "Two"))
        )
        self.site.write_text(
            f'[site]\nname = "S"\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1:{self.port}"\nretries = 0\n{devices}'
        )
        self.file = self.folder / "r.toml"
        self.file.write_text(STEPS)

    def judged(self, master: Callable[[float, Bench], None]) -> dict[str, str]:
        """What becomes of each expectation with a master that does so at each step of the bench."""
        site, _ = load_site(self.site)

        async def work() -> list[Verdict]:
            bench = Bench(site)
            run = RehearsalRun(read_rehearsal(self.file, site), bench)

            async def play() -> None:
                while True:
                    bench.movement.step()
                    master(run.now_s, bench)
                    await asyncio.sleep(0.01)

            playing = asyncio.create_task(play())
            try:
                return await run.run()
            finally:
                playing.cancel()

        return {verdict.expect.split()[0]: verdict.outcome for verdict in asyncio.run(work())}

    @staticmethod
    def ask(bench: Bench, unit: int, pdu: bytes = READ) -> bool:
        return bench.units[0].answer(unit, pdu, Master("m", "L")) is not None

    def test_a_good_master_passes(self) -> None:
        def good(now_s: float, bench: Bench) -> None:
            is_there = self.ask(bench, 1)
            self.ask(bench, 2)
            if not is_there or round(now_s * 10) % 4 == 0:
                self.ask(bench, 2, BEEP)

        self.assertEqual(set(self.judged(good).values()), {"passed"})

    def test_masters_that_do_wrong_are_failed_by_the_right_line(self) -> None:
        gave_up: list[bool] = []

        def gives_up(now_s: float, bench: Bench) -> None:
            if not gave_up and not self.ask(bench, 1):
                gave_up.append(True)
            self.ask(bench, 2)
            self.ask(bench, 2, BEEP)

        def slows(now_s: float, bench: Bench) -> None:
            is_there = self.ask(bench, 1)
            if is_there or round(now_s * 10) % 4 == 0:
                self.ask(bench, 2)
                self.ask(bench, 2, BEEP)

        def writes(now_s: float, bench: Bench) -> None:
            if not self.ask(bench, 1):
                self.ask(bench, 1, BEEP)
            self.ask(bench, 2)
            self.ask(bench, 2, BEEP)

        for master, wrong in (
            (gives_up, {"asked_again_within_s", "back_within_s"}), (slows, {"pace"}), (writes, {"not_written"}),
        ):  # fmt: skip
            with self.subTest(master.__name__):
                found = self.judged(master)
                self.assertEqual({kind for kind, outcome in found.items() if outcome != "passed"}, wrong, found)

    def test_what_is_expected_is_told_in_words(self) -> None:
        rehearsal = read_rehearsal(self.file, load_site(self.site)[0])
        self.assertEqual(
            [one.words for one in rehearsal.steps[0].expect],
            ["others keep 0.9 of their pace", "asked again within 1 s", "answered again within 1 s",
             "[Two/Horn] is on within 1 s", "[One/Horn] is not written", "[Two/Horn] is written every 0.5 s"],
        )  # fmt: skip

    def test_the_engine_passes_the_demo_s_own(self) -> None:
        site_path = copy_site(self.folder / "demo", free_port())
        rehearsing = subprocess.Popen(
            [sys.executable, "-m", "kanaleto.cli", "rehearse", str(site_path), str(site_path.parent / DEMO)],
            stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
        )  # fmt: skip
        self.addCleanup(rehearsing.wait)
        self.addCleanup(rehearsing.kill)
        assert rehearsing.stderr is not None
        self.assertIn("ready", rehearsing.stderr.readline())
        polling = subprocess.Popen(
            [sys.executable, "-m", "kanaleto.cli", "poll", str(site_path), "--quiet"], stdout=subprocess.DEVNULL
        )
        self.addCleanup(polling.wait)
        self.addCleanup(polling.terminate)
        text, _ = rehearsing.communicate(timeout=240)
        self.assertEqual((text.count(": passed"), rehearsing.returncode), (8, 0), text)

    def test_one_that_never_asks_is_void(self) -> None:
        self.assertEqual(set(self.judged(lambda now_s, bench: None).values()), {"void"})

        def leaves(now_s: float, bench: Bench) -> None:
            if now_s < 3:
                self.ask(bench, 1)
            self.ask(bench, 2)

        self.assertEqual(set(self.judged(leaves).values()), {"void"})

    def test_our_own_engine_over_the_command(self) -> None:
        text = STEPS
        for old, new in (
            ('  { point = "[Two/Horn]", is = "on", within_s = 1 },\n', ""),
            ('  { writes_every_s = 0.5, point = "[Two/Horn]" },\n', ""),
            ("least = 0.9", "least = 0.6"), ("within_s = 1 ", "within_s = 8 "), ("at_s = 4", "at_s = 8"),
            ("begin_within_s = 3", "begin_within_s = 90"),
        ):  # fmt: skip
            text = text.replace(old, new)
        self.file.write_text(text)
        command = [sys.executable, "-m", "kanaleto"]
        bench = subprocess.Popen(
            [*command, "rehearse", str(self.site), str(self.file), "--json"], stdout=subprocess.PIPE, text=True
        )
        master = subprocess.Popen([*command, "poll", str(self.site), "--quiet"], stdout=subprocess.DEVNULL)
        try:
            out, _ = bench.communicate(timeout=240)
        finally:
            master.terminate()
            master.wait(60)
        *rows, last = [json.loads(line) for line in out.splitlines()]
        self.assertEqual([row["outcome"] for row in rows], ["passed"] * 4, out)
        self.assertEqual((last["outcome"], last["passed"], bench.returncode), ("passed", 4, 0))

    def test_bench_time_that_was_left_out_makes_void_also_once_it_is_told(self) -> None:
        texts: list[str] = []

        def slow(now_s: float, bench: Bench) -> None:
            self.ask(bench, 1)
            self.ask(bench, 2)
            if 4.5 < now_s < 4.65:
                bench.left_out += 30
                bench._tell, bench._said_s = texts.append, -1e9
                bench._look_around()

        self.assertEqual(set(self.judged(slow).values()), {"void"})
        self.assertIn("this machine is too slow", texts[0])

    def test_what_cannot_be_is_no_expectation(self) -> None:
        site, _ = load_site(self.site)
        for old, new, wanted in (
            ("within_s = 1 }", 'within_s = "soon" }', "within_s = 'soon' is no time in seconds"),
            ("back_within_s = 1", "back_within_s = inf", "back_within_s = inf is no time"),
            ("writes_every_s = 0.5", "writes_every_s = true", "writes_every_s = True is no time"),
            ("least = 0.9", 'least = "all"', "least is a share"),
            ('is = "on"', 'is = "onn"', "Horn is never 'onn' .did you mean 'on'"),
            ('is = "on"', "is = { a = 1 }", "is no number, no label"),
            ("at_s = 4", "at_s = inf", "needs at_s"), ("for_s = 3", "for_s = nan", "for_s is seconds"),
            ("begin_within_s = 3", "begin_within_s = true", "begin_within_s is seconds"),
            (STEPS[STEPS.index("expect") :], "expect = 5\n", "expect is a list"),
        ):  # fmt: skip
            with self.subTest(new):
                self.file.write_text(STEPS.replace(old, new))
                with self.assertRaisesRegex(FaultyFile, wanted):
                    read_rehearsal(self.file, site)

    def test_a_faulty_file_is_told_with_its_lines(self) -> None:
        site, _ = load_site(self.site)
        self.file.write_text(
            'name = "X"\nspeed = 3\n[[step]]\nat_s = 1\nfault = { silnt = {} }\ndevice = "One"\n'
            '[[step]]\nfault = { silent = {} }\ndevice = "One"\n'
            '[[step]]\nat_s = 1\nfault = { silent = {} }\ndevice = "Nobody"\n'
            '[[step]]\nat_s = 1\nfault = { silent = {} }\ndevice = "One"\n'
            'expect = [{ pace = "others" }, { point = "[One/No]", is = 1, within_s = 2 }, { nothing = 1 }]\n'
        )
        with self.assertRaises(FaultyFile) as caught:
            read_rehearsal(self.file, site)
        text = "\n".join(f"{fault.line}: {fault.text}" for fault in caught.exception.faults)
        for wanted in (
            "2: 'speed' is not known", "5: 'silnt' is no fault", "needs at_s", "'Nobody' is no device and no line",
            "18: pace needs least", r"18: \[One/No\] is no point", "18: expects one of pace",
        ):  # fmt: skip
            self.assertRegex(text, wanted)


if __name__ == "__main__":
    unittest.main()
