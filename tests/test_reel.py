"""All exchanges that are kept as one list: tape and ring, captures, in the order of first bytes, none twice, none
missing."""

import os
import random
import threading
import time
from collections import deque
from collections.abc import Callable, Sequence
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from kanaleto.board.listener import Exchange
from kanaleto.capture.capturefile import CaptureFile
from kanaleto.capture.filter import FAILED, parse_filter
from kanaleto.capture.jsonlines import CapturedLine
from kanaleto.capture.packing import head_line, heads, pack
from kanaleto.capture.parts import RowsPart
from kanaleto.capture.ranked import RankedRows
from kanaleto.capture.recorder import ExchangeRecorder
from kanaleto.capture.reel import Reel, Search
from kanaleto.capture.row import ExchangeRow
from kanaleto.capture.seam import Seam
from kanaleto.capture.tape import files_of
from kanaleto.lines.outcome import OutcomeKind
from tests.exchanges import START_US, TCP, InFolder, exchange, told_by_the_engine


def _until(is_so: Callable[[], bool], within_s: float = 20.0) -> bool:
    end = time.monotonic() + within_s
    while time.monotonic() < end:
        if is_so():
            return True
        time.sleep(0.005)
    return is_so()


def _all(ranked: RankedRows) -> list[ExchangeRow]:
    return [found.row for found in ranked.rows(0, len(ranked))]


class InRanks(InFolder):
    @given(
        st.lists(st.lists(st.integers(0, 40), min_size=1, max_size=12), max_size=8),
        st.integers(0, 99),
        st.integers(0, 45),
    )
    @settings(max_examples=300, deadline=None)
    def test_each_rank_is_the_row_that_sorting_all_would_give(
        self, keyed: list[list[int]], number: int, key: int
    ) -> None:
        parts = [RowsPart(keys, [exchange(0)._replace(at_us=own) for own in keys]) for keys in keyed]
        ranked = RankedRows(parts)
        wanted = sorted(own for keys in keyed for own in keys)
        self.assertEqual(len(ranked), len(wanted))
        self.assertEqual(ranked.rank_of(key), sum(own < key for own in wanted))
        if wanted:
            found = ranked.read(number % len(wanted))
            assert found is not None
            self.assertEqual(found.key, wanted[number % len(wanted)])
            self.assertEqual(found.row.at_us, found.key)

    def test_of_many_blocks_only_those_that_overlap_are_read(self) -> None:
        read: list[int] = []

        class Counted(RowsPart):
            def order(self) -> Sequence[int]:
                read.append(self.first)
                return super().order()

        source = random.Random(3)
        parts, wanted = [], []
        for block in range(400):
            keys = [block * 1000 + source.randrange(-300, 1300) for _ in range(200)]
            wanted += keys
            parts.append(Counted(keys, [exchange(0)] * 200))
        source.shuffle(parts)
        ranked = RankedRows(parts)
        wanted.sort()
        for rank in (0, 1, 7_777, 40_000, 79_999):
            read.clear()
            found = ranked.read(rank)
            assert found is not None
            self.assertEqual(found.key, wanted[rank])
            self.assertLess(len(read), 8)
            read.clear()
            self.assertEqual(ranked.rank_of(wanted[rank]), wanted.index(wanted[rank]))
            self.assertLess(len(read), 8)


class Session:
    """A ring as a session has one, and its recorder."""

    def __init__(self, folder: Path, most: int = 4000) -> None:
        self.now_s = START_US / 1e6
        self.troubles: list[tuple[str, str]] = []
        self.recorder = ExchangeRecorder(
            lambda: self.now_s, lambda what, text: self.troubles.append((what, text)), lambda path, why: None
        )
        self.recorder.follow(folder, "Alder Lock", frozenset())
        self.exchanges: deque[Exchange] = deque(maxlen=most)
        self.number = 0
        self.told: list[int] = []

    def ask(self, count: int, set_back_s: float = 0.0) -> None:
        for _ in range(count):
            self.number += 1
            own = told_by_the_engine(self.number, OutcomeKind.TIMEOUT if self.number % 50 == 0 else OutcomeKind.GOOD)
            self.now_s += 0.01
            own = replace(own, wall_s=own.outcome.asked_at + START_US / 1e6 - 1000 - set_back_s)
            self.exchanges.append(own)
            self.recorder.on_exchange(own)

    def ring(self) -> tuple[Seam, list[Exchange]]:
        seam = self.recorder.seam
        return seam, list(self.exchanges)


