"""`kanaleto poll`: a site polled without a screen, a line a sample."""

from pathlib import Path

import click

from kanaleto.cli.failures import Failed
from kanaleto.cli.output import say
from kanaleto.cli.polling import poll_site, tell_summary
from kanaleto.files.loading import load_site


@click.command("poll")
@click.argument("site", type=click.Path(path_type=Path))
@click.option("--for", "for_s", type=click.FloatRange(0), metavar="S", help="end after so many seconds")
@click.option("--quiet", "is_quiet", is_flag=True, help="no samples, only the summary")
@click.option("--json", "is_json", is_flag=True, help="one object a line; the last holds the summary")
def command(site: Path, for_s: float | None, is_quiet: bool, is_json: bool) -> int:
    """Poll SITE and print a line a sample, until interrupted. Ends with a summary.

    \b
    Example:
      kanaleto poll alder-lock.toml --for 10 --json
    """
    loaded, warnings = load_site(site)
    for warning in warnings:
        say(str(warning), err=True)
    session = poll_site(loaded, for_s, is_quiet, is_json)
    tell_summary(session, is_json)
    if next(session.plan.blocks, None) is not None and not any(record is not None for record in session.board.records):
        raise Failed("not one good sample came")
    return 0
