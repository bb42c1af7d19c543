"""One-off requests that wait for a line. Every one of them ends with one outcome, whatever happens to the line."""

import asyncio
from collections import deque
from collections.abc import Callable

from msgspec import Struct

from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.site.model import Device
from kanaleto.wire.pdu import Request
from kanaleto.wire.reach import only_reads

_MOST = 1000

May = Callable[[], str]
"""Asked in the instant in which a write would be sent: why it may not be, or nothing."""


Then = Callable[[asyncio.Future[Outcome]], None]


class OneOff(Struct):
    """A request, and the future of its outcome. What writes has a `may`; without one it cannot even be asked for.
    `then` is called as soon as it has ended, before anybody who waits for the future runs: it must not raise."""

    unit_id: int
    device: Device | None
    request: Request
    timeout_s: float
    future: asyncio.Future[Outcome]
    may: May | None = None
    then: Then | None = None
    was_sent: bool = False

    def end(self, outcome: Outcome) -> None:
        if not self.future.done():
            self.future.set_result(outcome)
            if self.then is not None:
                self.then(self.future)

    def fail(self, error: Exception) -> None:
        """It cannot be asked."""
        if not self.future.done():
            self.future.set_exception(error)
            if self.then is not None:
                self.then(self.future)

    def refuse(self, why: str, now: float) -> None:
        """It is not asked, or was under way when the line went: only then the outcome has the request's bytes."""
        request = self.request.encode() if self.was_sent else b""
        self.end(Outcome(OutcomeKind.UNREACHABLE, self.unit_id, request, b"", None, now, now, 0.0, now, why))


class Requests:
    """Those of one line, in the order of their coming. For the loop's thread."""

    def __init__(self) -> None:
        self.ended_because = ""
        self._waiting: deque[OneOff] = deque()
        self._urgent = 0

    @property
    def is_urgent(self) -> bool:
        """Whether the next one waits for nothing that is due."""
        return self._urgent > 0

    def __bool__(self) -> bool:
        return bool(self._waiting)

    def add(
        self, unit_id: int, request: Request, timeout_s: float, device: Device | None, may: May | None = None,
        is_urgent: bool = False, then: Then | None = None,
    ) -> OneOff:  # fmt: skip
        """Raises OverflowError when too many wait already, and ValueError for a write that nobody answers for."""
        if may is None and not only_reads(request.encode()):
            raise ValueError("what writes to a device goes through its own door")
        if len(self._waiting) >= _MOST:
            raise OverflowError(f"{_MOST} requests wait for this line already")
        loop = asyncio.get_running_loop()
        one = OneOff(unit_id, device, request, timeout_s, loop.create_future(), may, then)
        if self.ended_because:
            one.refuse(self.ended_because, loop.time())
        elif is_urgent:
            self._waiting.insert(self._urgent, one)
            self._urgent += 1
        else:
            self._waiting.append(one)
        return one

    def take(self) -> OneOff:
        self._urgent = max(self._urgent - 1, 0)
        return self._waiting.popleft()

    def refuse_all(self, why: str, now: float) -> None:
        while self._waiting:
            self.take().refuse(why, now)

    def end(self, why: str) -> None:
        """The line is done with: what waits, and what is added from now on, is refused."""
        self.ended_because = self.ended_because or why
        self.refuse_all(self.ended_because, asyncio.get_running_loop().time())
