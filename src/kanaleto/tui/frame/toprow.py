"""The top row: the name, the site and its size; the views with their digits; whether polling runs; the clock."""

from collections.abc import Sequence
from datetime import datetime
from typing import Protocol, cast

from textual import events
from textual.strip import Strip

from kanaleto.files.origins import origin_of, origins_known
from kanaleto.site.origin import Origin
from kanaleto.tui.frame.writing import AppWriting
from kanaleto.tui.shared.cells import Cells, cut
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.past import LEVEL_SHAPES, LEVEL_TONES
from kanaleto.tui.shared.views import WIRE
from kanaleto.tui.shared.wishes import ShowView


class _Writes(Protocol):
    writing: AppWriting


class TopRow(Drawn):
    """`views` are digits and titles."""

    DEFAULT_CSS = "TopRow { height: 1; }"

    def __init__(self, views: Sequence[tuple[str, str]]) -> None:
        super().__init__()
        self._views = views
        self._views_at: list[tuple[int, str]] = []
        self._origins_of: object = None
        self._origins: list[Origin] = []

    def draw_line(self, y: int) -> Strip:
        """Where there is little room the site's name goes first, then the clock, then words become shapes and titles
        digits; whether writing is unlocked and what acts on a device stay at every width."""
        width, here = self.size.width, getattr(self.app, "current_digit", "")
        right, titles = self._fitting(width, here)
        cells = Cells(self.palette, "panel")
        cells.put(" kanaleto " if titles is not None else " k ", "ground", bold=True, on="ochre")
        shown = [(digit, title if titles or digit == here else "") for digit, title in self._views]
        views_width = sum(_view_width(title) for _, title in shown)
        rest = width - _width(right) - 1
        room = rest - cells.width - views_width - 2
        if room > 10:  # less of a name says nothing
            name = cut(self.snapshot.site.name, room - 2)
            cells.put(f"  {name}", bold=True)
            size = next((size for size in self._site_sizes() if room - len(name) > len(size) + 8), "")
            if size:
                cells.put("  ·  ", "muted").put(size, "muted")
        cells.at(max(rest - views_width - max((rest - views_width - cells.width) // 3, 0), cells.width))
        self._views_at = []
        for digit, title in shown:
            is_here = digit == here
            self._views_at.append((cells.width, digit))
            cells.put(f" {digit} ", "ochre" if is_here else "muted")
            if title:
                cells.put(f"{title} ", "ink" if is_here else "muted", bold=is_here)
        cells.at(rest)
        for number, (text, tone) in enumerate(right):
            gap = " " if text.startswith("·") or not number else "  "
            cells.put(f"{gap}{text}", tone)
        return cells.strip(width)

    def _site_sizes(self) -> list[str]:
        """The longest first."""
        site = self.snapshot.site
        if self.context.capture is not None:
            return ["a capture"]
        devices, points = _count(site.device_count, "device"), _count(site.point_count, "point")
        return [f"{devices}, {points} on {_count(len(site.lines), 'line')}", f"{devices}, {points}", points]

    def _fitting(self, width: int, here: str) -> tuple[list[tuple[str, str]], bool | None]:
        """What stands at the right, and whether the views have titles (None: the name is short too): the longest of
        each that fit."""
        full = sum(_view_width(title) for _, title in self._views)
        digits = sum(_view_width(title if digit == here else "") for digit, title in self._views)
        for titles, views in ((True, full), (False, digits)):
            for pieces in self._rights():
                if 10 + views + _width(pieces) + 1 <= width:
                    return pieces, titles
        return self._rights()[-1], None

    def _rights(self) -> list[list[tuple[str, str]]]:
        """What stands at the right, from all in words to what must stay."""
        lock, short_lock = self._writing()
        acting, short_acting = self._acting()
        state, past, off, recording, clock = self._others()
        origin, short_origin = self._origin()
        brief = [(text[:1], tone) for text, tone in state]
        brief_past = [(text.split(" past")[0].removeprefix("· "), tone) for text, tone in past]
        brief_recording = [("◉", tone) for _, tone in recording]
        return [
            [*lock, *acting, *origin, *state, *past, *off, *recording, *clock],
            [*lock, *acting, *origin, *state, *brief_past, *brief_recording, *clock],
            [*lock, *acting, *short_origin, *brief, *brief_past, *brief_recording, *clock],
            [*short_lock, *short_acting, *short_origin, *brief, *brief_past, *brief_recording, *clock],
            [*short_lock, *short_acting, *short_origin, *brief, *brief_past, *brief_recording],
            [*short_lock, *short_acting, *short_origin, *brief],
            [*short_lock, *short_acting, *short_origin],
        ]

    def _others(self) -> tuple[list[tuple[str, str]], ...]:
        snapshot = self.snapshot
        clock = [(f"{datetime.now():%H:%M:%S}", "ink")]
        if self.context.capture is not None:
            return [], [], [], [], clock
        if not snapshot.site.lines:
            return [("◌ nothing to poll", "dim")], [], [], [], clock
        state = [("◌ polling held", "ochre") if snapshot.is_held else ("● polling", "verdigris")]
        past: list[tuple[str, str]] = []
        if snapshot.past:
            worst = max(crossing.rule.level for crossing in snapshot.past)
            unseen = any(crossing.seen is None for crossing in snapshot.past)
            tone = LEVEL_TONES[worst] if unseen else "muted"
            past = [(f"· {LEVEL_SHAPES[worst]} {len(snapshot.past)} past a limit", tone)]
        elif snapshot.over:
            past = [(f"· {len(snapshot.over)} over, not seen", "muted")]
        off = [(f"· {snapshot.off}", "ochre")] if snapshot.off else []
        recording = [("· ◉ recording", "terracotta")] if self.context.recording else []
        return state, past, off, recording, clock

    def _origin(self) -> tuple[list[tuple[str, str]], list[tuple[str, str]]]:
        """Where answers come from, where that is not from real devices; the same in a shape."""
        read = self.context.reading_from
        if read and getattr(self.app, "current_digit", "") == WIRE:
            return [(f"◇ reading {cut(read, 40)}", "ochre")], [("◇ reading", "ochre")]
        lines = self.snapshot.site.lines
        key = tuple(line.link for line in lines), tuple(line.origin for line in lines), origins_known()
        if key != self._origins_of:
            self._origins_of = key
            self._origins = [origin_of(line) for line in lines]
        is_open = self.context.bench.open_lines
        if is_open:
            return [(f"◆ {cut(is_open[0], 16)} open to the network", "terracotta")], [("◆ open", "terracotta")]
        through = [line.name for line in lines if line.led_from is not None and line.origin == Origin.BRIDGE.value]
        led = [line.name for line in lines if line.led_from is not None and line.name not in through]
        if through and not led:
            return [(f"◇ {cut(through[0], 16)} read through a service", "ochre")], [("◇ through", "ochre")]
        if led:
            more = f" and {len(led) - 1} more" if len(led) > 1 else ""
            return [(f"◇ {cut(led[0], 16)}{more} led to a stand-in", "ochre")], [("◇", "ochre")]
        others = {origin.value for origin in self._origins if origin is not Origin.REAL}
        if not others:
            return [], []
        some = "" if Origin.REAL not in self._origins else "some "
        return [(f"◇ {some}{', '.join(sorted(others))}", "muted")], [("◇", "muted")]

    def _writing(self) -> tuple[list[tuple[str, str]], list[tuple[str, str]]]:
        """Whether anything may be written, and for how long yet; the same in few words."""
        lock = cast(_Writes, self.app).writing.lock
        if lock.is_read_only:
            return [("read-only", "muted")], [("read-only", "muted")]
        unlocked, left_s = lock.unlocked_now()
        if not unlocked:
            return [("locked", "muted")], [("locked", "muted")]
        left = f"{int(left_s) // 60}:{int(left_s) % 60:02}"
        whom = cut(cast(_Writes, self.app).writing.reaches(unlocked), 20)
        return [(f"◆ writes {whom} {left}", "terracotta")], [(f"◆ writes {left}", "terracotta")]

    def _acting(self) -> tuple[list[tuple[str, str]], list[tuple[str, str]]]:
        """What is held, pulsing, owed or was left standing, in one mark."""
        text, count, tone = cast(_Writes, self.app).writing.acting()
        return ([(f"▲ {text} (H)", tone)], [(f"▲ {count} H", tone)]) if count else ([], [])

    def on_click(self, event: events.Click) -> None:
        for column, digit in reversed(self._views_at):
            if event.x >= column:
                self.context.send(ShowView(digit))
                return


def _view_width(title: str) -> int:
    return 3 + (len(title) + 1 if title else 0)


def _width(pieces: Sequence[tuple[str, str]]) -> int:
    return sum(len(text) + 2 for text, _ in pieces)


def _count(number: int, word: str) -> str:
    return f"{number} {word}{'s' if number != 1 else ''}"