def _numbers(rows: Sequence[ExchangeRow]) -> list[int]:
    """The number of each, which its request carries as its address."""
    return [int.from_bytes(row.request[8:10]) for row in rows]


class TapeAndRing(InFolder):
    def _reel(self, session: Session | None, path: Path | None = None) -> Reel:
        reel = Reel(path or self.folder / "tape", session.ring if session is not None else None)
        self.addCleanup(reel.close)
        return reel

    def _shown(self, reel: Reel) -> list[int]:
        reel.look(20)
        return _numbers(_all(reel.newest))

    def test_none_twice_none_missing_wherever_the_seam_is(self) -> None:
        session = Session(self.folder / "tape", most=700)
        reel = self._reel(session)
        source = random.Random(5)
        for _ in range(60):
            session.ask(source.randrange(1, 60))
            if source.random() < 0.5:
                session.recorder.flush()
            if source.random() < 0.2:
                session.now_s += 700  # another file
            self.assertEqual(self._shown(reel), list(range(1, session.number + 1)))

    def test_what_the_disk_did_not_take_is_shown_while_the_ring_has_it(self) -> None:
        session = Session(self.folder / "tape")
        reel = self._reel(session)
        session.ask(100)
        session.recorder.flush()
        session.now_s += 2
        session.recorder.flush()
        whole, session.recorder.tape.__dict__["_write"] = session.recorder.tape, _full  # type: ignore[union-attr]
        session.ask(100)
        session.recorder.flush()
        session.now_s += 2
        session.recorder.flush()
        session.ask(30)
        session.recorder.flush()  # not tried: it has a while to mend
        self.assertEqual(self._shown(reel), list(range(1, 231)))
        self.assertTrue(any(what == "tape" and text for what, text in session.troubles))
        del whole.__dict__["_write"]  # type: ignore[union-attr]
        session.now_s += 20
        session.ask(70)
        session.recorder.flush()
        session.now_s += 2
        session.recorder.flush()
        self.assertEqual(self._shown(reel), list(range(1, 301)))
        self.assertEqual(len(_all(self._of_disk())), 170)

    def _of_disk(self) -> RankedRows:
        reel = self._reel(None)
        reel.look(20)
        return reel.newest

    def test_a_clock_that_is_set_back_leaves_rows_in_order(self) -> None:
        session = Session(self.folder / "tape")
        reel = self._reel(session)
        session.ask(40)
        session.recorder.flush()
        session.ask(40, set_back_s=3600)
        session.now_s += 2
        session.recorder.flush()
        session.ask(10, set_back_s=3600)
        session.recorder.flush()
        session.ask(10)
        session.now_s += 2
        session.recorder.flush()
        self.assertEqual(self._shown(reel), list(range(1, 101)))
        again = self._reel(None)
        self.assertEqual(self._shown(again), list(range(1, 101)))

    def test_another_program_that_writes_into_the_same_folder_is_there_too(self) -> None:
        session = Session(self.folder / "tape")
        session.ask(100)
        session.recorder.flush()
        session.now_s += 2
        session.recorder.flush()
        other = self.folder / "tape" / "20231114-221320-000000-1.tape"
        block = pack([exchange(n) for n in range(1001, 1011)])
        other.write_bytes(head_line({}) + block + block[:30])  # it is writing
        reel = self._reel(session)
        self.assertEqual(sorted(self._shown(reel)), [*range(1, 101), *range(1001, 1011)])
        with other.open("ab") as file:
            file.write(block[30:])
        self.assertEqual(len(self._shown(reel)), 120)

    def test_a_file_that_the_ring_takes_away_meanwhile(self) -> None:
        session = Session(self.folder / "tape")
        for _ in range(4):
            session.ask(300)
            session.now_s += 700
            session.recorder.flush()
        reel = self._reel(session)
        reel.look(20)
        before = reel.newest
        files_of(self.folder / "tape")[0].unlink()
        found = [before.read(rank) for rank in range(len(before))]
        lost = sum(row is None for row in found)
        self.assertTrue(0 < lost <= 600)
        self.assertEqual(_numbers([row.row for row in found if row]), list(range(lost + 1, 1201)))
        self.assertEqual(self._shown(reel), list(range(lost + 1, 1201)))

    def test_without_a_folder_there_is_the_ring(self) -> None:
        session = Session(self.folder / "tape", most=50)
        session.recorder.follow(None, "", frozenset())
        session.ask(80)
        session.recorder.flush()
        reel = Reel(None, session.ring)
        self.addCleanup(reel.close)
        self.assertEqual(self._shown(reel), list(range(31, 81)))

    def test_a_search_finds_what_looking_at_each_would_and_goes_on_with_what_comes(self) -> None:
        session = Session(self.folder / "tape")
        reel = self._reel(session)
        session.ask(500)
        session.now_s += 2
        session.recorder.flush()
        reel.look(20)
        for text in ("outcome:silent", "-outcome:good device:Pump", "address:100-120", "device:nobody outcome:silent"):
            wanted = parse_filter(text)
            search = reel.search(wanted)
            self.assertTrue(_until(lambda search=search: search.is_over and search.of > 0))  # type: ignore[misc]
            self.assertEqual(_all(search.ranked), [row for row in _all(reel.newest) if wanted.fits(row)], text)
        search = reel.search(parse_filter("").narrowed(FAILED))
        session.ask(500)
        reel.look(20)
        self.assertTrue(_until(lambda: search.is_over and len(search.ranked) == 20))
        session.recorder.flush()
        session.now_s += 2
        session.recorder.flush()
        reel.look(20)
        self.assertTrue(_until(lambda: search.is_over and len(search.ranked) == 20))

    def test_blocks_in_which_nobody_failed_so_are_not_read(self) -> None:
        path = self.folder / "a.tape"
        with path.open("wb") as file:
            file.write(head_line({}))
            for block in range(50):
                kind = OutcomeKind.TIMEOUT if block == 7 else OutcomeKind.GOOD
                file.write(
                    pack([exchange(block * 100 + n, kind=kind if n == 3 else OutcomeKind.GOOD) for n in range(100)])
                )
        data = bytearray(path.read_bytes())
        with path.open("rb") as file:
            spoilt = [head for number, head in enumerate(heads(file, [], "a")) if number != 7]
        for head in spoilt:  # whoever reads one of these finds it damaged
            data[head.end - 4 : head.end] = b"\0\0\0\0"
        path.write_bytes(data)
        reel = self._reel(None, path)
        reel.look(20)
        search = reel.search(parse_filter("outcome:silent"))
        self.assertTrue(_until(lambda: search.is_over and search.of > 0))
        self.assertEqual(_numbers(_all(search.ranked)), [703])
        nobody = reel.search(parse_filter("outcome:silent device:Other"))
        self.assertTrue(_until(lambda: nobody.is_over and nobody.of > 0))
        self.assertEqual(len(nobody.ranked), 0)


