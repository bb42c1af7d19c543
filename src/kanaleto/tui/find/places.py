"""Where to look, at the left of Find: ports, what was typed, the site's lines, and sites to open."""

from dataclasses import dataclass
from pathlib import Path

from textual.message import Message

from kanaleto.site.link import SerialLink
from kanaleto.survey.desk import Place
from kanaleto.survey.ports import PortInfo
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.rows import Rows


@dataclass(frozen=True, slots=True)
class HeadRow:
    title: str


@dataclass(frozen=True, slots=True)
class PlaceRow:
    """A place on the desk; `port` is what the system says of it, `line` the site's line that leads there, `health` how that one is doing
    (words and tone)."""

    place: Place
    port: PortInfo | None = None
    line: str = ""
    health: tuple[str, str] = ("", "")


@dataclass(frozen=True, slots=True)
class SaidRow:
    """A line of text under a place."""

    text: str
    tone: str


@dataclass(frozen=True, slots=True)
class SiteRow:
    """A site that can be opened; no path is the demo."""

    path: Path | None
    title: str
    is_unsaved: bool = False


PlacesRow = HeadRow | PlaceRow | SaidRow | SiteRow | None


class PlaceRows(Rows[PlacesRow]):
    DEFAULT_CSS = "PlaceRows { width: 1fr; height: 1fr; scrollbar-size: 1 1; background: $background; }"

    class Below(Message):
        """Down from the last row."""

    def action_move(self, step: int) -> None:
        is_last = not any(self.may_rest(row) for row in self.rows[self.cursor + 1 :])
        if step > 0 and is_last:
            self.post_message(self.Below())
        else:
            super().action_move(step)

    def may_rest(self, row: PlacesRow) -> bool:
        return isinstance(row, PlaceRow | SiteRow)

    def draw(self, row: PlacesRow, width: int, ground: str) -> Cells:
        cells = Cells(self.palette, ground if self.has_focus or ground == "ground" else "panel").put(" ")
        if isinstance(row, HeadRow):
            cells.put(row.title, "muted", bold=True)
        elif isinstance(row, PlaceRow):
            title = row.line or row.place.title
            cells.put(_tail(title, width - 2), bold=True)
        elif isinstance(row, SiteRow):
            cells.put(row.title, width=width - 2)
        elif isinstance(row, SaidRow):
            cells.put("  ").put(row.text, row.tone, width=max(width - 4, 0))
        return cells


def _tail(text: str, width: int) -> str:
    """The end of a long path tells more than its beginning."""
    return text if len(text) <= width else "…" + text[-(width - 1) :]


def rows_under(row: PlaceRow) -> list[PlacesRow]:
    """What is said under a place: what it is, and how it stands."""
    place, rows = row.place, []
    if row.line:
        rows.append(SaidRow(_tail(place.title, 28), "muted"))
    about = ""
    if row.port is not None:
        about = ", ".join(text for text in (row.port.description, row.port.maker, row.port.serial_number) if text)
    if isinstance(place.link, SerialLink):
        known = (
            f"{place.link.settings}{' ASCII' if place.link.framing.value == 'ascii' else ''}"
            if place.knows_settings
            else "settings not known"
        )
        rows += [SaidRow(about, "muted")] if about else []
        rows.append(SaidRow(known, "muted"))
    if place.doing:
        rows.append(SaidRow(place.doing, "ochre"))
    elif place.note:
        rows.append(SaidRow(place.note, "ink"))
    elif row.port is not None and not row.line:
        tone = "terracotta" if row.port.trouble else "ochre" if row.port.holder else "verdigris"
        rows.append(SaidRow(row.port.state, tone))
    elif row.line:
        rows.append(SaidRow(row.health[0] or "polled by this site", row.health[1] or "verdigris"))
    return [*rows, None]
