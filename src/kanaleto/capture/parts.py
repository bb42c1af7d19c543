"""Parts of a list of exchanges: a block of a tape, read when it is looked at; what the ring of a session holds; and
those rows of either that fit a filter."""

from array import array
from collections import OrderedDict
from collections.abc import Sequence
from pathlib import Path
from threading import Lock

from kanaleto.capture.filter import FAILED, ExchangeFilter
from kanaleto.capture.packing import BlockHead, Failures, Unpacked, body_of, failures_in
from kanaleto.capture.ranked import Gone, RowPart
from kanaleto.capture.row import ExchangeRow
from kanaleto.lines.outcome import OutcomeKind

_MOST_BYTES = 12_000_000


class BlockCache:
    """Blocks that were read of late, bounded by what they hold. For any thread."""

    def __init__(self, most_bytes: int = _MOST_BYTES) -> None:
        self._blocks: OrderedDict[tuple[Path, int], Unpacked] = OrderedDict()
        self._held = 0
        self._most = most_bytes
        self._lock = Lock()

    def read(self, path: Path, head: BlockHead) -> Unpacked:
        """Raises Gone."""
        with self._lock:
            return self._read(path, head)

    def _read(self, path: Path, head: BlockHead) -> Unpacked:
        key = (path, head.place)
        block = self._blocks.get(key)
        if block is not None:
            self._blocks.move_to_end(key)
            return block
        try:
            with path.open("rb") as file:
                block = Unpacked(body_of(file, head), head.rows)
        except (OSError, ValueError) as error:
            raise Gone(str(error)) from None
        self._blocks[key] = block
        self._held += block.held
        while self._held > self._most and len(self._blocks) > 1:
            self._held -= self._blocks.popitem(last=False)[1].held
        return block


class TapePart:
    """A block of a tape."""

    def __init__(self, path: Path, head: BlockHead, cache: BlockCache) -> None:
        self.path, self.head, self._cache = path, head, cache
        self.count = head.rows
        self.first, self.last = head.first_us + head.shift_us, head.last_us + head.shift_us

    def _block(self) -> Unpacked:
        return self._cache.read(self.path, self.head)

    def order(self) -> Sequence[int]:
        shift_us, block = self.head.shift_us, self._block()
        return [at_us + shift_us for at_us in block.at_us] if shift_us else block.at_us

    def row(self, number: int) -> ExchangeRow:
        return self._block().row(number)

    def failures(self) -> list[Failures] | None:
        """Who failed how; None where it is not known without reading all of it."""
        try:
            with self.path.open("rb") as file:
                return failures_in(file, self.head)
        except OSError:
            return None

    def fitting(self, wanted: ExchangeFilter) -> "array[int]":
        """Numbers of the rows that fit. Raises Gone."""
        head = self.head
        if not head.may_have(wanted.kinds) or head.last_us < wanted.from_us or head.first_us >= wanted.to_us:
            return array("I")
        if wanted.names and wanted.kinds <= FAILED:
            failures = self.failures()
            if failures is not None and not any(_fits_names(wanted, one) for one in failures):
                return array("I")
        block = self._block()
        numbers = range(len(block)) if wanted.kinds == frozenset(OutcomeKind) else block.of_kinds(wanted.kinds)
        return array("I", [number for number in numbers if wanted.fits(block.row(number))])


def _fits_names(wanted: ExchangeFilter, failed: Failures) -> bool:
    row = ExchangeRow(
        0, failed.line, "", "", failed.device, failed.unit_id, failed.kind, 0, b"", b"", 0, 0, 0, ""
    )  # fmt: skip
    return failed.kind in wanted.kinds and all(test(row) for test in wanted.names)


class RowsPart:
    """Rows in memory."""

    def __init__(self, keys: Sequence[int], rows: Sequence[ExchangeRow]) -> None:
        self._keys, self._rows = keys, rows
        self.count = len(rows)
        self.first, self.last = (min(keys), max(keys)) if keys else (0, 0)

    def order(self) -> Sequence[int]:
        return self._keys

    def row(self, number: int) -> ExchangeRow:
        return self._rows[number]

    def fitting(self, wanted: ExchangeFilter) -> "array[int]":
        return array("I", [number for number, row in enumerate(self._rows) if wanted.fits(row)])


class FittingPart:
    """Those rows of a part that fit a filter."""

    def __init__(self, part: RowPart, numbers: "array[int]") -> None:
        self._part, self._numbers = part, numbers
        self.count = len(numbers)
        keys = part.order() if numbers else ()
        ours = [keys[number] for number in numbers]
        self.first, self.last = (min(ours), max(ours)) if ours else (0, 0)

    def order(self) -> Sequence[int]:
        keys = self._part.order()
        return [keys[number] for number in self._numbers]

    def row(self, number: int) -> ExchangeRow:
        return self._part.row(self._numbers[number])

    def fitting(self, wanted: ExchangeFilter) -> "array[int]":
        return array("I", [number for number in range(self.count) if wanted.fits(self.row(number))])
