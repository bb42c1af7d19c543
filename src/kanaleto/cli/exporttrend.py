"""`kanaleto export trend`: points over time out of a record, on paper."""

import time
from pathlib import Path
from typing import TYPE_CHECKING

import click

from kanaleto.cli.completing import point_names
from kanaleto.cli.failures import Failed
from kanaleto.cli.keptfiles import stores_of
from kanaleto.cli.moments import micros_of
from kanaleto.cli.output import say
from kanaleto.demo.start import is_demo
from kanaleto.files.loading import load_site
from kanaleto.planning.plan import AnyPlace, Identity, Plan, plan_site
from kanaleto.site.model import Site

if TYPE_CHECKING:
    from kanaleto.history.curves import TrendCurve
    from kanaleto.paper.sheets import PaperCurve

_HOUR_S = 3600.0
MOST_POINTS = 8


@click.command("trend")
@click.argument("site", type=click.Path(path_type=Path))
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False))
@click.option(
    "--point",
    "points",
    multiple=True,
    required=True,
    metavar="DEVICE/POINT",
    shell_complete=point_names,
    help="a derived one is /NAME",
)
@click.option(
    "--from", "from_us", metavar="TIME", callback=micros_of, help="2026-05-17T03:00, 03:00 (the last), 2h (ago)"
)
@click.option("--to", "to_us", metavar="TIME", callback=micros_of, help="until then; now where it is not given")
@click.option("--scale", type=click.Choice(["one", "several", "percent"]), default="several", show_default=True)
@click.option("--store", metavar="FILE|URL", help="another record than the site's own")
@click.option("--today", "is_today", is_flag=True, help="read old words with the site's definitions of today")
def command(
    site: Path, file: Path, points: tuple[str, ...], from_us: int | None, to_us: int | None, scale: str,
    store: str | None, is_today: bool,
) -> int:  # fmt: skip
    """Draw points of SITE over time to FILE (.svg or .pdf), out of what was recorded. Without --from the last hour.

    \b
    Example:
      kanaleto export trend alder-lock.toml night.pdf --point "Upper sluice/Gate position" --from 22:00 --to 06:00
    """
    from kanaleto.paper.look import NoPaper, form_of

    try:
        form_of(file)
    except NoPaper as error:
        raise click.UsageError(str(error)) from None
    if len(points) > MOST_POINTS:
        raise click.UsageError(
            f"{len(points)} points are too many to be distinguished in one trend: {MOST_POINTS} at most"
        )
    end = to_us / 1e6 if to_us is not None else time.time()
    begin = from_us / 1e6 if from_us is not None else end - _HOUR_S
    if begin >= end:
        raise click.UsageError("--from is not before --to: there is nothing between them")
    loaded, _ = load_site(site)
    places = places_of(loaded, points)
    stores = [store] if store is not None else stores_of(str(site))
    _draw(loaded, places, stores, begin, end, scale, is_today, file)
    say(f"{len(places)} points drawn to {file}", err=True)
    return 0


def places_of(site: Site, points: tuple[str, ...]) -> list[AnyPlace]:
    plan = plan_site(site)
    return [_place(plan, point) for point in dict.fromkeys(points)]


def _place(plan: Plan, text: str) -> AnyPlace:
    cuts = [at for at, character in enumerate(text) if character == "/"]
    found = (plan.place_of((text[:at], text[at + 1 :])) for at in cuts)
    place = next((place for place in found if place is not None), None)
    if place is None:
        from kanaleto.site.filefaults import suggestion

        known = ["/".join(identity) for identity in plan.identities]
        raise click.UsageError(f"there is no point {text!r}{suggestion(text, known)}; write DEVICE/POINT")
    return place


def _draw(
    site: Site, places: list[AnyPlace], stores: list[str], begin: float, end: float, scale: str, is_today: bool,
    file: Path,
) -> None:  # fmt: skip
    from kanaleto.history.curves import thinned
    from kanaleto.paper.drawing import write_sheet
    from kanaleto.paper.look import NoPaper
    from kanaleto.paper.making import trend_sheet

    curves = _recorded(site, places, stores, begin, end, is_today)
    if all(thinned(curve, begin, end, 10).bounds is None for curve in curves.values()):
        say("nothing was read in that time: the trend is empty", err=True)
    notes = ["Out of the record; what was not recorded is a gap."]
    notes += ["Old words are read with today's definitions."] if is_today else []
    notes += ["The answers came from simulated devices."] if is_demo(site.path or file) else []
    try:
        write_sheet(trend_sheet(site.name, places, curves, begin, end, scale, notes), file)
    except NoPaper as error:
        raise Failed(str(error)) from None


def curves_of(site: Site, places: list[AnyPlace], stores: list[str], begin: float, end: float) -> "list[PaperCurve]":
    """Curves of points as they go on paper, out of the record. Raises Failed where one was never recorded."""
    from kanaleto.paper.making import trend_sheet

    return trend_sheet(
        site.name, places, _recorded(site, places, stores, begin, end, False), begin, end, "several"
    ).curves


def _recorded(
    site: Site, places: list[AnyPlace], stores: list[str], begin: float, end: float, is_today: bool
) -> "dict[Identity, TrendCurve]":
    from kanaleto.history.askingthread import HistoryQuery, answer_to
    from kanaleto.history.curves import EMPTY, TrendCurve, joined
    from kanaleto.history.storedcurve import StoredRows, definition_of

    wanted = tuple(place.identity for place in places)
    today = {place.identity: definition_of(place) for place in places} if is_today else None
    curves: dict[Identity, TrendCurve] = dict.fromkeys(wanted, EMPTY)
    known: set[Identity] = set()
    for store in stores:
        answer = answer_to(HistoryQuery(store, site.name, begin, end, wanted, today))
        if answer.trouble:
            raise Failed(answer.trouble)
        for identity, rows in answer.found.items():
            assert isinstance(rows, StoredRows)
            known.add(identity)
            curves[identity] = joined(curves[identity], rows.curve)
    for place in places:
        if place.identity not in known:
            raise Failed(
                f"{'/'.join(place.identity)} was never recorded here; kanaleto history SITE --list shows what was"
            )
    return curves
