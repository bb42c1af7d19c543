"""Whose request goes out next on one line that many masters share. No clock, no line: times come in, requests go out.

Masters take turns, and each keeps its own order. In a round, every master that waits has one turn; who has a write at
its head goes before the others of that round. So whoever asks seldom waits for the exchange that runs and for one
request of each other master. The same read that waits or runs is asked once for all who ask it: only bits and
registers, only behind the last write to that unit, and only for a master that waits for nothing else. Each master's
waiting is bounded, and so is how long a request waits.
"""

from collections import deque
from collections.abc import Callable, Hashable
from typing import Any

from msgspec import Struct, field

from kanaleto.wire.codes import ExceptionCode

_MOST_KNOWN = 100  # masters that wait for nothing and are known still: those that connect for each request are many

Ended = Callable[[bytes | None, bool], None]
"""Is given the PDU that answers, or None for silence, and whether another master's request brought it."""


class Waiter(Struct, eq=False):
    """One request of one master; `ended` is called once, however it ends."""

    master: Hashable
    until_s: float
    came_s: float
    ended: Ended
    is_over: bool = False

    def end(self, pdu: bytes | None, is_shared: bool = False) -> None:
        """With its answer; the second end of two is none."""
        if not self.is_over:
            self.is_over = True
            self.ended(pdu, is_shared)


class BridgedRequest(Struct, eq=False):
    """What goes out once: unit ID there and PDU, for one master or several that ask the same."""

    unit_id: int
    pdu: bytes
    reads: bool
    key: tuple[int, bytes, int] | None
    waiters: list[Waiter]
    retries: int = 0
    sent_s: float | None = None
    data: Any = None

    def answer(self, pdu: bytes | None) -> None:
        """Everybody who waits for it gets that."""
        for number, waiter in enumerate(self.waiters):
            waiter.end(pdu, is_shared=number > 0)

    @property
    def is_wanted(self) -> bool:
        """Whether anybody still waits for it."""
        return any(not waiter.is_over for waiter in self.waiters)


class _Master(Struct, eq=False):
    waiting: deque[BridgedRequest] = field(default_factory=deque)
    served_round: int = -1


class MasterTurns:
    """The requests that wait for one line. `most` of `ask` is how many of one master may wait."""

    def __init__(self) -> None:
        self._masters: dict[Hashable, _Master] = {}  # in the order in which they take turns
        self._round = 0
        self._shared: dict[tuple[int, bytes, int], BridgedRequest] = {}
        self._writes: dict[int, int] = {}  # by unit ID there: how many writes have come so far

    def __len__(self) -> int:
        return sum(len(master.waiting) for master in self._masters.values())

    def writes_to(self, unit_id: int) -> int:
        """How many writes to a unit there have come so far."""
        return self._writes.get(unit_id, 0)

    def waiting_of(self, master: Hashable) -> int:
        known = self._masters.get(master)
        return len(known.waiting) if known is not None else 0

    def ask(
        self, unit_id: int, pdu: bytes, waiter: Waiter, reads: bool, may_share: bool, most: int, retries: int = 0,
        data: Any = None,
    ) -> BridgedRequest | None:  # fmt: skip
        """Take a request; None where it was answered busy at once: too many of its master wait."""
        master = self._masters.setdefault(waiter.master, _Master())
        if not reads:
            self._writes[unit_id] = self._writes.get(unit_id, 0) + 1
        key = (unit_id, pdu, self._writes.get(unit_id, 0)) if may_share else None
        same = self._shared.get(key) if key is not None else None
        if same is not None and same.is_wanted and not master.waiting:
            same.waiters.append(waiter)
            return same
        if len(master.waiting) >= most:
            waiter.end(busy(pdu))
            return None
        turn = BridgedRequest(unit_id, pdu, reads, key, [waiter], retries, data=data)
        master.waiting.append(turn)
        if key is not None:
            self._shared[key] = turn
        return turn

    def take(self, now_s: float) -> BridgedRequest | None:
        """What goes out now; what waited too long before it is answered busy."""
        while (chosen := self._chosen(now_s)) is not None:
            name, master = chosen
            turn = master.waiting.popleft()
            master.served_round = self._round
            del self._masters[name]  # it takes its next turn behind all others
            self._masters[name] = master
            if turn.is_wanted:
                turn.sent_s = now_s
                return turn
            self._forget(turn)
        return None

    def _chosen(self, now_s: float) -> tuple[Hashable, _Master] | None:
        is_full = len(self._masters) > _MOST_KNOWN
        for name in [name for name, master in self._masters.items() if not self._waits(master, now_s)]:
            if is_full or self._masters[name].served_round < self._round:
                del self._masters[name]
        waiting = [(name, master) for name, master in self._masters.items() if master.waiting]
        if not waiting:
            return None
        due = [(name, master) for name, master in waiting if master.served_round < self._round]
        if not due:
            self._round += 1
            due = waiting
        return next(((name, master) for name, master in due if not master.waiting[0].reads), due[0])

    def _waits(self, master: _Master, now_s: float) -> bool:
        """Whether it still waits for anything, once what waited too long has ended."""
        while master.waiting:
            turn = master.waiting[0]
            for waiter in turn.waiters:
                if waiter.until_s <= now_s:
                    waiter.end(busy(turn.pdu))
            if turn.is_wanted:
                return True
            master.waiting.popleft()
            self._forget(turn)
        return False

    def expire(self, now_s: float) -> None:
        """What waited too long is answered busy, and never sent."""
        for master in self._masters.values():
            for turn in list(master.waiting):
                for waiter in turn.waiters:
                    if waiter.until_s <= now_s:
                        waiter.end(busy(turn.pdu))
                if not turn.is_wanted:
                    master.waiting.remove(turn)
                    self._forget(turn)

    @property
    def next_end_s(self) -> float | None:
        """When something waits too long, if nothing happens before."""
        ends = [
            waiter.until_s
            for master in self._masters.values()
            for turn in master.waiting
            for waiter in turn.waiters
            if not waiter.is_over
        ]
        return min(ends, default=None)

    def done(self, turn: BridgedRequest, pdu: bytes | None) -> None:
        """It has gone out, and this came of it."""
        self._forget(turn)
        turn.answer(pdu)

    def answer_all(self, unit_id: int | None, answer: Callable[[bytes], bytes | None]) -> None:
        """All that waits for a unit, or for the line, ends at once; `answer` makes it from the request."""
        for master in self._masters.values():
            for turn in list(master.waiting):
                if unit_id is None or turn.unit_id == unit_id:
                    master.waiting.remove(turn)
                    self.done(turn, answer(turn.pdu))

    def _forget(self, turn: BridgedRequest) -> None:
        if turn.key is not None and self._shared.get(turn.key) is turn:
            del self._shared[turn.key]


def refused(pdu: bytes, code: ExceptionCode) -> bytes:
    """The exception that answers a request."""
    return bytes(((pdu[0] & 0x7F) | 0x80, code))


def busy(pdu: bytes) -> bytes:
    """What a request is answered that waited too long, or one too many."""
    return refused(pdu, ExceptionCode.SERVER_DEVICE_BUSY)
