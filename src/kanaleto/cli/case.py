"""`kanaleto case`: exchanges and what they prove, for whoever has to be shown it."""

from collections.abc import Iterator
from functools import cached_property
from pathlib import Path

import click

from kanaleto.capture.filter import ExchangeFilter, parse_filter
from kanaleto.capture.jsonlines import CapturedLine
from kanaleto.capture.row import ExchangeRow
from kanaleto.capture.served import ServedPoints
from kanaleto.cli.failures import Failed
from kanaleto.cli.keptfiles import capture_faults, capture_of, site_of
from kanaleto.cli.moments import micros_of
from kanaleto.cli.output import say
from kanaleto.events.filtering import FilterFault
from kanaleto.evidence.case import CaseWanted, NoCase, lines_from, settings_of, write_case
from kanaleto.paper.casedocument import draw_case
from kanaleto.paper.look import NoPaper


class CaseSource:
    """The exchanges of a capture, or the last hours of a site. Raises click.UsageError."""

    def __init__(self, text: str, where: str | None, from_us: int | None, to_us: int | None) -> None:
        self.text = text
        self.site = site_of(text)
        served = ServedPoints(self.site) if self.site is not None else None
        try:
            wanted = parse_filter(where or "", served.names_of if served is not None else None)
        except FilterFault as error:
            raise click.UsageError(f"--where {where!r}, {error}") from None
        self.wanted: ExchangeFilter = wanted.narrowed(None, from_us, to_us)
        self.capture = capture_of(text, lambda head: head.may_have(self.wanted.kinds))

    def rows(self) -> Iterator[ExchangeRow]:
        """Those that fit, in the order in which they are kept."""
        with capture_faults(self.text):
            for row in self.capture:
                if self.wanted.fits(row):
                    yield row

    @cached_property
    def lines(self) -> list[CapturedLine]:
        """Of the site, or as the head of the capture tells them, or as its rows do."""
        return lines_from(self.site, self.capture.path, self.rows)

    def settings(self) -> list[str]:
        """Timeouts and such, of a site."""
        return settings_of(self.site)


@click.command("case")
@click.argument("capture", metavar="CAPTURE|SITE")
@click.argument("out", type=click.Path(path_type=Path, dir_okay=False), metavar="OUT.zip|OUT.pdf")
@click.option("--where", metavar="FILTER", help="only what fits, as for kanaleto wire")
@click.option("--from", "from_us", metavar="TIME", callback=micros_of, help="2026-05-17T03:00, 03:00, or 2h (ago)")
@click.option("--to", "to_us", metavar="TIME", callback=micros_of, help="up to then, without it")
@click.option("--title", default="", help="what the document is called")
@click.option("--note", default="", help="what stands on each page")
def command(
    capture: str, out: Path, where: str | None, from_us: int | None, to_us: int | None, title: str, note: str
) -> int:
    """Hand exchanges on: OUT.zip holds a document, the capture in both forms, settings, how often each rule of the
    standards was kept, and check sums; OUT.pdf is the document alone. Nothing is overwritten; 1 where nothing fits.

    \b
    Example:
      kanaleto case alder-lock.toml case.zip --where 'device:"Sump pump" outcome:silent' --from 2h --note "pump 3"
    """
    if out.suffix.lower() not in (".zip", ".pdf"):
        raise click.UsageError(f"{out.name} does not tell its form; end it in .zip or .pdf")
    if out.exists():
        raise click.UsageError(f"{out} is there already, and stays as it is; name another file")
    if not out.absolute().parent.is_dir():
        raise click.UsageError(f"{out} cannot be written: there is no folder {out.absolute().parent}")
    source = CaseSource(capture, where, from_us, to_us)
    name = source.site.name if source.site is not None else Path(capture).name
    case_wanted = CaseWanted(title or f"{name}: exchanges", note, name, where or "", source.lines, source.settings())
    try:
        facts = write_case(case_wanted, source.rows(), out, draw_case)
    except NoCase as error:
        raise Failed(str(error)) from None
    except NoPaper as error:
        raise Failed(str(error)) from None
    except OSError as error:
        raise Failed(f"{out} cannot be written: {error.strerror or error}") from None
    for text in source.capture.damaged:
        say(text, err=True)
    say(f"{facts.count} exchanges are in {out}", err=True)
    return 0
