"""`kanaleto export log`: the journal of a site as CSV, JSON lines, or text for a message."""

import sqlite3
from pathlib import Path

import click

from kanaleto.cli.failures import Failed
from kanaleto.cli.keptfiles import is_site, journal_events
from kanaleto.cli.moments import last_before, micros_of, zone
from kanaleto.cli.output import say
from kanaleto.history.eventtable import LOG_FORMS, write_log


@click.command("log")
@click.argument("site")
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False))
@click.option(
    "--from", "from_us", metavar="TIME", callback=micros_of, help="2026-05-17T03:00, 03:00 (the last), or 2h (ago)"
)
@click.option("--to", "to_us", metavar="TIME", callback=last_before)
def command(site: str, file: Path, from_us: int | None, to_us: int | None) -> int:
    """Write what happened to SITE to FILE: .csv, .jsonl, or .txt to be sent as a message.

    \b
    Example:
      kanaleto export log alder-lock.toml night.txt --from 22:00
    """
    form = LOG_FORMS.get(file.suffix.lower())
    if form is None:
        raise click.UsageError(f"{file.name} does not tell its form; end it in .csv, .jsonl or .txt")
    name = Path(site).stem if is_site(site) else site
    try:
        count = write_log(file, form, list(journal_events(site, from_us, to_us)), name, zone())
    except (OSError, sqlite3.Error) as error:
        raise Failed(f"{file} cannot be written: {getattr(error, 'strerror', None) or error}") from None
    say(f"{count} events written to {file}", err=True)
    return 0
