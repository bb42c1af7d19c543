"""Puts what is shown on paper: the trend, current values, a comparison."""

from collections.abc import Callable

from kanaleto.demo.start import is_demo
from kanaleto.paper.making import comparison_sheet, trend_sheet, values_sheet
from kanaleto.paper.sheets import Sheet
from kanaleto.planning.plan import Identity
from kanaleto.tui.live.parts import Parts
from kanaleto.tui.parts.across.pane import AcrossPart
from kanaleto.tui.parts.compare.pane import ComparePart
from kanaleto.tui.parts.trend.state import AxisScale
from kanaleto.tui.shared.context import Context
from kanaleto.tui.shared.paper import ask_paper

_SCALES = {AxisScale.ONE: "one", AxisScale.SEVERAL: "several", AxisScale.PER_CENT: "percent"}


def ask_export(context: Context, parts: Parts, chosen: list[Identity]) -> None:
    """Asks for a file (.svg or .pdf), and draws what is shown now to it."""
    name = parts.name or "values"
    make = _maker(context, parts, chosen, name)
    if make is None:
        context.tell("nothing is shown that could be put on paper: x in the list, the trend, or a comparison")
        return

    ask_paper(context, "put what is shown on paper (.svg or .pdf)", f"~/{name}.pdf", make)


def _maker(context: Context, parts: Parts, chosen: list[Identity], name: str) -> Callable[[], Sheet] | None:
    snapshot = context.snapshot
    path = snapshot.site.path
    notes = ["The answers came from simulated devices."] if path is not None and is_demo(path) else []
    now = context.engine.session.clock.at(snapshot.now_s)
    if name == "trend":
        data = parts.data
        state = data.state
        begin, end = state.range(data.now)
        places = [place for pin in data.pins if (place := snapshot.place_of(pin)) is not None]
        curves = {place.identity: data.curves.curve(place.identity) for place in places}
        scale, mark, cursor = _SCALES[state.scale], state.mark, state.cursor
        end = min(end, data.now)
        return lambda: trend_sheet(snapshot.site.name, places, curves, begin, end, scale, notes, mark, cursor)
    if name == "values":
        shown = [place for one in chosen if (place := snapshot.place_of(one)) is not None]

        def values() -> Sheet:
            sheet = values_sheet(snapshot, shown, now)
            sheet.notes += notes
            return sheet

        return values if shown else None
    part = parts.current
    if isinstance(part, ComparePart | AcrossPart):
        text, headings, rows, marked = part.as_table()

        def comparison() -> Sheet:
            sheet = comparison_sheet(snapshot.site.name, text, headings, rows, marked, now)
            sheet.notes += notes
            return sheet

        return comparison if rows else None
    return None
