"""`kanaleto export exchange` and `kanaleto export line`: one exchange in both framings, a stretch as timing diagram."""

from collections.abc import Callable
from pathlib import Path

import click

from kanaleto.capture.row import ExchangeRow
from kanaleto.cli.case import CaseSource
from kanaleto.cli.failures import Failed
from kanaleto.cli.output import say
from kanaleto.paper.drawing import write_elsewhere
from kanaleto.paper.exchangemaking import MOST_BARS, exchange_sheet, timing_sheet
from kanaleto.paper.look import NoPaper
from kanaleto.paper.sheets import Sheet

Make = Callable[[list[ExchangeRow], CaseSource], Sheet]


def _exact_ms(source: CaseSource, row: ExchangeRow) -> float:
    return next((line.exact_ms for line in source.lines if line.name == row.line), 0.0)


def _write(capture: str, out: Path, where: str | None, most: int, make: Make) -> int:
    if out.suffix.lower() not in (".svg", ".pdf"):
        raise click.UsageError(f"{out.name} does not tell its form; end it in .svg or .pdf")
    source = CaseSource(capture, where, None, None)
    rows: list[ExchangeRow] = []
    for row in source.rows():
        if row.request:
            rows.append(row)
        if len(rows) > most:
            break
    if not rows:
        raise Failed("nothing fits the filter: nothing was drawn")
    try:
        write_elsewhere(make(rows, source), out)
    except NoPaper as error:
        raise Failed(str(error)) from None
    return len(rows)


@click.command("exchange")
@click.argument("capture", metavar="CAPTURE|SITE")
@click.argument("out", type=click.Path(path_type=Path, dir_okay=False), metavar="OUT.svg|OUT.pdf")
@click.option("--where", metavar="FILTER", help="the first that fits is drawn")
def exchange(capture: str, out: Path, where: str | None) -> int:
    """Draw one exchange, its bytes in boxes, in both framings.

    \b
    Example:
      kanaleto export exchange night.jsonl one.svg --where 'device:"Sump pump" outcome:garbled'
    """
    count = _write(capture, out, where, 1, lambda rows, source: exchange_sheet(rows[0], _exact_ms(source, rows[0])))
    more = "; more fit the filter, the first was drawn" if count > 1 else ""
    say(f"one exchange is in {out}{more}", err=True)
    return 0


@click.command("line")
@click.argument("capture", metavar="CAPTURE|SITE")
@click.argument("out", type=click.Path(path_type=Path, dir_okay=False), metavar="OUT.svg|OUT.pdf")
@click.option("--where", metavar="FILTER", help="which exchanges: a line, a time, a device")
def line(capture: str, out: Path, where: str | None) -> int:
    """Draw a stretch of exchanges as a timing diagram, a lane a device; 200 at most.

    \b
    Example:
      kanaleto export line alder-lock.toml stretch.pdf --where 'line:"East line" from:03:12 to:03:13'
    """

    def make(rows: list[ExchangeRow], source: CaseSource) -> Sheet:
        names = ", ".join(dict.fromkeys(row.line for row in rows))
        return timing_sheet(rows, f"{names[:60]}: a stretch", _exact_ms(source, rows[0]))

    count = _write(capture, out, where, MOST_BARS, make)
    shown = min(count, MOST_BARS)
    say(f"{shown} exchanges are in {out}{'; more fit the filter' if count > shown else ''}", err=True)
    return 0
