"""What a line's poller tells, and whom; and what a session passes on."""

from typing import NamedTuple, Protocol

from kanaleto.lines.outcome import Outcome
from kanaleto.planning.plan import Block
from kanaleto.polling.board import Readings, Record
from kanaleto.polling.events import EventKind
from kanaleto.site.model import Device, Line
from kanaleto.wire.pdu import Request


class Exchange(NamedTuple):
    """One row of the exchange list. `number` counts up over the whole site; `attempt` is 0 for the first try."""

    number: int
    wall_s: float
    line: Line
    device: Device | None
    request: Request
    outcome: Outcome
    attempt: int


class Listener(Protocol):
    """Whom a poller tells: the session."""

    def on_exchange(
        self, line: Line, device: Device | None, request: Request, outcome: Outcome, attempt: int
    ) -> None: ...

    def on_record(self, block: Block, record: Record) -> None: ...

    def on_read(self, block: Block) -> None: ...

    def on_refused(self, block: Block, why: str) -> None: ...

    def on_unreachable(self, line: Line, why: str) -> None: ...

    def on_event(self, kind: EventKind, line: str, device: str, text: str, going_on: object = None) -> None: ...

    def end_event(self, line: str, device: str, going_on: object) -> None: ...


class Sink(Protocol):
    """Whoever else wants to hear of all that is polled. Called on the engine's loop: it must not take long."""

    def on_exchange(self, exchange: Exchange) -> None: ...

    def on_record(self, block: Block, record: Record, board: Readings) -> None: ...

    def on_unreachable(self, line: Line, why: str) -> None: ...
