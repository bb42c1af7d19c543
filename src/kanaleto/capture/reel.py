"""All exchanges that are kept, as one list: the tape of a site and what its session has in memory, or a capture of
whatever form. A thread of its own reads; whoever shows the list only looks at what was read, so that no screen waits
for a disk.

A tape is read where it lies. A capture of another form is copied into a tape in a folder that goes with it, exchange by
exchange, so that one of a gigabyte needs no more memory than a small one.
"""

import os
import shutil
import tempfile
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, InvalidStateError
from contextlib import suppress
from itertools import islice
from pathlib import Path
from time import monotonic, sleep

from kanaleto.board.listener import Exchange
from kanaleto.capture import packets, packing
from kanaleto.capture.filter import ExchangeFilter
from kanaleto.capture.jsonlines import NoCapture
from kanaleto.capture.parts import BlockCache, FittingPart, RowsPart, TapePart
from kanaleto.capture.ranked import CHUNK, Gone, KeyedRow, RankedRows, RowPart
from kanaleto.capture.reading import Capture
from kanaleto.capture.row import ExchangeRow, row_of
from kanaleto.capture.seam import Seam
from kanaleto.capture.tape import files_of, note_looked_at
from kanaleto.files.origins import origin_of
from kanaleto.supervision.owned import Owned

_STEP_S = 0.02  # of a search, then others come to their turn
_COPIED_ROWS = 4000
_JUMP_US, _LOOKED_AHEAD = 250_000, 20
_AT_THE_END = 60
_SLOW_S = 0.3
_LOST = "some of its blocks cannot be read: their exchanges are shown as …"
_AT_ONCE, _MOST_TOLD = 64, 20
_PUBLISHED_S = 0.1

Ring = Callable[[], tuple[Seam, Sequence[Exchange]]]
"""The seam first, then what is in memory."""


class _File:
    """A file of a tape, as far as it was looked through."""

    def __init__(self) -> None:
        self.parts: list[TapePart] = []
        self.end = 0


class Search:
    """The rows that fit a filter, found from the newest back. `ranked` grows; `is_over` says when all was looked at."""

    def __init__(self, wanted: ExchangeFilter) -> None:
        self.wanted = wanted
        self.ranked = RankedRows(())
        self.is_over = False
        self.looked_at = 0
        self.of = 0
        self._published_s = 0.0
        self._found: dict[RowPart, FittingPart | None] = {}
        self._to_look: list[RowPart] = []

    def begin(self, parts: Sequence[RowPart]) -> None:
        """Go on with these: what was looked at is not looked at again."""
        here = set(parts)
        self._found = {part: found for part, found in self._found.items() if part in here}
        self._to_look = sorted((part for part in parts if part not in self._found), key=lambda part: part.last)
        self.of = len(parts)
        self._publish()

    def step(self, until_s: float) -> bool:
        """Look at parts until that time; whether there is more to look at."""
        while self._to_look:
            part = self._to_look.pop()
            try:
                numbers = part.fitting(self.wanted)
                self._found[part] = FittingPart(part, numbers) if numbers else None
            except Gone:
                self._found[part] = None
            if monotonic() >= until_s:
                break
        if not self._to_look or monotonic() - self._published_s > _PUBLISHED_S:
            self._publish()
        return bool(self._to_look)

    def _publish(self) -> None:
        self._published_s = monotonic()
        self.ranked = RankedRows([found for found in self._found.values() if found is not None])
        self.looked_at = self.of - len(self._to_look)
        self.is_over = not self._to_look


