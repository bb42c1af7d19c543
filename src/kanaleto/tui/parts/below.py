"""What stands below a list that leaves room: what was before, the last writes, the last minute of what is in view."""

from collections.abc import Iterable, Sequence
from typing import Any

from textual.strip import Strip
from textual.widget import Widget

from kanaleto.board.crossing import Crossing
from kanaleto.board.snapshot import Snapshot
from kanaleto.control.order import Result
from kanaleto.events.log import Event, EventKind, length_text
from kanaleto.planning.plan import AnyPlace
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn, Row, put_row
from kanaleto.tui.shared.readings import brief_text, numbers_of, short_number, tall_spark
from kanaleto.tui.shared.rows import Rows
from kanaleto.tui.shared.words import clock_text

_LEAST = 3  # rows that are worth it
_TALL = 4
_EMPTY = 3  # rows of a list that says why it is empty


class Below(Drawn):
    """As much as there is to say, and room for."""

    DEFAULT_CSS = "Below { height: 1fr; display: none; }"

    def __init__(self) -> None:
        super().__init__()
        self._rows: Sequence[Row] = ()
        self._above = 0  # rows of the list, where something stands below it

    def room(self, under: Rows[Any], heads: int = 0) -> int:
        """How many rows the part has left below a list and so many rows of heads."""
        assert isinstance(self.parent, Widget)
        return self.parent.size.height - heads - max(len(under.rows), _EMPTY) - 1

    def take(self, rows: Sequence[Row], under: Rows[Any], room: int) -> None:
        """`room`: how many rows the list leaves that it stands under."""
        self._rows = rows[: max(room, 0)] if room >= _LEAST else ()
        height = max(len(under.rows), _EMPTY) if self._rows else 0
        if height != self._above:
            self._above = height
            self.display = bool(height)
            under.styles.height = height or "1fr"
        self.redraw()

    def draw_line(self, y: int) -> Strip:
        cells = Cells(self.palette).put(" ")
        if y < len(self._rows):
            put_row(cells, self._rows[y])
        return self.strip_of(y, cells, self.size.width)


def passed_before(events: Iterable[Event], listed: Iterable[Crossing], most: int) -> list[Row]:
    """Limits that were passed and are so no more, the newest first; not those that are `listed` above."""
    above = {(crossing.line, crossing.identity[0], crossing.wall_s) for crossing in listed}
    over = [
        event for event in events
        if event.kind is EventKind.LIMIT and event.ended_wall_s is not None
        and (event.line, event.device, event.wall_s) not in above
    ]  # fmt: skip
    rows: list[Row] = [
        [
            (f"{clock_text(event.wall_s)[:8]}  ", "muted"), (f"{event.device or 'derived':<22}", "muted"),
            (f"{event.text:<60}", "ink"), (f"for {length_text(event.lasted_s)}", "muted"),
        ]
        for event in list(reversed(over))[:most]
    ]  # fmt: skip
    return [[], [("WHAT WAS BEFORE", "muted!")], *rows] if rows else []


def written_last(results: Sequence[Result], device: str, most: int) -> list[Row]:
    """What was written to a device from here, the newest first."""
    of_device = [result for result in reversed(results) if result.order.device == device]
    rows: list[Row] = [
        [(f"{clock_text(result.wall_s)[:8]}  ", "muted"), (f"{result.order.name:<26}", "ink"), (result.text, "muted")]
        for result in of_device[:most]
    ]
    return [[], [("LAST WRITES", "muted!")], *rows] if rows else []


def last_minute(snapshot: Snapshot, places: Sequence[AnyPlace], width: int, title: str) -> list[Row]:
    """The last minute of numbers, large; each with its device before it where there are several."""
    rows: list[Row] = []
    for place in places:
        tall = tall_spark(snapshot, place, max(width - 34, 10), _TALL)
        if not any(line.strip() for line in tall):
            continue
        value = f"{brief_text(place.point, snapshot.reading(place))}"
        read = [number for _, number in numbers_of(snapshot, place)]
        ends = f"{short_number(min(read))} … {short_number(max(read))}" if read else ""
        heads = [*([place.identity[0][:30]] if len(places) > 1 else []), value[:30], ends, "", ""]
        rows += [
            [(f"{head:<32}", "ink" if at == 0 else "muted"), (line, "verdigris")]
            for at, (head, line) in enumerate(zip(heads, tall, strict=False))
        ]
        rows.append([])
    return [[], [(f"{title} · LAST 60 s", "muted!")], *rows] if rows else []
