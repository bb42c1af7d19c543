"""What is listed in Wire for others, by the ending of the file: a capture, a case, or a drawing."""

from collections.abc import Iterable, Iterator
from itertools import islice
from pathlib import Path

from kanaleto.capture.capturefile import CaptureFile
from kanaleto.capture.filter import ExchangeFilter
from kanaleto.capture.jsonlines import CapturedLine, NoCapture
from kanaleto.capture.ranked import Gone, RankedRows, RowPart
from kanaleto.capture.row import ExchangeRow
from kanaleto.evidence.case import CaseWanted, NoCase, lines_from, settings_of, write_case
from kanaleto.paper.casedocument import draw_case
from kanaleto.paper.exchangemaking import MOST_BARS, exchange_sheet, timing_sheet
from kanaleto.paper.look import NoPaper
from kanaleto.paper.sheets import Sheet
from kanaleto.site.model import Site
from kanaleto.tui.shared.context import Context, Stoppable
from kanaleto.tui.shared.elsewhere import begin_elsewhere
from kanaleto.tui.shared.holder import expanded
from kanaleto.tui.shared.paper import draw_to
from kanaleto.tui.wire_view.source import Source

_QUESTION = "save what is listed: .jsonl .pcapng a capture · .zip a case, .pdf its document · .svg a drawing"
_CAPTURES, _CASES = (".jsonl", ".pcapng"), (".zip", ".pdf")


def ask_export(context: Context, source: Source, row: ExchangeRow | None) -> None:
    """Asks for a file; what is written there is written on a thread."""
    site = context.snapshot.site if source.capture is None else None
    name = source.capture.name if source.capture is not None else context.snapshot.site.name

    def take(text: str) -> Stoppable | str | None:
        try:
            path = expanded(text)
        except ValueError as error:
            return str(error)
        ending = path.suffix.lower()
        if path.exists() and ending != ".svg":
            return f"{path} is there already, and stays as it is; name another file"
        if not path.parent.is_dir():
            return f"{path} cannot be written: its folder does not exist"
        if ending == ".svg":
            return _draw(context, source, row, path, ListedNow(source, site, name))
        if ending not in (*_CAPTURES, *_CASES):
            return f"{path.name} does not tell its form; end it in .jsonl, .pcapng, .zip, .pdf or .svg"
        return _write(context, path, ListedNow(source, site, name))

    context.ask(_QUESTION, "~/exchanges.zip", take)


class ListedNow:
    """What is listed now, to be gone through on another thread: rows are read again, by a reader of its own."""

    def __init__(self, source: Source, site: Site | None, name: str) -> None:
        self.name, self.site, self.wanted = name, site, source.wanted
        self._kept_at, self._text = source.kept_at, source.text
        self._ranked: RankedRows = source.ranked

    def rows(self) -> Iterator[ExchangeRow]:
        for part in self._ranked.parts:
            yield from _rows_of(part, self.wanted)

    def exact_ms(self, row: ExchangeRow) -> float | None:
        """How exact the times of its line are, where that is known."""
        lines = lines_from(self.site, self._kept_at, list)
        return next((line.exact_ms for line in lines if line.name == row.line), None)

    def case(self) -> CaseWanted:
        lines = lines_from(self.site, self._kept_at, self.rows)
        return CaseWanted(f"{self.name}: exchanges", "", self.name, self._text, lines, settings_of(self.site))


def _rows_of(part: RowPart, wanted: ExchangeFilter) -> Iterator[ExchangeRow]:
    """What the ring of the tape has overwritten meanwhile is missing."""
    for number in range(part.count):
        try:
            row = part.row(number)
        except Gone:
            return
        if wanted.fits(row):
            yield row


def _write(context: Context, path: Path, listing: ListedNow) -> Stoppable:
    def work() -> str:
        return f"{_written(path, listing)} exchanges are in {path}"

    refusals = (NoCase, NoPaper, NoCapture, OSError)
    return begin_elsewhere(context, "exchanges for others", "writing …", work, refusals)


def _written(path: Path, listing: ListedNow) -> int:
    wanted = listing.case()
    if path.suffix.lower() in _CASES:
        return write_case(wanted, listing.rows(), path, draw_case).count
    return _captured(path, wanted.source, wanted.lines, listing.rows())


def _captured(path: Path, name: str, lines: list[CapturedLine], rows: Iterable[ExchangeRow]) -> int:
    staged = path.with_name(f".{path.stem}.part{path.suffix}")
    staged.unlink(missing_ok=True)
    capture, count = CaptureFile(staged, name, lines, most_bytes=1 << 40), 0
    try:
        for row in rows:
            capture.put([row], row.at_us - 60_000_000)
            count += 1
        capture.close()
        staged.rename(path)
    finally:
        staged.unlink(missing_ok=True)
    return count


def _draw(
    context: Context, source: Source, row: ExchangeRow | None, path: Path, listing: ListedNow
) -> Stoppable | str | None:
    """The exchange under the cursor; the stretch from there on where only some are listed."""
    if row is None:
        return "no exchange is under the cursor"
    if not source.is_narrowed:
        return draw_to(context, path, lambda: exchange_sheet(row, listing.exact_ms(row)))

    def make() -> Sheet:
        shown = list(islice(listing.rows(), MOST_BARS + 1))
        return timing_sheet(shown, f"{listing.name}: a stretch", listing.exact_ms(row))

    return draw_to(context, path, make)
