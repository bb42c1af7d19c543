"""Routines: their files with every fault, their steps on the virtual clock, faults at each step."""

import asyncio
import unittest
from collections.abc import Callable

from msgspec.structs import replace

from kanaleto.control.control import Control
from kanaleto.control.order import Consent, Result
from kanaleto.control.routine import Routine, with_variables
from kanaleto.control.routinerun import RoutineRun, StepOutcome
from kanaleto.events.log import EventKind
from kanaleto.site.model import Site
from kanaleto.wire.frames import Frame
from kanaleto.wire.rtu import Rtu
from tests.controlled import DRIVE, Controlled, controlled, routines_of
from tests.simulated import Fault, Pieces, SimulatedLine, device

START = """name = "Start"
device = "Drive"
on_failure = "Make safe"
[variables]
target = 80.0
[[step]]
write = { "Command word" = ["Acknowledge"] }
[[step]]
wait = "not bit([Status word], 'Fault')"
within_s = 2
[[step]]
keep = { "Command word" = ["Enable", "Open"] }
every_s = 0.5
safe = []
[[step]]
write = { "Target" = "target / 2" }
[[step]]
ramp = { "Target" = { from = 0, to = "target", by = 40, every_s = 0.5 } }
while = "[Position] < 70"
[[step]]
ask = "Is the gate free?"
[[step]]
hold_s = 2
[[step]]
check = "abs([Target] - target) < 0.1"
[[step]]
release = "Command word"
"""
SAFE = """name = "Make safe"
device = "Drive"
[[step]]
write = { "Command word" = { raw = 0 }, "Horn" = true }
"""


def site() -> Site:
    return SimulatedLine(device("Drive", 7, DRIVE, 0.2)).site


class Files(unittest.TestCase):
    def test_sound_ones(self) -> None:
        found, faults = routines_of(site(), start=START, safe=SAFE)
        self.assertEqual((sorted(found), faults), (["Make safe", "Start"], []))
        self.assertEqual(len(found["Start"].steps), 9)
        self.assertEqual(found["Start"].steps[2].text, "keep Command word = Enable and Open alive every 0.5 s")

    def test_every_fault_at_once_with_its_line(self) -> None:
        wrong = """name = "Wrong"
device = "Drive"
on_failure = "Nothing"
speed = 3
[variables]
min = 3
[[step]]
write = { "Traget" = 3 }
[[step]]
write = { "Target" = 140 }
[[step]]
write = { "Target" = ["Enable"] }
[[step]]
write = { "Position" = 3 }
[[step]]
wait = "bit([Status word], 'Broken')"
[[step]]
wait = "[Nowhere] > 3"
within_s = -1
[[step]]
hold_s = "long"
[[step]]
check = "1 +"
ask = "both?"
[[step]]
ramp = { "Target" = { from = 0, upto = 3 } }
[[step]]
keep = { "Command word" = ["Run"] }
"""
        found, faults = routines_of(site(), wrong=wrong)
        self.assertEqual(found, {})
        told: dict[int, str] = {}
        for fault in faults:
            told[fault.line] = f"{told.get(fault.line, '')} {fault.text}"
        for line, text in (
            (4, "speed"), (6, "cannot be called"), (8, "did you mean 'Target'"), (10, "above 100"),
            (12, "no word of bits"), (14, "read-only"), (16, "no bit 'Broken'"), (18, "Nowhere"), (19, "within_s"),
            (21, "hold_s"), (26, "needs to"), (22, "one thing"), (26, "upto"), (28, "no bit of"),
        ):  # fmt: skip
            with self.subTest(line=line):
                self.assertIn(text, told.get(line, ""), told)

    def test_circles_names_and_broken_files(self) -> None:
        circle = SAFE.replace('device = "Drive"', 'device = "Drive"\non_failure = "Start"')
        _, faults = routines_of(site(), start=START, safe=circle)
        self.assertTrue(all("circle: " in fault.text for fault in faults))
        self.assertEqual(len(faults), 2)
        for text, why in (
            ("name = 'A\n", "no TOML|not TOML"), ("", "has no name"),
            ('name = "A"\ndevice = "Dr"\n[[step]]\nhold_s = 1\n', "not in the site"),
            ('name = "A"\ndevice = "Drive"\n', "no \\[\\[step"), (SAFE.replace("step", "steps"), "not known"),
        ):  # fmt: skip
            with self.subTest(text=text):
                _, faults = routines_of(site(), one=text)
                self.assertRegex(" ".join(map(str, faults)), why)
        _, faults = routines_of(site(), one=SAFE, two=SAFE)
        self.assertIn("already", faults[0].text)

    def test_variables_in_expressions(self) -> None:
        plain = with_variables("abs([target] - target) < bit(x, 'target') + targets", ["target"])
        self.assertEqual(plain, "abs([target] - [$target]) < bit(x, 'target') + targets")