class Captures(InFolder):
    def _reel(self, path: Path) -> Reel:
        reel = Reel(path)
        self.addCleanup(reel.close)
        self.assertTrue(_until(lambda: not reel.is_opening))
        reel.look(20)
        return reel

    def test_of_every_form_the_same_list(self) -> None:
        told = [
            exchange(n, kind=list(OutcomeKind)[n % 6])._replace(last_us=3000 + n % 7 * 100_000) for n in range(9000)
        ]
        told.sort(key=lambda row: row.at_us + row.last_us)
        for name in ("a.jsonl", "a.pcapng"):
            capture = CaptureFile(self.folder / name, "S", [CapturedLine("Line", TCP)])
            capture.put(told)
            capture.close()
        (self.folder / "a.tape").write_bytes(head_line({}) + pack(told[:5000]) + pack(told[5000:]))
        wanted = sorted(told, key=lambda row: row.at_us)
        for name in ("a.jsonl", "a.pcapng", "a.tape"):
            with self.subTest(name):
                self.assertTrue(_all(self._reel(self.folder / name).newest) == wanted)

    def test_the_clock_of_a_capture_was_set_back_or_a_row_stands_out_of_order(self) -> None:
        told = [exchange(n) for n in range(100)]
        told[30:30] = [exchange(1)._replace(line="Late")]
        told += [exchange(n)._replace(at_us=START_US + n * 10_000 - 3_600_000_000) for n in range(100, 200)]
        capture = CaptureFile(self.folder / "a.jsonl", "S", [])
        capture.put(told)
        capture.close()
        shown = _all(self._reel(self.folder / "a.jsonl").newest)
        self.assertEqual(_numbers([row for row in shown if row.line != "Late"]), list(range(200)))
        self.assertIn(shown[2].line, ("Late", "Line"))
        self.assertLess([row.line for row in shown].index("Late"), 3)

    def test_what_is_none_is_told(self) -> None:
        (self.folder / "a.txt").write_text("words")
        self.assertIn("none of these", self._reel(self.folder / "a.txt").trouble)

    def test_its_copy_goes_with_it(self) -> None:
        capture = CaptureFile(self.folder / "a.jsonl", "S", [])
        capture.put([exchange(1)])
        capture.close()
        reel = self._reel(self.folder / "a.jsonl")
        copy = reel._copy
        assert copy is not None
        self.assertTrue(copy.is_dir())
        reel.close()
        self.assertTrue(_until(lambda: not copy.exists()))

    def test_rows_of_all_are_given_up_for_the_next_and_in_their_last_moment(self) -> None:
        capture = CaptureFile(self.folder / "a.jsonl", "S", [CapturedLine("Line", TCP)])
        capture.put([exchange(n) for n in range(5000)])
        capture.close()
        reel = self._reel(self.folder / "a.jsonl")
        first, last = 0, 1 << 62
        early = reel.each(reel.newest, first, last, lambda row: time.sleep(0.001))
        got = list[ExchangeRow]()
        late = reel.each(reel.newest, first, last, got.append)

        def cancels_at_the_end(row: ExchangeRow) -> None:
            got.append(row)
            if len(got) == 5000:
                ended.cancel()

        late.result(20)
        self.assertTrue(early.cancelled())
        self.assertEqual(len(got), 5000)
        got.clear()
        ended = reel.each(reel.newest, first, last, cancels_at_the_end)
        self.assertTrue(_until(ended.cancelled))
        again = list[ExchangeRow]()
        reel.each(reel.newest, first, last, again.append).result(20)
        self.assertEqual(len(again), 5000)


