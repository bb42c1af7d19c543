"""The chart: curves as dots over axes of value and time, states and bits as lanes below, a letter at each end."""

from collections.abc import Callable
from itertools import groupby

import numpy as np
from textual import events
from textual.binding import Binding
from textual.strip import Strip

from kanaleto.board.crossing import Level, rules_of
from kanaleto.board.snapshot import Snapshot
from kanaleto.history.axis import clock, span_text, time_marks, time_step, value_marks
from kanaleto.history.curves import BAD, NEVER, STALE
from kanaleto.tui.parts.trend.lane import put_lane
from kanaleto.tui.parts.trend.picture import DrawnCurve, Picture, picture_of
from kanaleto.tui.parts.trend.raster import NOBODY, Dots, curve_dots, drawn, line_dots, row_of
from kanaleto.tui.parts.trend.state import AxisScale, Curves, TrendState
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.past import LEVEL_TONES

_RIGHT = 3
_LEAST_ROWS = 3
_LINE_EVERY = 3


class TrendChart(Drawn, can_focus=True):
    """`is_small` is the strip below the list: no axis of values, no cursor. `moved` is called when cursor, range or
    scale are others."""

    BINDINGS = [
        Binding("left,h", "cursor(-1)", show=False),
        Binding("right,l", "cursor(1)", show=False),
        Binding("shift+left", "cursor(-10)", show=False),
        Binding("shift+right", "cursor(10)", show=False),
        Binding("up,k", "choose(-1)", show=False),
        Binding("down,j", "choose(1)", show=False),
        Binding("plus,equals_sign", "zoom(True)", show=False),
        Binding("minus", "zoom(False)", show=False),
        Binding("left_square_bracket", "pan(-0.5)", show=False),
        Binding("right_square_bracket", "pan(0.5)", show=False),
        Binding("pageup", "pan(-1.0)", show=False),
        Binding("pagedown", "pan(1.0)", show=False),
        Binding("home", "edge(-1)", show=False),
        Binding("end", "edge(1)", show=False),
    ]
    DEFAULT_CSS = "TrendChart { height: 1fr; width: 1fr; background: $background; }"

    def __init__(self, state: TrendState, curves: Curves, is_small: bool = False) -> None:
        super().__init__()
        self.state, self.curves, self.is_small = state, curves, is_small
        self.can_focus = not is_small
        self.moved: Callable[[], None] = lambda: None
        self.now = 0.0
        self._drawn_for: object = None
        self.picture = Picture(0.0, 1.0, 2, [], AxisScale.ONE)
        self._rows: list[Cells] = []

    # What is drawn

    def show(self, snapshot: Snapshot, now: float) -> bool:
        """Whether there was anything to draw: what stands still, or moves by less than a dot, is left as it is."""
        state = self.state
        every = min(max(state.span_s / (4 * self.width), 0.25), 2.0)
        at = int(now / every) if state.is_live else int(now)
        key = (at, snapshot.version, self.size, state.key, self.curves.changes, self.palette)
        if key == self._drawn_for:
            return False
        self._drawn_for, self.now = key, now
        self.redraw()
        return True

    @property
    def left(self) -> int:
        """Cells before the plot."""
        if self.is_small:
            return 2
        names = max((len(curve.place.point.name) for curve in self.picture.lanes), default=0)
        return max(10, min(names + 2, 18))

    @property
    def width(self) -> int:
        """Cells of the plot."""
        return max(self.size.width - self.left - _RIGHT, 4)

    def begin_drawing(self) -> None:
        height = self.size.height
        lanes = sum(1 for curve in self.picture.curves if curve.is_lane)
        fixed = (1 if self.is_small else 3) + lanes
        rows = max(height - fixed, 0)
        self.picture = picture_of(self.state, self.curves, self.snapshot, self.now, 2 * self.width, max(rows, 1))
        lanes = len(self.picture.lanes)
        rows = height - (1 if self.is_small else 3) - lanes
        if rows < _LEAST_ROWS and lanes:
            lanes = max(lanes - (_LEAST_ROWS - rows), 0)
            rows = height - (1 if self.is_small else 3) - lanes
        made = [] if self.is_small else [self._title(), self._legend()]
        if self.picture.plotted or not self.picture.lanes:
            made += self._plot(max(rows, 1))
        made += [self._times()] if not self.is_small else []
        made += [self._lane(curve) for curve in self.picture.lanes[:lanes]]
        self._rows = made

    def draw_line(self, y: int) -> Strip:
        cells = self._rows[y] if y < len(self._rows) else Cells(self.palette)
        return self.strip_of(y, cells, self.size.width)

    def _title(self) -> Cells:
        state, picture = self.state, self.picture
        cells = Cells(self.palette).put(" Trend  ", bold=True)
        count = len(picture.curves)
        step = time_step(state.span_s, 8)
        parts = [f"{count} point{'s' if count != 1 else ''}"]
        parts.append(f"{clock(picture.begin, min(step, 1))} … {clock(picture.end, min(step, 1))}")
        if picture.end - picture.begin >= 43200:
            parts[-1] = f"{_day(picture.begin)} {parts[-1].replace(' … ', f' … {_day(picture.end)} ')}"
        parts.append(span_text(state.span_s))
        parts.append(f"from {self.curves.sources}")
        parts.append("live" if state.is_live else "held")
        if len(picture.plotted) > 1 or state.scale is not AxisScale.ONE:
            parts.append(state.scale.value)
        if any(curve.thin.is_new.any() for curve in picture.curves):
            parts.append("╎ another definition")
        if state.reads_today:
            parts.append("old words by today's definition")
        cells.put(" · ".join(parts), "muted")
        if self.curves.trouble:
            cells.put(f" · {self.curves.trouble}", "ochre")
        return cells

    def _legend(self) -> Cells:
        cells = Cells(self.palette).put(" ")
        curves = self.picture.curves
        each = max((self.size.width - 2) // max(len(curves), 1), 8)
        for number, curve in enumerate(curves):
            is_chosen = number == self.state.chosen % len(curves) and len(curves) > 1
            device, name = curve.identity
            unit = f" {curve.place.point.unit}" if curve.place.point.unit else ""
            text = " · ".join(part for part in (name, device) if part) if each > 30 else name
            if self.state.scale is AxisScale.PER_CENT and not _has_range(curve):
                unit = f"{unit} (no range: its own)"
            cells.put(f"{'▸' if is_chosen else ' '}{curve.letter} ", curve.tone, bold=True)
            cells.put(f"{text}{unit}", curve.tone, each - 3, bold=is_chosen)
        if not curves:
            cells.put("nothing is pinned: p in the list of points pins one", "muted")
        return cells

    def _plot(self, rows: int) -> list[Cells]:
        width, left = self.width, self.left
        plotted = self.picture.plotted
        chosen = self._chosen_curve()
        ordered = sorted(plotted, key=lambda curve: curve is chosen)  # the chosen one lies on top
        layers: list[Dots] = [np.zeros((4 * rows, 2 * width), np.bool_)]
        tones = ["rules"]
        if chosen is not None and not chosen.is_lane and not self.is_small:
            for value, tone in _limit_lines(chosen):
                layers.append(line_dots(value, chosen.bottom, chosen.top, rows, 2 * width, _LINE_EVERY))
                tones.append(tone)
        for curve in ordered:
            thin = curve.thin
            stale = thin.quality == STALE
            for of, tone in ((stale, "dim"), (~stale, curve.tone)):
                low, high = np.where(of, thin.low, np.nan), np.where(of, thin.high, np.nan)
                if np.isfinite(low).any():
                    layers.append(curve_dots(low, high, curve.bottom, curve.top, rows))
                    tones.append(tone)
        texts, owners = drawn(layers)
        marks = self._marks(chosen, rows)
        letters = self._letters(ordered, rows)
        columns = self._columns(width)
        words = self._gap_words(chosen, rows) | self._limit_words(chosen, rows)
        made = []
        for y in range(rows):
            cells = Cells(self.palette).put(marks.get(y, "") + " ", "muted", left - 1, right=True)
            cells.put(" " if self.is_small else "│", "rules")
            self._put_row(cells, texts[y], owners[y].tolist(), tones, columns, words.get(y))
            cells.at(left + width).put(" ")
            for letter, tone in letters.get(y, ())[: _RIGHT - 1]:
                cells.put(letter, tone, bold=True)
            made.append(cells)
        return made

    def _put_row(
        self, cells: Cells, text: str, owners: list[int], tones: list[str], columns: dict[int, tuple[str, str]],
        gap: tuple[int, str, str] | None,
    ) -> None:  # fmt: skip
        """A row of the plot, the lines of cursor, mark and new meanings where there is no dot."""
        characters = list(text)
        inks = [tones[owner] if owner != NOBODY else "ground" for owner in owners]
        for column, (character, tone) in columns.items():
            if 0 <= column < len(characters) and (owners[column] == NOBODY or character == "│"):
                characters[column], inks[column] = character, tone
        if gap is not None:
            begin, words, tone = gap
            begin = _free(owners, columns, begin, len(words))
            for at, character in enumerate(words, begin):
                if begin >= 0 and at < len(characters):
                    characters[at], inks[at] = character, tone
        at = 0
        for ink, run in groupby(inks):
            length = len(list(run))
            cells.put("".join(characters[at : at + length]), ink if ink != "ground" else "ink")
            at += length

    def _marks(self, chosen: DrawnCurve | None, rows: int) -> dict[int, str]:
        """What stands at the axis of values."""
        if self.is_small or chosen is None or chosen.is_lane:
            return {}
        if self.state.scale is AxisScale.PER_CENT:
            return {row_of(share, 0, 100, rows): f"{share} %" for share in (0, 25, 50, 75, 100)}
        marks = value_marks(chosen.bottom, chosen.top, chosen.step)
        return {row_of(value, chosen.bottom, chosen.top, rows): text for value, text in marks}

    def _letters(self, curves: list[DrawnCurve], rows: int) -> dict[int, list[tuple[str, str]]]:
        """A letter at the height where each curve ends."""
        found: dict[int, list[tuple[str, str]]] = {}
        for curve in reversed(curves):
            there = np.flatnonzero(np.isfinite(curve.thin.last))
            if not len(there):
                continue
            row = row_of(float(curve.thin.last[there[-1]]), curve.bottom, curve.top, rows)
            if len(found.get(row, ())) >= _RIGHT - 1:
                row = next((near for near in _near(row, rows) if len(found.get(near, ())) < _RIGHT - 1), row)
            found.setdefault(row, []).append((curve.letter, curve.tone))
        return found

    def _columns(self, width: int) -> dict[int, tuple[str, str]]:
        """Cursor, mark, and where a definition changed: by column of cells."""
        found: dict[int, tuple[str, str]] = {}
        for curve in self.picture.curves:
            for column in np.flatnonzero(curve.thin.is_new).tolist():
                found[column // 2] = ("╎", "violet")
        for moment, character, tone in ((self.state.mark, "┊", "ochre"), (self.state.cursor, "│", "ink")):
            place = self.column_of(moment)
            if place is not None and not self.is_small:
                found[place] = (character, tone)
        return found

    def column_of(self, moment: float | None) -> int | None:
        picture = self.picture
        if moment is None or not picture.begin <= moment <= picture.end:
            return None
        share = (moment - picture.begin) / (picture.end - picture.begin)
        return min(int(share * self.width), self.width - 1)

    def _gap_words(self, chosen: DrawnCurve | None, rows: int) -> dict[int, tuple[int, str, str]]:
        """Says in the widest gap of the chosen curve what it is."""
        if chosen is None or chosen.is_lane or self.is_small:
            return {}
        quality = chosen.thin.quality
        known = np.flatnonzero(quality <= STALE)
        if len(known) < 2:
            return {}
        widest = (0, 0, NEVER)
        start = int(known[0])
        for at in known.tolist():
            if at - start - 1 > widest[1] - widest[0]:
                widest = (start + 1, at, int(quality[start + 1]))
            start = at
        behind = len(quality) - 1 - start
        if behind > widest[1] - widest[0] and quality[-1] == BAD:
            widest = (start + 1, len(quality), BAD)
        words = "no value" if widest[2] == BAD else "not read"
        room = (widest[1] - widest[0]) // 2
        if room < len(words) + 2:
            return {}
        return {rows // 2: (widest[0] // 2 + (room - len(words)) // 2, words, chosen.tone)}

    def _limit_words(self, chosen: DrawnCurve | None, rows: int) -> dict[int, tuple[int, str, str]]:
        """What the lines of the chosen curve's limits mean, at their right."""
        if chosen is None or chosen.is_lane or self.is_small:
            return {}
        found = {}
        for rule in rules_of(chosen.place.point.limits):
            is_drawn = not rule.states and rule.level is not Level.RANGE
            if is_drawn and chosen.bottom <= rule.bound <= chosen.top:
                words = f" {rule.word} {rule.words(chosen.place.point)} "
                row = row_of(rule.bound, chosen.bottom, chosen.top, rows)
                free = next(
                    (at for at in (max(row - 1, 0), row + 1, row + 2, row - 2) if at not in found and 0 <= at < rows),
                    None,
                )
                if free is not None:
                    found[free] = (self.width - len(words) - 1, words, LEVEL_TONES[rule.level])
        return found

    def _times(self) -> Cells:
        width, left, picture = self.width, self.left, self.picture
        cells = Cells(self.palette)
        marks = time_marks(picture.begin, picture.end, max(width // 14, 2))
        placed: list[tuple[int, str, str, bool]] = []
        cursor = self.column_of(self.state.cursor)
        if cursor is not None and self.state.cursor is not None:
            text = clock(self.state.cursor, 1)
            placed.append((max(0, min(cursor - len(text) // 2, width - len(text))), text, "ink", True))
        mark = self.column_of(self.state.mark)
        if mark is not None and self.state.mark is not None:
            text = clock(self.state.mark, 1)
            left_of = max(0, min(mark - len(text) // 2, width - len(text)))
            if all(left_of + len(text) < other or left_of > other + len(said) for other, said, _, _ in placed):
                placed.append((left_of, text, "ochre", True))
        for moment, text in marks:
            at: int | None = self.column_of(moment)
            if at is None or at + len(text) > width:
                continue
            if all(at + len(text) < other or at > other + len(said) for other, said, _, _ in placed):
                placed.append((at, text, "muted", False))
        for column, text, tone, is_bold in sorted(placed):
            cells.at(left + column).put(text, tone, bold=is_bold)
        return cells

    def _lane(self, curve: DrawnCurve) -> Cells:
        name = "" if self.is_small else f" {curve.letter} {curve.place.point.name}"
        cells = put_lane(Cells(self.palette).put(name, curve.tone, self.left - 1).put(" "), curve, self.width)
        if self.is_small:  # its letter stands where those of the others do
            cells.at(self.left + self.width).put(" ").put(curve.letter, curve.tone, bold=True)
        return cells

    def _chosen_curve(self) -> DrawnCurve | None:
        curves = self.picture.curves
        return curves[self.state.chosen % len(curves)] if curves else None

    @property
    def chosen(self) -> DrawnCurve | None:
        """The curve whose axis and figures are shown."""
        return self._chosen_curve()

    # What keys do

    def action_cursor(self, steps: int) -> None:
        self.state.move_cursor(steps, self.width, self.now)
        self.moved()

    def action_choose(self, step: int) -> None:
        if self.picture.curves:
            self.state.chosen = (self.state.chosen + step) % len(self.picture.curves)
            self.moved()

    def action_zoom(self, inwards: bool) -> None:
        if not self.state.zoom(inwards, self.now):
            self.context.tell("a few seconds at least" if inwards else "more than a year is not drawn at once")
        self.moved()

    def action_pan(self, parts: float) -> None:
        self.state.pan(parts, self.now)
        self.moved()

    def action_edge(self, step: int) -> None:
        self.state.hold(self.now)
        begin, end = self.state.range(self.now)
        self.state.cursor = begin if step < 0 else min(end, self.now)
        self.moved()

    def on_click(self, event: events.Click) -> None:
        column = event.x - self.left
        if 0 <= column < self.width and not self.is_small:
            self.state.hold(self.now)
            begin, end = self.state.range(self.now)
            self.state.cursor = begin + (column + 0.5) / self.width * (end - begin)
            self.moved()


def _free(owners: list[int], columns: dict[int, tuple[str, str]], begin: int, length: int) -> int:
    """The place at `begin` or the first to its left where so many cells have nothing in them; -1 where none is."""
    run = 0
    for at in range(min(begin + length, len(owners)) - 1, -1, -1):
        run = run + 1 if owners[at] == NOBODY and at not in columns else 0
        if run == length:
            return at
    return -1


def _near(row: int, rows: int) -> list[int]:
    return [at for distance in range(1, 5) for at in (row - distance, row + distance) if 0 <= at < rows]


def _has_range(curve: DrawnCurve) -> bool:
    limits = curve.place.point.limits
    return limits.range_low is not None and limits.range_high is not None


def _limit_lines(curve: DrawnCurve) -> list[tuple[float, str]]:
    limits = curve.place.point.limits
    pairs = ((limits.warn_low, "ochre"), (limits.warn_high, "ochre"), (limits.alarm_low, "terracotta"),
             (limits.alarm_high, "terracotta"))  # fmt: skip
    return [(value, tone) for value, tone in pairs if value is not None]


def _day(at: float) -> str:
    return clock(at, 86400.0)
