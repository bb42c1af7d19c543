"""The connection of one line: whether it stands, why it does not, when it is tried again, and whether anybody still
answers on it."""

import asyncio

from kanaleto.board.listener import Listener
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.outcome import Outcome
from kanaleto.polling.outages import Outages
from kanaleto.site.model import Line
from kanaleto.wire.pdu import Request

_DEAD = 6  # timeouts in a row, with no answer from anybody, until a network connection is made again

AGAIN = "the connection is open and nobody answers on it; connecting again"
OFF, RECONNECTING = "the line is switched off", "reconnecting, as was asked"
OURS = (AGAIN, OFF, RECONNECTING)
"""Why we close a connection ourselves: no fault of the line, and no row of Wire."""
"""Why a connection that nobody answers on is closed: by this program, and no fault of the far end."""


class Connection:
    """`connecting` bounds how many lines connect at once. Times are loop times."""

    def __init__(
        self, line: Line, exchanger: Exchanger, listener: Listener, connecting: asyncio.Semaphore, outages: Outages
    ) -> None:
        self.line = line
        self.exchanger = exchanger
        self.why_unreachable = ""
        self.next_connect_s = 0.0
        self.openings = 0
        """Counts how often it was made."""
        self._listener = listener
        self._connecting = connecting
        self._timeouts_in_a_row = 0
        self.outages = outages

    @property
    def can_ask(self) -> bool:
        """Whether a request may be sent now: on the open connection, or on one of its own."""
        return self.exchanger.is_open or self.line.connects_per_request

    async def open(self) -> None:
        """Raises Unreachable."""
        async with self._connecting:
            await self.exchanger.open()
        self.openings += 1
        self._timeouts_in_a_row = 0
        self.why_unreachable = ""
        self.outages.connected(asyncio.get_running_loop().time())

    async def ask(
        self, unit_id: int, request: Request, timeout_s: float, pause_s: float, pdu: bytes | None = None
    ) -> Outcome:
        """One exchange, on a connection of its own where the line wants that. Raises Unreachable when there is none."""
        if not self.line.connects_per_request:
            return await self.exchanger.ask(unit_id, request, timeout_s, pdu)
        await self.open()
        try:
            await asyncio.sleep(pause_s)
            return await self.exchanger.ask(unit_id, request, timeout_s, pdu)
        finally:
            self.exchanger.close("one request a connection")

    def note_down(self, why: str, next_connect_s: float) -> None:
        """It could not be made, or was lost."""
        self.why_unreachable, self.next_connect_s = why, next_connect_s
        self._listener.on_unreachable(self.line, why)
        self.outages.down(why, self.exchanger.lost_at or asyncio.get_running_loop().time())

    def note_answer(self) -> None:
        """Somebody answers on it."""
        self._timeouts_in_a_row = 0

    def note_timeout(self) -> None:
        """Nobody answered, again; after some of those it is made again: the far end may have forgotten it."""
        self._timeouts_in_a_row += 1
        if self._timeouts_in_a_row >= _DEAD and self.exchanger.framing.has_transactions:
            self._timeouts_in_a_row = 0
            if not self.line.connects_per_request:
                self.exchanger.close(AGAIN)


def same_connection(one: Line, other: Line) -> bool:
    """Whether an edited line may go on with the connection that it has."""
    return (one.link, one.gap_s, one.in_flight, one.connects_per_request) == (
        other.link, other.gap_s, other.in_flight, other.connects_per_request,
    )  # fmt: skip
