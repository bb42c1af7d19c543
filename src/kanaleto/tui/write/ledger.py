"""Where writes of the application are written down."""

from kanaleto.control.ledger import CannotWriteDown, LedgerRow, Left
from kanaleto.tui.keeping import AppKeeping


class LateLedger:
    """The journal's, which is opened once the first frame stands."""

    def __init__(self, keeping: AppKeeping) -> None:
        self._keeping = keeping

    async def begin(self, row: LedgerRow) -> int:
        ledger = await self._keeping.ledger()
        if ledger is None:
            raise CannotWriteDown("the journal is not open yet, so nothing is sent")
        return await ledger.begin(row)

    async def complete(
        self, number: int, wall_s: float, data: dict[str, object], count: int = 1, goes_on: bool = False
    ) -> None:
        ledger = await self._keeping.ledger()
        if ledger is not None:
            await ledger.complete(number, wall_s, data, count, goes_on)

    async def take_back(self, number: int) -> None:
        ledger = await self._keeping.ledger()
        if ledger is not None:
            await ledger.take_back(number)

    async def settle(self, number: int, wall_s: float, told: str) -> None:
        ledger = await self._keeping.ledger()
        if ledger is not None:
            await ledger.settle(number, wall_s, told)

    async def left(self) -> list[Left]:
        ledger = await self._keeping.ledger()
        return await ledger.left() if ledger is not None else []
