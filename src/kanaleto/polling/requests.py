"""One-off requests that wait for a line. Every one of them ends with one outcome, whatever happens to the line."""

import asyncio
from collections import deque

from msgspec import Struct

from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.site.model import Device
from kanaleto.wire.pdu import Request

_MOST = 1000


class OneOff(Struct):
    """A request, and the future of its outcome."""

    unit_id: int
    device: Device | None
    request: Request
    timeout_s: float
    future: asyncio.Future[Outcome]

    def end(self, outcome: Outcome) -> None:
        if not self.future.done():
            self.future.set_result(outcome)

    def fail(self, error: Exception) -> None:
        """It cannot be asked."""
        if not self.future.done():
            self.future.set_exception(error)

    def refuse(self, why: str, now: float) -> None:
        """It is not asked, or was under way when the line went."""
        self.end(Outcome(OutcomeKind.UNREACHABLE, self.unit_id, b"", b"", None, now, now, 0.0, now, why))


class Requests:
    """Those of one line, in the order of their coming. For the loop's thread."""

    def __init__(self) -> None:
        self.ended_because = ""
        self._waiting: deque[OneOff] = deque()

    def __bool__(self) -> bool:
        return bool(self._waiting)

    def add(self, unit_id: int, request: Request, timeout_s: float, device: Device | None) -> OneOff:
        """Raises OverflowError when too many wait already."""
        if len(self._waiting) >= _MOST:
            raise OverflowError(f"{_MOST} requests wait for this line already")
        loop = asyncio.get_running_loop()
        one = OneOff(unit_id, device, request, timeout_s, loop.create_future())
        if self.ended_because:
            one.refuse(self.ended_because, loop.time())
        else:
            self._waiting.append(one)
        return one

    def take(self) -> OneOff:
        return self._waiting.popleft()

    def refuse_all(self, why: str, now: float) -> None:
        while self._waiting:
            self._waiting.popleft().refuse(why, now)

    def end(self, why: str) -> None:
        """The line is done with: what waits, and what is added from now on, is refused."""
        self.ended_because = self.ended_because or why
        self.refuse_all(self.ended_because, asyncio.get_running_loop().time())
