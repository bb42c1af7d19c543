"""`kanaleto poll`: a site polled without a screen, a line a sample."""

from functools import partial
from pathlib import Path

import click

from kanaleto.cli.failures import Failed
from kanaleto.cli.health import parse_place
from kanaleto.cli.keptfiles import begin_keeping
from kanaleto.cli.options import usage
from kanaleto.cli.output import say
from kanaleto.cli.polling import poll_site, tell_summary
from kanaleto.files.loading import load_site
from kanaleto.keeping.kept import Kept


@click.command("poll")
@click.argument("site", type=click.Path(path_type=Path))
@click.option("--for", "for_s", type=click.FloatRange(0), metavar="S", help="end after so many seconds")
@click.option(
    "--record",
    "store",
    is_flag=False,
    flag_value="",
    metavar="[FILE|URL]",
    help="record samples: to the site's own record, to a file, or to postgresql://USER@HOST/DATABASE",
)
@click.option(
    "--capture",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE.jsonl|FILE.pcapng",
    help="write exchanges to a file, too",
)
@click.option(
    "--capture-mb",
    default=100,
    show_default=True,
    type=click.IntRange(1, 100_000),
    help="begin another file of the capture after so many megabytes",
)
@click.option(
    "--capture-files",
    default=10,
    show_default=True,
    type=click.IntRange(1, 10_000),
    help="keep so many files of the capture, the newest",
)
@click.option("--health", metavar="HOST:PORT", help="how it does: GET / and GET /metrics, on loopback by default")
@click.option("--quiet", "is_quiet", is_flag=True, help="no samples, only the summary")
@click.option("--json", "is_json", is_flag=True, help="one object a line; the last holds the summary")
def command(
    site: Path, for_s: float | None, store: str | None, capture: Path | None, capture_mb: int, capture_files: int,
    health: str | None, is_quiet: bool, is_json: bool,
) -> int:  # fmt: skip
    """Poll SITE and print a line a sample, until interrupted. Ends with a summary.

    \b
    Examples:
      kanaleto poll alder-lock.toml --for 10 --json
      kanaleto poll alder-lock.toml --quiet --record --capture night.pcapng
    """
    place = usage(partial(parse_place, health)) if health is not None else None
    loaded, warnings = load_site(site)
    for warning in warnings:
        say(str(warning), err=True)

    def begin(kept: Kept) -> None:
        begin_keeping(kept, loaded, store, capture, capture_mb * 1_000_000, capture_files)

    session = poll_site(loaded, for_s, is_quiet, is_json, begin, place)
    tell_summary(session, is_json)
    if next(session.plan.blocks, None) is not None and not any(record is not None for record in session.board.records):
        raise Failed("not one good sample came")
    return 0