class Reel:
    """`path` is a capture, a tape or the folder of one; `ring` what a session holds beside the folder. `newest` and
    what a search has found may be looked at from any thread, and so may all methods; `on_news` is called on the reel's
    thread when something was read."""

    def __init__(self, path: Path | None, ring: Ring | None = None, on_news: Callable[[], None] = lambda: None) -> None:
        self.path = path
        self.damaged: list[str] = []
        self.trouble = ""
        self.head: dict[str, object] = packing.head_of(path) if path is not None and path.is_file() else {}
        self.is_opening = True
        """Until all of a capture was taken in."""
        self.copied = 0
        self.newest = RankedRows(())
        self._shown: set[RowPart] = set()
        self._ring, self._on_news = ring, on_news
        self._copy: Path | None = None
        self._files: dict[Path, _File] = {}
        self._cache = BlockCache()
        self._memory: tuple[int, list[tuple[int, int, ExchangeRow]]] = (0, [])
        self._jobs: deque[Callable[[], object]] = deque()
        self._wanted: deque[tuple[RankedRows, int]] = deque(maxlen=8)
        self._search: Search | None = None
        self._slow: tuple[Iterator[None], Future[None]] | None = None
        self._looks = 0
        self._slow_until_s = 0.0
        self._wake = threading.Condition()
        self._is_over = False
        self._owned = Owned("exchanges that are kept")
        self._thread = threading.Thread(target=self._run, name="reel", daemon=True)
        self._thread.start()

    # For whoever shows it

    def look(self, wait_s: float = 0.0) -> None:
        """Take in what came since; waited for so long."""
        done = threading.Event()

        def look() -> None:
            self._look()
            done.set()

        with self._wake:
            if self._looks < 2:
                self._looks += 1
                self._jobs.append(look)
                self._wake.notify()
        if wait_s:
            done.wait(wait_s)

    def want(self, ranked: RankedRows, rank: int, wait_s: float = 0.0) -> KeyedRow | None:
        """The row of a rank, where it was read, or is in that time; else it is read, and reported by `on_news`."""
        if ranked.has(rank):
            return ranked.peek(rank)
        with self._wake:
            if (ranked, rank // CHUNK * CHUNK) not in self._wanted:
                self._wanted.append((ranked, rank // CHUNK * CHUNK))
                self._wake.notify()
            if (
                wait_s
                and monotonic() >= self._slow_until_s
                and not self._wake.wait_for(lambda: ranked.has(rank), wait_s)
            ):
                self._slow_until_s = monotonic() + _SLOW_S  # a disk that hangs costs one wait, and not one for each row
        return ranked.peek(rank)

    def find(self, ranked: RankedRows, wanted: KeyedRow, wait_s: float) -> int | None:
        """The rank of a row that was seen, where it is found in that time."""
        return self._asked(lambda: ranked.find(wanted), wait_s)

    def rank_at(self, ranked: RankedRows, key: int, wait_s: float) -> int | None:
        """How many rows stand before a moment, where that is known in that time."""
        return self._asked(lambda: ranked.rank_of(key), wait_s)

    def neighbour(self, ranked: RankedRows, rank: int, step: int, wanted: ExchangeFilter) -> "Future[int | None]":
        """The rank of the next row that fits, or (`step` -1) of the one before; None where there is none."""
        found: Future[int | None] = Future()

        def look() -> None:
            try:
                found.set_result(ranked.neighbour(rank, step, wanted))
            except Exception as error:
                found.set_exception(error)

        self.do(look)
        return found

    def _asked(self, what: Callable[[], int | None], wait_s: float) -> int | None:
        found: list[int | None] = []
        done = threading.Event()

        def look() -> None:
            found.append(what())
            done.set()

        with self._wake:
            self._jobs.appendleft(look)
            self._wake.notify()
        done.wait(wait_s)
        return found[0] if found else None

    def search(self, wanted: ExchangeFilter) -> Search:
        """Begin to look for what fits; the search before ends."""
        search = Search(wanted)

        def begin() -> None:
            self._search = search
            search.begin(self.newest.parts)

        self.do(begin)
        return search

    def each(self, ranked: RankedRows, first: int, last: int, take: Callable[[ExchangeRow], object]) -> "Future[None]":
        """Every row with a key from `first` to `last`, part by part in the order in which a tape has them, when nobody
        waits for anything else; done when it was all. Cancelled by the future, and by the next `each`."""
        done: Future[None] = Future()

        def rows() -> Iterator[None]:
            for part in ranked.parts:
                if part.last < first or part.first > last:
                    continue
                try:
                    order = part.order()
                    for number in range(part.count):
                        if first <= order[number] <= last:
                            take(part.row(number))
                        if not number % _AT_ONCE:
                            yield
                except Gone:
                    continue

        def begin() -> None:
            if self._slow is not None:
                self._slow[1].cancel()
            self._slow = (rows(), done)

        self.do(begin)
        return done

    def end_search(self) -> None:
        def end() -> None:
            self._search = None

        self.do(end)

    def do(self, what: Callable[[], object]) -> None:
        """On the reel's thread, as soon as may be."""
        with self._wake:
            self._jobs.append(what)
            self._wake.notify()

    def close(self) -> None:
        with self._wake:
            self._is_over = True
            self._wake.notify()

    # The reel's thread

    def _run(self) -> None:
        try:
            with self._owned:
                self._open()
            self.is_opening = False
            while not self._is_over:
                with self._owned:
                    self._step()
        finally:
            if self._copy is not None:
                shutil.rmtree(self._copy, ignore_errors=True)
            self._owned.finish()

    def _step(self) -> None:
        with self._wake:
            search = self._search
            has_more = search is not None and not search.is_over
            if not self._jobs and not self._wanted and not has_more and self._slow is None:
                self._wake.wait(1.0)
            wanted = self._wanted.pop() if self._wanted else None
            job = self._jobs.popleft() if wanted is None and self._jobs else None
        if wanted is not None:
            ranked, rank = wanted
            if not ranked.has(rank):
                if ranked.read(rank) is None and self.path is not None and self.path.is_file():
                    self.damaged += [_LOST] if _LOST not in self.damaged else []
                self._tell()
        elif job is not None:
            job()
        elif search is not None and not search.is_over:
            search.step(monotonic() + _STEP_S)
            self._tell()
        elif self._slow is not None:
            self._go_on(*self._slow)

    def _go_on(self, rows: Iterator[None], done: "Future[None]") -> None:
        until_s = monotonic() + _STEP_S
        try:
            while monotonic() < until_s and not done.cancelled():
                next(rows)
        except StopIteration:
            self._slow = None
            with suppress(InvalidStateError):  # cancelled in this moment
                done.set_result(None)
        except Exception as error:
            self._slow = None
            with suppress(InvalidStateError):
                done.set_exception(error)
        if done.cancelled():
            self._slow = None
        sleep(_STEP_S)  # half of the time is others'

    def _tell(self) -> None:
        with self._wake:
            self._wake.notify_all()
        self._on_news()

    def _open(self) -> None:
        """A capture of another form is copied."""
        path = self.path
        if path is None or path.is_dir() or not path.exists():
            return
        try:
            capture = Capture(path)
            if packing.is_tape(path):
                note_looked_at(path)
                return
            self._copy = Path(tempfile.mkdtemp(prefix="kanaleto-"))
            self._copy_all(capture)
            self.damaged += capture.damaged
        except NoCapture as error:
            self.trouble = str(error)
        except OSError as error:
            self.trouble = f"{path} cannot be read: {error.strerror or error}"
        self._look()

    def _copy_all(self, capture: Capture) -> None:
        target = (self._copy or Path()) / "0.tape"
        target.write_bytes(packing.head_line({}))
        said_s = monotonic()
        for rows, shift_us in in_order(capture, is_by_end=not packets.is_packets(capture.path)):
            with target.open("ab") as file:
                file.write(packing.pack(rows, shift_us))
            self.copied += len(rows)
            if self._is_over:
                return
            if monotonic() - said_s > 0.2:
                self._look()
                said_s = monotonic()
            while self._jobs or self._wanted:
                self._step()

    def _look(self) -> None:
        self._looks = max(self._looks - 1, 0)
        seam, exchanges = self._ring() if self._ring is not None else (None, ())
        parts: list[RowPart] = []
        for path in self._paths():
            parts += self._parts_of(path, seam)
        if seam is not None:
            parts.append(self._in_memory(seam, exchanges))
        parts = [part for part in parts if part.count]
        if set(parts) != self._shown:
            self._shown = set(parts)
            newest = RankedRows(parts)
            again = self.newest.in_sight if self.is_opening else []
            for rank in (len(newest) - 1, len(newest) - _AT_THE_END, *again):  # what is shown is needed at once
                if 0 <= rank < len(newest):
                    newest.read(rank)
            self.newest = newest
            if self._search is not None:
                self._search.begin(newest.parts)
                self._search.step(monotonic() + _STEP_S)
        self._tell()

    def _paths(self) -> list[Path]:
        path = self._copy if self._copy is not None else self.path
        if path is None:
            return []
        try:
            return files_of(path) if path.is_dir() else [path]
        except OSError:
            return []

    def _parts_of(self, path: Path, seam: Seam | None) -> Sequence[TapePart]:
        """Blocks of a file: of the one that this program writes as far as the seam says, of others what is whole."""
        reel_file = self._files.get(path)
        if reel_file is None:
            reel_file = self._files[path] = _File()
        end: int | None = None
        if seam is not None and path.name.endswith(f"-{os.getpid()}.tape") and path.parent == seam.folder:
            if seam.path is None or path.name > seam.path.name:
                return ()
            end = seam.size if path == seam.path else None
        try:
            size = path.stat().st_size
            if size < reel_file.end:  # another file of that name
                reel_file.parts, reel_file.end = [], 0
            if (size if end is None else end) > reel_file.end:
                damaged: list[str] = []
                with path.open("rb") as file:
                    for head in packing.heads(file, damaged, path.name, reel_file.end, end):
                        reel_file.parts.append(TapePart(path, head, self._cache))
                        reel_file.end = head.end
                if path == self.path:  # of one that grows, what is cut short is still being written
                    self.damaged += [text for text in damaged if text not in self.damaged][:_MOST_TOLD]
        except FileNotFoundError:  # the ring of the tape has gone on
            self._files.pop(path, None)
            return ()
        except OSError as error:
            self.trouble = f"{path} cannot be read: {error.strerror or error}"
        return reel_file.parts

    def _in_memory(self, seam: Seam, exchanges: Sequence[Exchange]) -> RowsPart:
        """What the session holds and the tape does not."""
        known = {number: (key, row) for number, key, row in self._memory[1]}
        origins: dict[int, tuple[str, str]] = {}
        held: list[tuple[int, int, ExchangeRow]] = []
        for exchange in exchanges:
            if seam.has(exchange.number):
                continue
            found = known.get(exchange.number)
            if found is None:
                line = exchange.line
                of_line = origins.get(id(line))
                if of_line is None:
                    of_line = origins[id(line)] = (str(line.link), origin_of(line).value)
                row = row_of(exchange, *of_line)
                found = row.at_us + seam.shift_us, row
            held.append((exchange.number, *found))
        self._memory = (seam.number, held)
        return RowsPart([key for _, key, _ in held], [row for _, _, row in held])


def in_order(rows: Iterable[ExchangeRow], is_by_end: bool) -> Iterator[tuple[list[ExchangeRow], int]]:
    """Rows of a capture in lots, each with the shift that keeps them in order where the clock of its program was set
    back. Where rows stand in the order of their ends, as in our JSON lines, and one ends earlier than those before, and
    so do all that follow, the clock was set. One alone only stands out of order."""
    source = iter(rows)
    ahead: deque[ExchangeRow] = deque()
    lot: list[ExchangeRow] = []
    shift_us = newest_us = 0
    while True:
        row = ahead.popleft() if ahead else next(source, None)
        if row is None:
            break
        end_us = row.at_us + row.last_us + shift_us
        if is_by_end and end_us < newest_us - _JUMP_US:
            ahead += islice(source, _LOOKED_AHEAD - len(ahead))
            if all(one.at_us + one.last_us + shift_us < newest_us - _JUMP_US for one in ahead):
                if lot:
                    yield lot, shift_us
                    lot = []
                shift_us += newest_us - end_us
                end_us = newest_us
        newest_us = max(newest_us, end_us)
        lot.append(row)
        if len(lot) >= _COPIED_ROWS:
            yield lot, shift_us
            lot = []
    if lot:
        yield lot, shift_us