class Runs(unittest.TestCase):
    def _run(
        self, fault: Fault | None = None, answer: bool = True, after_s: float = 0.0,
        meanwhile: Callable[[Controlled, RoutineRun], None] | None = None, **texts: str,
    ) -> tuple[RoutineRun, list[bytes], list[str]]:  # fmt: skip
        found: list[tuple[RoutineRun, list[bytes], list[str]]] = []

        async def work(rig: Controlled) -> None:
            rig.control.routines, faults = routines_of(rig.session.site, **(texts or {"start": START, "safe": SAFE}))
            self.assertEqual(faults, [])
            await rig.control.send(rig.order("Often", "1"))
            began = len(rig.wrote)
            rig.line.fault = fault
            run = rig.control.run("Start")
            ending = asyncio.create_task(rig.control.finished(run))
            begun_s = asyncio.get_running_loop().time()
            has_met = False
            while not ending.done():
                if run.state.question:
                    rig.control.answer(run.state.number, answer)
                if meanwhile is not None and not has_met and asyncio.get_running_loop().time() - begun_s >= after_s:
                    has_met = True
                    meanwhile(rig, run)
                await asyncio.sleep(0.05)
            self.assertEqual(rig.control.alive, ())
            events = [event.text for event in rig.session.events.ring if event.kind is EventKind.ROUTINE]
            found.append((run, rig.wrote[began:], events))
            self.assertEqual(
                rig.session.events.going_on, [e for e in rig.session.events.going_on if e.kind is not EventKind.ROUTINE]
            )
            self.assertTrue(rig.rows_match(), rig.ledger.counts)

        controlled(work)
        return found[0]

    def test_from_end_to_end(self) -> None:
        run, wrote, events = self._run()
        self.assertEqual(run.state.outcome, "done", run.state.said)
        self.assertTrue(all(step.outcome is StepOutcome.DONE for step in run.state.steps))
        targets = [int.from_bytes(pdu[3:]) for pdu in wrote if pdu[:3] == b"\x06\x00\x01"]
        self.assertEqual(targets, [4000, 0, 4000, 8000])
        commands = [pdu[-1] for pdu in wrote if pdu[:3] == b"\x06\x00\x00"]
        self.assertEqual((commands[0], set(commands[1:-1]), commands[-1]), (0x80, {3}, 0))
        self.assertEqual(len(events), 1)

    def test_a_fault_at_each_step(self) -> None:
        """Whatever fails, what was kept ends, the routine for its failure runs, and no step behind it does."""

        def silent_for(head: bytes) -> Fault:
            return lambda frame, at, right: [] if frame.pdu.startswith(head) else right

        def refuses(head: bytes) -> Fault:
            def fault(frame: Frame, at: float, right: Pieces) -> Pieces:
                answer = Rtu().encode(7, bytes((frame.pdu[0] | 0x80, 4)))
                return [(at + 0.01, answer)] if frame.pdu.startswith(head) else right

            return fault

        cases = (
            (refuses(b"\x06\x00\x00\x00\x80"), 0, "exception 4"),
            (silent_for(b"\x03"), 0, ""),
            (refuses(b"\x06\x00\x00\x00\x03"), 2, "exception 4"),
            (refuses(b"\x06\x00\x01\x0f\xa0"), 3, "exception 4"),
            (refuses(b"\x06\x00\x01\x1f\x40"), 4, "exception 4"),
        )
        for number, (fault, at, why) in enumerate(cases):
            with self.subTest(number=number):
                run, wrote, _ = self._run(fault)
                outcomes = [step.outcome for step in run.state.steps]
                self.assertEqual(run.state.outcome, "failed")
                if number != 1:
                    self.assertEqual(outcomes.index(StepOutcome.FAILED), at, run.state.said)
                    self.assertEqual(wrote[-2:], [b"\x06\x00\x00\x00\x00", b"\x05\x00\x00\xff\x00"])
                self.assertIn(why, run.state.said)
                failed = outcomes.index(StepOutcome.FAILED)
                self.assertEqual(set(outcomes[failed + 1 :]), {StepOutcome.SKIPPED})

    def test_what_is_waited_for_does_not_come(self) -> None:
        def put(rig: Controlled, run: RoutineRun) -> None:
            rig.line.units.devices[0].put("Status word", 0x8000)

        run, _, _ = self._run(meanwhile=put)
        self.assertEqual(run.state.outcome, "failed")
        self.assertRegex(run.state.said, r"step 2.*not within 2 s \(Status word is 32768\)")

    def test_no_stopped_and_locked(self) -> None:
        run, _, _ = self._run(answer=False)
        self.assertIn("answer was no", run.state.said)
        run, wrote, _ = self._run(meanwhile=lambda rig, run: rig.control.stop_run(run.state.number), after_s=1.5)
        self.assertEqual((run.state.outcome, wrote[-1]), ("stopped", b"\x06\x00\x00\x00\x00"))
        run, wrote, events = self._run(meanwhile=lambda rig, run: rig.control.lock_now("locked by hand"), after_s=0.7)
        self.assertIn("locked by hand", run.state.said)
        self.assertEqual(wrote[-1], b"\x06\x00\x00\x00\x00")  # the safe value of what it kept alive
        self.assertIn("locked by now", events[-1])

    def test_the_line_dies_in_the_middle(self) -> None:
        run, _, _ = self._run(meanwhile=lambda rig, run: rig.session.switch_line("Line", False), after_s=1.2)
        self.assertEqual(run.state.outcome, "failed")

    def test_what_a_routine_keeps_alive_is_its_own(self) -> None:
        """A person's write of it is refused with the holder's name, and takes over when the person says so."""
        seen: list[Result] = []

        def write(rig: Controlled, run: RoutineRun) -> None:
            async def work() -> None:
                order = rig.order("Command word", "Open off")
                seen.append(await rig.control.send(order))
                order = rig.order("Command word", "Acknowledge")
                seen.append(await rig.control.send(order.with_consent(Consent.HOLDER)))

            self._task = asyncio.get_running_loop().create_task(work())

        self._run(meanwhile=write, after_s=0.9)
        self.assertEqual(seen[0].needs, Consent.HOLDER, seen[0].text)
        self.assertIn("Command word", seen[0].text)
        self.assertTrue(seen[1].is_done, seen[1].text)

    def test_a_dry_run_sends_nothing(self) -> None:
        async def work(rig: Controlled) -> None:
            rig.control.routines, _ = routines_of(rig.session.site, start=START, safe=SAFE)
            run = rig.control.run("Start", {"target": 40}, is_dry=True)
            self.assertEqual(await rig.control.finished(run), "done")
            self.assertEqual((rig.wrote, rig.control.runs[-1].steps[0].outcome), ([], StepOutcome.WOULD))
            self.assertIn("06 00 00 00 80", run.state.steps[0].said)
            self.assertIn("06 00 01 07 D0", run.state.steps[3].said)

        controlled(work)

    def test_step_by_step(self) -> None:
        async def work(rig: Controlled) -> None:
            rig.control.routines, _ = routines_of(rig.session.site, safe=SAFE)
            run = rig.control.run("Make safe", by_steps=True)
            await rig.running.for_s(5)
            self.assertEqual((rig.wrote, run.state.waits_to_go), ([], True))
            rig.control.go(run.state.number)
            await rig.running.for_s(1)
            self.assertEqual(run.state.outcome, "done")
            with self.assertRaises(KeyError):
                rig.control.run("No such")
            with self.assertRaises(ValueError):
                rig.control.run("Make safe", {"x": 1})

        controlled(work)

    def test_upon_an_event_at_most_so_often(self) -> None:
        upon = SAFE.replace("[[step]]", "upon = \"bit([Status word], 'Fault')\"\nat_most_every_s = 20\n[[step]]", 1)

        async def work(rig: Controlled) -> None:
            control: Control = rig.control
            routine: Routine = routines_of(rig.session.site, safe=upon)[0]["Make safe"]
            control.take_routines({routine.name: routine}, [])
            drive = rig.line.units.devices[0]
            await rig.running.for_s(2)
            for number in range(6):
                drive.put("Status word", 0x8000)
                await rig.running.for_s(3)
                drive.put("Status word", 0)
                await rig.running.for_s(3)
                self.assertEqual(len(control.runs), 1 + number // 4, number)
            drive.put("Status word", 0x8000)
            control.lock_now("locked by hand")
            await rig.running.for_s(40)
            texts = [event.text for event in rig.session.events.ring if event.kind is EventKind.ROUTINE]
            self.assertIn("was not run", texts[-1])

        controlled(work)

    def test_upon_what_happens_to_its_device(self) -> None:
        upon = SAFE.replace("[[step]]", 'upon = "device lost"\n[[step]]', 1)

        async def work(rig: Controlled) -> None:
            routines, faults = routines_of(rig.session.site, safe=upon)
            self.assertEqual(faults, [])
            rig.control.take_routines(routines, [])
            rig.line.fault = lambda frame, at, right: []
            await rig.running.for_s(20)
            self.assertEqual([run.outcome for run in rig.control.runs], ["failed"])

        controlled(work)

    def test_a_write_that_wants_a_word_asks_for_it(self) -> None:
        text = SAFE.replace('"Horn" = true', '"Kept back" = 5').replace("Make safe", "Start")
        run, wrote, _ = self._run(start=text)
        self.assertEqual((run.state.outcome, wrote[-1]), ("done", b"\x06\x00\x06\x00\x05"), run.state.said)
        run, wrote, _ = self._run(start=text, answer=False)
        self.assertEqual(run.state.outcome, "failed")


class Changed(unittest.TestCase):
    def test_a_point_that_is_no_more(self) -> None:
        async def work(rig: Controlled) -> None:
            rig.control.routines, _ = routines_of(rig.session.site, safe=SAFE)
            bare = replace(rig.line.line.devices[0], points=rig.line.line.devices[0].points[1:])
            rig.session.take_over(replace(rig.line.site, lines=(replace(rig.line.line, devices=(bare,)),)))
            run = rig.control.run("Make safe")
            self.assertEqual(await rig.control.finished(run), "failed")
            self.assertIn("not in the site any more", run.state.said)

        controlled(work)
