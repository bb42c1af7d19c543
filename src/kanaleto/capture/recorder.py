"""Hears of every exchange, and has it on tape a moment later, and in the captures that were asked for. The engine only
puts it into a queue; rows are built from it, packed and written on the keeper's thread. What a disk does not take in
time is counted and reported."""

from collections import deque
from collections.abc import Callable, Sequence
from pathlib import Path

from kanaleto.board.listener import EXCHANGES_KEPT, Exchange, Sink
from kanaleto.capture.capturefile import CaptureFile
from kanaleto.capture.packing import pack_exchanges
from kanaleto.capture.row import ExchangeRow, row_of
from kanaleto.capture.seam import Seam
from kanaleto.capture.tape import AFTER_US, Tape
from kanaleto.events.log import Event, stands_for
from kanaleto.files.origins import look_around, origin_of
from kanaleto.site.model import Line

_MOST_WAITING = 100_000
_AGAIN_S = 10.0

OnTrouble = Callable[[str, str], None]
"""What is in trouble ("tape", "capture"), and why in one sentence; "" when it is not any more."""
OnAside = Callable[[Path, str], None]
"""A file that was laid aside, and why."""


_MOST_LOST = 100
_JUMP_S = 0.25  # the clock is anchored again when it is off by twice that


class ExchangeRecorder(Sink):
    """`tape` and `captures` are changed by `follow`, `capture` and the keeper's thread only. `wall` gives seconds since
    1970."""

    def __init__(self, wall: Callable[[], float], on_trouble: OnTrouble, on_aside: OnAside) -> None:
        self._wall, self._on_trouble, self._on_aside = wall, on_trouble, on_aside
        self._waiting: deque[Exchange] = deque()
        self._links: dict[str, tuple[Line, int, tuple[str, str]]] = {}
        self._upon: frozenset[str] = frozenset()
        self._wanted_aside: deque[tuple[float, str]] = deque(maxlen=200)  # by any thread
        self._to_lay_aside: deque[tuple[float, str]] = deque(maxlen=20)  # the keeper's own
        self._troubles: dict[str, str] = {}
        self._next_try_s = 0.0
        self.under_way_since_s: Callable[[], float] = lambda: 0.0
        self.tape: Tape[Exchange] | None = None
        self.captures: list[CaptureFile] = []
        self.lost = 0
        self._reported_lost = 0
        self._offset_s: float | None = None  # of wall time from the loop's
        self._shift_us = 0
        self._dropped: deque[int] = deque(maxlen=EXCHANGES_KEPT)
        self._lost_ranges: list[tuple[int, int]] = []
        self._last_number = 0
        self.seam = Seam()
        """One assignment after each writing: for any thread."""

    # The engine's thread

    def on_exchange(self, exchange: Exchange) -> None:
        if len(self._waiting) < _MOST_WAITING:
            self._waiting.append(exchange)
        else:
            self.lost += 1
            self._dropped.append(exchange.number)

    def on_stray(self, exchange: Exchange) -> None:
        self.on_exchange(exchange)

    def on_event(self, event: Event) -> None:
        """For the log: the minutes round what was chosen are laid aside. Once for what comes close together."""
        if any(stands_for(event, word) for word in self._upon) and event.count == 1 and event.ended_wall_s is None:
            who = event.device or event.line
            self.lay_aside(event.wall_s, f"{who}: {event.text}" if who else event.text)

    def lay_aside(self, at_s: float, why: str) -> None:
        """Keep the minutes round that moment."""
        self._wanted_aside.append((at_s, why))

    # The keeper's thread, or under its lock

    def follow(self, folder: Path | None, site: str, upon: frozenset[str]) -> None:
        """From now on another site's, with its tape in that folder; what has come goes on the one before."""
        self._write()
        self._lay_aside(is_over=True)
        if self.tape is not None:
            self._try("tape", "the tape cannot be written", lambda tape: tape.write_rest(self._now_us()))
        self._waiting.clear()
        self._links.clear()
        self._upon = upon
        self.tape = Tape(folder, {"site": site}, self._pack) if folder is not None else None
        self.seam = Seam(number=self._last_number, folder=folder, shift_us=self._shift_us)

    def choose(self, upon: frozenset[str]) -> None:
        """Events, by the words of their kinds, upon which minutes are laid aside."""
        self._upon = upon

    def flush(self) -> None:
        self._write()
        self._lay_aside(is_over=False)
        self._tell_seam([])

    def close(self) -> None:
        self.follow(None, "", frozenset())
        for capture in self.captures:
            capture.close()

    def _now_us(self) -> int:
        return round(self._wall() * 1e6)

    def _open_since_us(self) -> float:
        """Nothing of before that time is still to come."""
        now_us = self._now_us()
        since_s = self.under_way_since_s()
        return min(since_s * 1e6, now_us) if since_s else now_us

    def _write(self) -> None:
        waiting = self._waiting
        before_us = self._open_since_us()  # looked at first: what ends from here on is not in the queue yet
        exchanges = [waiting.popleft() for _ in range(len(waiting))]
        rows: list[ExchangeRow] = []
        if self.captures:
            rows = [row_of(exchange, *self._from(exchange.line)) for exchange in exchanges]
        for capture in self.captures:
            try:
                capture.put(rows, before_us)
                self._tell("capture", "")
            except OSError as error:
                self.lost += len(rows)
                self._tell(
                    "capture", f"{capture.path} cannot be written: {error.strerror or error}; exchanges are lost"
                )
        now_us = self._now_us()
        if self.lost != self._reported_lost:
            self._reported_lost = self.lost
            self._tell("lost", f"{self.lost} exchanges are on no tape: the disk does not keep up")
        is_tried = self._try("tape", "the tape cannot be written", lambda tape: tape.put(exchanges, now_us))
        if exchanges and not is_tried:
            self._lose(exchanges[0].number, exchanges[-1].number)
        self._tell_seam(exchanges)

    def _tell_seam(self, exchanges: list[Exchange]) -> None:
        if exchanges:
            self._last_number = exchanges[-1].number
        tape, seam = self.tape, self.seam
        if tape is None:
            return
        while self._dropped:
            self._lose(self._dropped[0], self._dropped.popleft())
        waiting = tape.waiting
        number = waiting[0].number - 1 if waiting else self._last_number
        oldest = self._last_number - EXCHANGES_KEPT
        self._lost_ranges = [(first, last) for first, last in self._lost_ranges if last > oldest][-_MOST_LOST:]
        path, size = tape.end
        seam_now = Seam(number, tuple(self._lost_ranges), path, size, self._shift_us, tape.folder)
        if seam_now != seam:
            self.seam = seam_now

    def _lose(self, first: int, last: int) -> None:
        """Exchanges that will not be on tape: the ring alone has them."""
        if self._lost_ranges and self._lost_ranges[-1][1] >= first - 1:
            first = self._lost_ranges.pop()[0]
        self._lost_ranges.append((first, last))

    def _try(self, what: str, fault: str, do: Callable[[Tape[Exchange]], bool]) -> bool:
        """Whether it was tried: a disk that failed has a while to mend."""
        if self.tape is None:
            return False
        now_s = self._wall()
        if 0 <= self._next_try_s - now_s <= _AGAIN_S:
            return False
        try:
            if do(self.tape):  # it does again
                self._tell(what, "")
        except OSError as error:
            if self.tape.waiting:
                self._lose(self.tape.waiting[0].number, self.tape.waiting[-1].number)
            self.tape.forget()
            self._next_try_s = now_s + _AGAIN_S
            self._tell(what, f"{fault}: {error.strerror or error} ({self.tape.folder})")
        return True

    def _pack(self, exchanges: Sequence[Exchange]) -> bytes:
        """A block; more where the clock was set in between."""
        offsets = [exchange.wall_s - exchange.outcome.asked_at for exchange in exchanges]
        known = self._offset_s
        if known is not None and abs(min(offsets) - known) < _JUMP_S and abs(max(offsets) - known) < _JUMP_S:
            return pack_exchanges(exchanges, self._from, self._shift_us)
        blocks, begin = [], 0
        for at, offset_s in enumerate(offsets):
            jump_s = offset_s - self._offset_s if self._offset_s is not None else 0.0
            if abs(jump_s) >= _JUMP_S:
                if at > begin:
                    blocks.append(pack_exchanges(exchanges[begin:at], self._from, self._shift_us))
                begin = at
                self._shift_us = max(self._shift_us - round(jump_s * 1e6), 0)
            if self._offset_s is None or abs(jump_s) >= _JUMP_S:
                self._offset_s = offset_s
        blocks.append(pack_exchanges(exchanges[begin:], self._from, self._shift_us))
        return b"".join(blocks)

    def _from(self, line: Line) -> tuple[str, str]:
        """Its link, and where its answers come from."""
        version = look_around()
        known = self._links.get(line.name)
        if known is None or known[0] is not line or known[1] != version:
            known = self._links[line.name] = (line, version, (str(line.link), origin_of(line).value))
        return known[2]

    def _lay_aside(self, is_over: bool) -> None:
        while self._wanted_aside:
            at_s, why = self._wanted_aside.popleft()
            if not any(0 <= at_s - other_s < AFTER_US / 1e6 for other_s, _ in self._to_lay_aside):
                self._to_lay_aside.append((at_s, why))
        now_s = self._wall()
        while self._to_lay_aside:
            at_s, why = self._to_lay_aside[0]
            if not is_over and 0 <= now_s - at_s < AFTER_US / 1e6:
                return

            def lay(tape: Tape[Exchange], at_s: float = at_s, why: str = why) -> bool:
                tape.write_rest(round(now_s * 1e6))
                path = tape.lay_aside(round(at_s * 1e6), why)
                if path is not None:
                    self._on_aside(path, why)
                return True

            self._try("aside", "nothing can be laid aside", lay)
            self._to_lay_aside.popleft()

    def _tell(self, what: str, text: str) -> None:
        if self._troubles.get(what, "") != text:
            self._troubles[what] = text
            self._on_trouble(what, text)
