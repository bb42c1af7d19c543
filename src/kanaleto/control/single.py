"""One write to a unit that nobody polls, as a command makes it: written down first where there is a journal, sent once,
read back where that is wanted. Whether it may be written was asked before (`permission`)."""

from collections.abc import Callable

from msgspec import Struct

from kanaleto.control.ledger import Ledger, LedgerRow
from kanaleto.control.outcomewords import hex_of
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.outcome import Outcome
from kanaleto.lines.readspan import ask_again, read_span, split_reads
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read, ReadAnswer, Request
from kanaleto.wire.records import MaskWrite


class Book(Struct, frozen=True):
    """Where it is written down: line and device as the site names them, its journal, and the wall clock."""

    line: str
    device: str
    ledger: Ledger
    now: Callable[[], float]


class SingleWrite(Struct, kw_only=True):
    """`request` writes `count` items from `address`; `data` is what a read of them must bring then, which for a masked
    register is not known before (`expect`)."""

    unit_id: int
    table: Table
    address: int
    count: int
    request: Request
    data: bytes
    timeout_s: float

    async def expect(self, exchanger: Exchanger) -> None:
        """What a masked register must hold afterwards, from what it holds now."""
        if not isinstance(self.request, MaskWrite):
            return
        now = await ask_again(exchanger, self.unit_id, Read(self.table, self.address, 1), self.timeout_s, 1)
        if isinstance(now.content, ReadAnswer):
            self.data = self.request.result(now.content.words[0]).to_bytes(2)

    async def send(self, exchanger: Exchanger, book: Book | None, by: str) -> Outcome:
        """Once. Raises CannotWriteDown: then nothing was sent."""
        if book is None:
            return await ask_again(exchanger, self.unit_id, self.request, self.timeout_s, 0)
        data: dict[str, object] = {
            "old": "", "new": hex_of(self.data), "unit_id": self.unit_id, "table": self.table.value,
            "address": self.address, "function": int(self.request.function), "by": by,
        }  # fmt: skip
        name, text = f"{self.table.value} {self.address}", f"→ {data['new']}"
        row = LedgerRow(wall_s=book.now(), line=book.line, device=book.device, point=name, text=text, data=data)
        number = await book.ledger.begin(row)
        outcome = await ask_again(exchanger, self.unit_id, self.request, self.timeout_s, 0)
        said = "done" if outcome.is_good else "refused" if outcome.code is not None else "unknown"
        await book.ledger.complete(number, book.now(), {**data, "outcome": said, "told": outcome.reason})
        return outcome

    async def read_back(self, exchanger: Exchanger) -> tuple[bytes, Outcome | None]:
        """What stands there now, or why it could not be read."""
        requests = split_reads(self.table, self.address, self.count, 1, self.table.most_read)
        span = await read_span(exchanger, self.unit_id, requests, self.timeout_s, 1)
        return span.data, span.failure
