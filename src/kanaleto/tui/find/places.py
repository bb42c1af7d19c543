"""Where to look, at the left of Find: ports, what was typed, the site's lines, and sites to open."""

from collections.abc import Callable, Hashable, Sequence
from pathlib import Path

from msgspec import Struct

from kanaleto.board.snapshot import Snapshot
from kanaleto.demo.start import is_demo
from kanaleto.finding.desk import Desk, FindPlace, parse_place
from kanaleto.probing.ports import PortInfo
from kanaleto.site.links.link import FramingKind
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.holder import SiteHolder
from kanaleto.tui.shared.rows import Rows
from kanaleto.tui.shared.words import line_phrase


class HeadRow(Struct, frozen=True):
    title: str


class PlaceRow(Struct, frozen=True):
    """A place on the desk; `port` is what the system says of it, `line` the site's line that leads there, `health` how
    that one is doing (words and tone)."""

    place: FindPlace
    port: PortInfo | None = None
    line: str = ""
    health: tuple[str, str] = ("", "")
    reading: str = ""


class SaidRow(Struct, frozen=True):
    """A line of text under a place."""

    text: str
    tone: str


class SiteRow(Struct, frozen=True):
    """A site that can be opened; no path is the demo."""

    path: Path | None
    title: str
    elsewhere: str = ""  # who else has it open, where it may not be taken


PlacesRow = HeadRow | PlaceRow | SaidRow | SiteRow | None


class PlaceRows(Rows[PlacesRow]):
    DEFAULT_CSS = "PlaceRows { width: 1fr; height: 1fr; scrollbar-size: 1 1; background: $background; }"

    def __init__(self, on_below: Callable[[], None]) -> None:
        """`on_below`: down from the last row."""
        super().__init__()
        self._on_below = on_below

    def action_move(self, step: int) -> None:
        is_last = not any(self.may_rest(row) for row in self.rows[self.cursor + 1 :])
        if step > 0 and is_last:
            self._on_below()
        else:
            super().action_move(step)

    def may_rest(self, row: PlacesRow) -> bool:
        return isinstance(row, PlaceRow | SiteRow)

    def identity(self, row: PlacesRow) -> Hashable:
        if isinstance(row, PlaceRow):
            return row.place.title
        return (row.path, row.title) if isinstance(row, SiteRow) else None

    def draw(self, row: PlacesRow, width: int, ground: str) -> Cells:
        cells = Cells(self.palette, ground if self.has_keys or ground == "ground" else "panel").put(" ")
        if isinstance(row, HeadRow):
            cells.put(row.title, "muted", bold=True)
        elif isinstance(row, PlaceRow):
            title = row.line or row.place.title
            cells.put(_tail(title, width - 2), bold=True)
        elif isinstance(row, SiteRow):
            cells.put(row.title, "dim" if row.elsewhere else "ink", width=width - 2)
        elif isinstance(row, SaidRow):
            cells.put("  ").put(row.text, row.tone, width=max(width - 4, 0))
        return cells


def _reading(desk: Desk, place: FindPlace) -> str:
    """That a scratch reading goes on there."""
    reader = desk.scratch
    if reader is None or not desk.is_reading or reader.link != place.link:
        return ""
    unit, error = reader.state.question.unit_id, reader.state.error
    return f"reading unit {unit} again and again" if not error else f"asking unit {unit} again and again"


def _tail(text: str, width: int) -> str:
    """The end of a long path tells more than its beginning."""
    return text if len(text) <= width else "…" + text[-(width - 1) :]


def rows_under(row: PlaceRow) -> list[PlacesRow]:
    """What is said under a place: what it is, and how it stands."""
    state, rows = row.place.state, list[PlacesRow]()
    if row.line:
        rows.append(SaidRow(_tail(state.title, 28), "muted"))
    about = ""
    if row.port is not None:
        about = ", ".join(text for text in (row.port.description, row.port.maker, row.port.serial_number) if text)
    if state.link is not None and state.link.is_serial:
        framing = " ASCII" if state.link.framing is FramingKind.ASCII else ""
        rows += [SaidRow(about, "muted")] if about else []
        rows.append(
            SaidRow(f"{state.link.settings}{framing}" if state.knows_settings else "settings not known", "muted")
        )
    if row.reading:
        rows.append(SaidRow(row.reading, "ochre"))
    if state.doing:
        rows.append(SaidRow(state.doing, "ochre"))
    elif state.note:
        rows.append(SaidRow(state.note, "ink"))
    elif row.port is not None and not row.line:
        tone = "terracotta" if row.port.trouble else "ochre" if row.port.holder else "verdigris"
        rows.append(SaidRow(row.port.state, tone))
    elif row.line:
        rows.append(SaidRow(row.health[0] or "polled by this site", row.health[1] or "verdigris"))
    return [*rows, None]


def places_listed(desk: Desk, snapshot: Snapshot, ports: Sequence[PortInfo]) -> list[PlacesRow]:
    """Lines of the site, ports, what was typed; each place is put on the desk."""
    rows: list[PlacesRow] = []
    infos = {port.path: port for port in ports}
    shown: set[str] = set()
    if snapshot.lines:
        rows.append(HeadRow("LINES OF THIS SITE"))
    for status in snapshot.lines:
        line = status.line
        known = desk.named(line.link.place)
        was_swept = known is not None and known.state.settings is not None
        place = desk.take(FindPlace(line.link.place, line.link, knows_settings=not was_swept))
        shown.add(place.title)
        health = line_phrase(status, snapshot.is_held)
        row = PlaceRow(place, infos.get(line.link.place), line.name, health, _reading(desk, place))
        rows += [row, *rows_under(row)]
    typed = {place.title for place in desk.places if not place.state.is_serial or place.title not in infos} - shown
    free = [port for port in ports if port.path not in shown]
    if free:
        rows.append(HeadRow("PORTS"))
    for port in free:
        place = desk.take(parse_place(port.path if "/" in port.path else f"rtu://{port.path}"))
        row = PlaceRow(place, port, reading=_reading(desk, place))
        rows += [row, *rows_under(row)]
    others = [place for place in desk.places if place.title in typed]
    if others:
        rows.append(HeadRow("TYPED"))
    for place in others:
        row = PlaceRow(place, reading=_reading(desk, place))
        rows += [row, *rows_under(row)]
    return rows


def sites_listed(holder: SiteHolder, opened: Path | None) -> list[PlacesRow]:
    """Sites that could be opened, but for the one that is."""
    sites: list[PlacesRow] = []
    sites += [SiteRow(path, f"{path.stem}  {_home(path.parent)}") for path in holder.recent() if path != opened][:6]
    for path, elsewhere in [entry for entry in holder.unsaved() if entry[0] != opened][:4]:
        title = f"unsaved, {path.parent.name[:8]} {path.parent.name[9:13]}"
        sites.append(SiteRow(path, f"{title}, open elsewhere" if elsewhere else title, elsewhere))
    if opened is None or not is_demo(opened):
        sites.append(SiteRow(None, "Alder Lock, the demo"))
    return [HeadRow("SITES TO OPEN"), *sites] if sites else []


def _home(path: Path) -> str:
    try:
        return f"~/{path.relative_to(Path.home())}"
    except (ValueError, RuntimeError):
        return str(path)
