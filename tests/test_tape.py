"""Exchanges on disk: packed and read back, damaged, bounded, laid aside."""

import io
import os
import random
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from kanaleto.capture.jsonlines import NoCapture
from kanaleto.capture.packing import body_of, head_line, heads, pack, pack_exchanges, unpack
from kanaleto.capture.reading import Capture
from kanaleto.capture.recorder import ExchangeRecorder
from kanaleto.capture.row import ExchangeRow, row_of
from kanaleto.capture.tape import Tape, aside_of, files_of
from kanaleto.events.log import EventKind, EventLog
from kanaleto.evidence.finding import FindingKind
from kanaleto.evidence.findings import findings_of
from kanaleto.evidence.gathered import Gathered
from kanaleto.lines.outcome import OutcomeKind
from tests.exchanges import START_US, InFolder, exchange, rows, told_by_the_engine
from tests.simulated import SimulatedLine, device, silent
from tests.test_polling import Running
from tests.virtual import run_virtual


def _body(block: bytes) -> bytes:
    file = io.BytesIO(b"a tape\n" + block)
    (head,) = heads(file, [], "block")
    return body_of(file, head)


class Packed(InFolder):
    @given(st.lists(rows, min_size=1, max_size=20))
    @settings(max_examples=100, deadline=None)
    def test_round_trip(self, told: list[ExchangeRow]) -> None:
        block = pack(told)
        self.assertEqual(list(unpack(_body(block), len(told))), told)

    def test_of_exchanges_as_the_engine_tells_them_it_is_the_same_block(self) -> None:
        exchanges = [told_by_the_engine(n, list(OutcomeKind)[n % 6]) for n in range(50)]
        exchanges += [
            replace(exchanges[n], wall_s=1_796_098_244 + (n + 0.5) / 1e6) for n in range(50)
        ]  # between two µs, too
        one = pack_exchanges(exchanges, lambda line: (str(line.link), "real"))
        self.assertEqual(one, pack([row_of(exchange, str(exchange.line.link), "real") for exchange in exchanges]))

    def _tape(self, count: int) -> Path:
        path = self.folder / "a.tape"
        with path.open("wb") as file:
            file.write(head_line({"site": "S"}))
            for first in range(0, count, 100):
                file.write(pack([exchange(number) for number in range(first, first + 100)]))
        return path

    def test_what_is_damaged_costs_its_block_and_is_told(self) -> None:
        path = self._tape(1000)
        whole = path.read_bytes()
        source = random.Random(7)
        for _ in range(200):
            data = bytearray(whole)
            place = source.randrange(40, len(data))
            kind = source.choice(("bit", "cut", "hole"))
            if kind == "bit":
                data[place] ^= 1 << source.randrange(8)
            elif kind == "cut":
                del data[place:]
            else:
                del data[place : place + source.randrange(1, 900)]
            path.write_bytes(data)
            capture = Capture(path)
            read = list(capture)
            for row in read:
                self.assertEqual(row, exchange((row.at_us - START_US) // 10_000), "a value that was never written")
            if len(read) < 1000 and kind != "cut":
                self.assertTrue(capture.damaged)
            lost = 1000 - len(read)
            self.assertTrue(kind == "cut" or lost <= 300, f"{kind} at {place}: {lost} lost")

    def test_bytes_of_anything_end_in_words(self) -> None:
        source = random.Random(3)
        path = self.folder / "x"
        heads_of = (
            b"",
            b"kanaleto tape 1 {}\nKBLK",
            b"\x0a\x0d\x0d\x0a",
            b'{"kanaleto_capture": 1}\n',
            b"\xd4\xc3\xb2\xa1",
        )
        for _ in range(600):
            path.write_bytes(source.choice(heads_of) + source.randbytes(source.randrange(0, 400)))
            try:
                list(Capture(path))
            except NoCapture:
                continue


class Ring(InFolder):
    def test_on_disk_after_a_second_and_no_more_than_asked(self) -> None:
        tape = Tape(self.folder / "tape", {"site": "S"}, pack)
        tape.put([exchange(1)], START_US)
        self.assertEqual(files_of(self.folder / "tape"), [])
        tape.put([], START_US + 1_100_000)
        self.assertEqual(list(Capture(self.folder / "tape")), [exchange(1)])

    def test_it_is_bounded(self) -> None:
        from kanaleto.capture import tape as module

        kept = module.FILE_BYTES, module.KEPT_BYTES, module.LITTLE_BYTES
        module.FILE_BYTES, module.KEPT_BYTES, module.LITTLE_BYTES = 20_000, 100_000, 50_000
        try:
            tape = Tape(self.folder / "tape", {"site": "S"}, pack)
            source = random.Random(1)
            for number in range(0, 60_000, 500):
                told = [exchange(n, value=source.randrange(65536)) for n in range(number, number + 500)]
                tape.put(told, START_US + number * 10_000)
                tape.write_rest(START_US + number * 10_000)
            size = sum(path.stat().st_size for path in files_of(self.folder / "tape"))
            self.assertLess(size, 130_000)
            numbers = [(row.at_us - START_US) // 10_000 for row in Capture(self.folder / "tape")]
            self.assertEqual(numbers, list(range(numbers[0], 60_000)), "the newest, without a hole")
            for path in files_of(self.folder / "tape"):
                os.utime(path, (0, 0))  # long ago
            tape.prune(START_US)
            self.assertLess(sum(path.stat().st_size for path in files_of(self.folder / "tape")), 75_000)
        finally:
            module.FILE_BYTES, module.KEPT_BYTES, module.LITTLE_BYTES = kept

    def test_the_minutes_round_an_event_are_laid_aside_until_somebody_looks(self) -> None:
        tape = Tape(self.folder / "tape", {"site": "S"}, pack)
        for number in range(0, 200_000, 1000):
            tape.put([exchange(n) for n in range(number, number + 1000)], START_US + number * 10_000)
        tape.write_rest(START_US)
        at_us = START_US + 100_000 * 10_000
        path = tape.lay_aside(at_us, "Pump: fell silent")
        assert path is not None
        numbers = [(head.first_us, head.last_us) for head in self._heads(path)]
        self.assertLessEqual(numbers[0][0], at_us - 600_000_000)
        self.assertGreater(numbers[0][1], at_us - 601_000_000 - 10_000_000)
        self.assertGreaterEqual(numbers[-1][1], at_us + 119_000_000)
        self.assertEqual(aside_of(self.folder / "tape"), [(path, False)])
        capture = Capture(path)
        self.assertEqual(capture.why, "Pump: fell silent")
        next(iter(capture))
        self.assertEqual(aside_of(self.folder / "tape"), [(path, True)])

    def _heads(self, path: Path):  # type: ignore[no-untyped-def]
        with path.open("rb") as file:
            return list(heads(file, [], path.name))

    def test_of_a_polled_line_all_is_on_tape_and_an_outage_is_laid_aside(self) -> None:
        line = SimulatedLine(device("Device", 7), is_serial=False)
        told: list[tuple[Path, str]] = []

        async def work() -> int:
            async with Running(line) as running:
                session = running.session
                recorder = ExchangeRecorder(session.clock.now, lambda *_: None, lambda *a: told.append(a))
                recorder.follow(self.folder / "tape", "S", frozenset({"device lost"}))
                session.listen(recorder)
                session.events.follow(recorder.on_event)
                for second in range(900):
                    line.fault = silent(7) if 300 <= second < 310 else None
                    await running.for_s(1)
                    recorder.flush()
                recorder.close()
                return session.count

        count = run_virtual(work())
        kept = list(Capture(self.folder / "tape"))
        self.assertEqual(len(kept), count)
        self.assertGreater(sum(row.kind is OutcomeKind.TIMEOUT for row in kept), 5)
        ((path, why),) = told
        self.assertIn("Device: fell silent", why)
        aside = list(Capture(path))
        self.assertEqual([row for row in kept if aside[0].at_us <= row.at_us <= aside[-1].at_us], aside)
        self.assertGreater(aside[-1].at_us - aside[0].at_us, 400_000_000)
        gathered = Gathered()
        for row in aside:
            gathered.add(row)
        (found,) = findings_of(list(gathered.lines.values()))
        self.assertEqual(found.kind, FindingKind.SILENT_ALL, "the only device of its line")

    def test_a_disk_that_does_not_do_is_told_and_costs_no_memory(self) -> None:
        (self.folder / "tape").write_text("in its place")
        texts: list[str] = []
        now = [1000.0]
        recorder = ExchangeRecorder(lambda: now[0], lambda what, text: texts.append(text), lambda *_: None)
        recorder.follow(self.folder / "tape", "S", frozenset())
        one = told_by_the_engine(1)
        for _ in range(100):
            for _ in range(1000):
                recorder.on_exchange(one)
            now[0] += 1
            recorder.flush()
        self.assertIn("the tape cannot be written", texts[0])
        self.assertLess(len(texts), 3)

    def test_events_close_together_are_laid_aside_once(self) -> None:
        log = EventLog(lambda: 1000.0)
        recorder = ExchangeRecorder(lambda: 1000.0, lambda *_: None, lambda *_: None)
        recorder.follow(None, "", frozenset({"device lost"}))
        log.follow(recorder.on_event)
        for number in range(50):
            log.note(EventKind.DEVICE_LOST, "L", f"D{number}", "fell silent", going_on="lost")
            log.note(EventKind.GARBLED, "L", f"D{number}", "check bytes", going_on="garbled")
        recorder.flush()
        self.assertEqual(len(recorder._to_lay_aside), 1)
