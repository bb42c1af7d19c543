"""The top row: the name, the site and its size; the views with their digits; whether polling runs; the clock."""

from collections.abc import Sequence
from datetime import datetime
from typing import Protocol, cast

from textual import events
from textual.strip import Strip

from kanaleto.tui.shared.cells import Cells, cut
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.past import LEVEL_SHAPES, LEVEL_TONES
from kanaleto.tui.shared.requests import ShowView
from kanaleto.tui.writing import Writing


class _Writes(Protocol):
    writing: Writing


class TopRow(Drawn):
    """`views` are digits and titles."""

    DEFAULT_CSS = "TopRow { height: 1; }"

    def __init__(self, views: Sequence[tuple[str, str]]) -> None:
        super().__init__()
        self._views = views
        self._views_at: list[tuple[int, str]] = []

    def draw_line(self, y: int) -> Strip:
        width, here = self.size.width, getattr(self.app, "current_digit", "")
        cells = Cells(self.palette, "panel").put(" kanaleto ", "ground", bold=True, on="ochre")
        right = self._right()
        views_width = sum(len(title) + 4 for _, title in self._views)
        room = width - cells.width - views_width - sum(len(text) for text, _ in right) - 2
        site = self.snapshot.site
        size = (
            f"{_count(site.device_count, 'device')}, {_count(site.point_count, 'point')} "
            f"on {_count(len(site.lines), 'line')}"
        )
        name = cut(site.name, max(room - 2, 0))
        cells.put(f"  {name}", bold=True)
        if room - len(name) > len(size) + 6:
            cells.put("  ·  ", "muted").put(size, "muted")
        rest = width - sum(len(text) for text, _ in right) - 1
        cells.at(rest - views_width - max((rest - views_width - cells.width) // 3, 0))
        self._views_at = []
        for digit, title in self._views:
            is_here = digit == here
            self._views_at.append((cells.width, digit))
            cells.put(f" {digit} ", "ochre" if is_here else "muted").put(
                title, "ink" if is_here else "muted", bold=is_here
            ).put(" ")
        cells.at(rest)
        for text, tone in right:
            cells.put(text, tone)
        return cells.strip(width)

    def _right(self) -> list[tuple[str, str]]:
        held = self.snapshot.is_held
        if not self.snapshot.site.lines:
            return [*self._writing(), ("◌ nothing to poll", "dim"), (f"   {datetime.now():%H:%M:%S}", "ink")]
        state = ("◌ polling held", "ochre") if held else ("● polling", "verdigris")
        if self.size.width < 90:
            state = (state[0][0], state[1])
        off: list[tuple[str, str]] = []
        past = self.snapshot.past
        if past:
            worst = max(crossing.rule.level for crossing in past)
            unseen = any(crossing.seen is None for crossing in past)
            tone = LEVEL_TONES[worst] if unseen else "muted"
            off.append(
                (f" · {LEVEL_SHAPES[worst]} {len(past)}{' past a limit' if self.size.width >= 130 else ''}", tone)
            )
        off += [(f" · {self.snapshot.off}", "ochre")] if self.snapshot.off and self.size.width >= 90 else []
        if self.context.recording:
            off.append((" · ◉ recording" if self.size.width >= 120 else " ◉", "terracotta"))
        return [*self._writing(), state, *off, (f"   {datetime.now():%H:%M:%S}", "ink")]

    def _writing(self) -> list[tuple[str, str]]:
        """Whether anything may be written, and for how long yet."""
        lock = cast(_Writes, self.app).writing.lock
        if lock.is_read_only:
            return [("read-only  ", "muted")]
        unlocked, left_s = lock.told()
        if not unlocked:
            return [("locked  ", "muted")] if self.size.width >= 110 else []
        left = f"{int(left_s) // 60}:{int(left_s) % 60:02}"
        whom = f" {cut(unlocked, 20)}" if self.size.width >= 130 else ""
        return [(f"◆ writes{whom} {left}  ", "terracotta")]

    def on_click(self, event: events.Click) -> None:
        for column, digit in reversed(self._views_at):
            if event.x >= column:
                self.context.send(ShowView(digit))
                return


def _count(number: int, word: str) -> str:
    return f"{number} {word}{'s' if number != 1 else ''}"
