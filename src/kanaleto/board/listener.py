"""What a line's poller tells, and whom; and what a session passes on."""

from typing import Protocol

from msgspec import Struct

from kanaleto.board.board import Readings, Record
from kanaleto.board.world import World
from kanaleto.events.log import EventKind
from kanaleto.lines.outcome import Outcome
from kanaleto.planning.plan import Block
from kanaleto.site.model import Device, Line
from kanaleto.wire.pdu import Request

EXCHANGES_KEPT = 4000
"""So many the ring of a session holds."""


class Exchange(Struct, frozen=True, gc=False):
    """One row of the exchange list. `number` counts up over the whole site; `wall_s` is when the first byte of the
    request went; `attempt` is 0 for the first try. What came without an answer's right has no request."""

    number: int
    wall_s: float
    line: Line
    device: Device | None
    request: Request | None
    outcome: Outcome
    attempt: int


class Listener(Protocol):
    """Whom a poller tells: the session."""

    def on_exchange(
        self, line: Line, device: Device | None, request: Request, outcome: Outcome, attempt: int
    ) -> None: ...

    def on_stray(self, line: Line, device: Device | None, outcome: Outcome) -> None: ...

    def on_record(self, block: Block, record: Record) -> None: ...

    def on_read(self, block: Block) -> None: ...

    def on_refused(self, block: Block, why: str) -> None: ...

    def on_unreachable(self, line: Line, why: str) -> None: ...

    def on_event(
        self, kind: EventKind, line: str, device: str, text: str, going_on: object = None, is_spell: bool = False,
        at_s: float | None = None, data: dict[str, object] | None = None,
    ) -> None: ...  # fmt: skip

    def change_event(self, line: str, device: str, going_on: object, text: str) -> None: ...

    def widen_event(
        self, line: str, device: str, going_on: object, widened: object, text: str, data: dict[str, object],
        at_s: float,
    ) -> None: ...  # fmt: skip

    def on_renamed(self, line: str, old: str, new: str) -> None: ...

    def end_event(
        self, line: str, device: str, going_on: object, more: str = "", is_since_last: bool = False
    ) -> None: ...


class Sink:
    """Whoever else wants to hear of all that is polled, of as much of it as it likes. Called on the engine's loop: it
    must not take long."""

    def on_exchange(self, exchange: Exchange) -> None:
        """A request and its outcome."""

    def on_stray(self, exchange: Exchange) -> None:
        """What is no request's outcome: bytes that nobody asked for, or no connection."""

    def on_record(self, block: Block, record: Record, board: Readings) -> None:
        """A block was read."""

    def on_unreachable(self, line: Line, why: str) -> None:
        """A line could not be connected, or was lost."""

    def on_plan(self, world: World) -> None:
        """Points are read otherwise from now on, or others are."""

    def on_second(self, world: World, now_s: float, wall_s: float) -> None:
        """Another second has passed, to loop time `now_s`."""