def _full(rows: object, now_us: int) -> None:
    raise OSError(28, os.strerror(28))


class Searching(InFolder):
    def test_the_newest_is_found_first(self) -> None:
        parts = [RowsPart([n], [exchange(n, kind=OutcomeKind.TIMEOUT)._replace(at_us=n)]) for n in range(500)]
        search = Search(parse_filter("outcome:silent"))
        search.begin(parts)
        search.step(0.0)
        search._publish()
        self.assertEqual([row.at_us for row in _all(search.ranked)], [499])


class SlowDisk(InFolder):
    def test_a_disk_that_hangs_costs_a_screen_one_short_wait(self) -> None:
        path = self.folder / "a.tape"
        with path.open("wb") as file:
            file.write(head_line({}) + pack([exchange(n) for n in range(3000)]))
        reel = Reel(path)
        self.addCleanup(reel.close)
        self.assertTrue(_until(lambda: not reel.is_opening))
        reel.look(20)
        hangs, has_begun = threading.Event(), threading.Event()
        self.addCleanup(hangs.set)

        def hang() -> None:
            has_begun.set()
            hangs.wait(30)

        reel.do(hang)
        self.assertTrue(has_begun.wait(10))
        began = time.monotonic()
        for rank in range(0, 2400, 60):  # forty rows of many chunks, as a page asks for them
            self.assertIsNone(reel.want(reel.newest, rank, 0.02))
        self.assertLess(time.monotonic() - began, 0.5)
        hangs.set()
        self.assertTrue(_until(lambda: reel.want(reel.newest, 60, 0.1) is not None))
