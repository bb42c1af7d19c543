"""Side by side: two devices of one map, points that are marked, or what is expected beside what is seen."""

from collections.abc import Hashable, Sequence

from textual.app import ComposeResult
from textual.strip import Strip

from kanaleto.analysis.comparing import Pair, devices_like, difference, pairs_of
from kanaleto.board.board import Quality
from kanaleto.board.snapshot import Snapshot
from kanaleto.planning.plan import AnyPlace, Identity
from kanaleto.tui.parts.compare import KIND
from kanaleto.tui.parts.part import Doors, Part
from kanaleto.tui.shared.actions import Key
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.readings import brief_text, value_tone
from kanaleto.tui.shared.rows import Rows
from kanaleto.values.codec import CannotEncode, NoValue
from kanaleto.values.digits import number
from kanaleto.values.text import shown
from kanaleto.values.turning import Turning


class With(Turning):
    """With what is compared. The value is how it is shown."""

    DEVICE = "another device of its map"
    POINTS = "each other"
    EXPECTED = "what is expected"


class CompareHead(Drawn):
    DEFAULT_CSS = "CompareHead { height: 3; }"
    titles: tuple[str, str, str] = ("", "", "")
    text = ""

    def draw_line(self, y: int) -> Strip:
        width = self.size.width
        cells = Cells(self.palette)
        if y == 0:
            cells.put(" COMPARE  ", "muted", bold=True).put(self.text, "ink")
        elif y == 2:
            name, value, more = widths(width)
            cells.put(" ").put(self.titles[0], "muted", name).put(self.titles[1], "muted", value, right=True, bold=True)
            cells.put(self.titles[2], "muted", value, right=True, bold=True).put(
                "difference", "muted", more, right=True
            )
        return self.strip_of(y, cells, width)


def widths(width: int) -> tuple[int, int, int]:
    """Of the name, of each value, and of the difference."""
    value = 24 if width >= 110 else 17
    name = max(min(width - 2 * value - 20, 44), 16)
    return name, value, 18 if width >= 100 else 14


class CompareRows(Rows[Pair]):
    expected: dict[Identity, float | str]
    only_different = False

    def identity(self, row: Pair) -> Hashable:
        place = row.left or row.right
        return (row.name, place.identity if place is not None else None)

    def draw(self, row: Pair, width: int, ground: str) -> Cells:
        name, value, more = widths(width)
        cells = Cells(self.palette, ground).put(" ").put(row.name, "ink", name)
        expected = self.expected_of(row)
        if expected is not None or row.right is None:
            text = expected_text(row.left, expected)
            cells.put(text, "sky", value, right=True)
            self._put(cells, row.left, value)
        else:
            self._put(cells, row.left, value)
            self._put(cells, row.right, value)
        message, is_off = self.verdict(row)
        cells.put(message, "ochre" if is_off else "muted", more, right=True)
        return cells.put("  ≠" if is_off else "", "ochre", bold=True)

    def _put(self, cells: Cells, place: AnyPlace | None, width: int) -> None:
        if place is None:
            cells.put("no such point", "dim", width, right=True)
            return
        reading = self.snapshot.reading(place)
        text = brief_text(place.point, reading)
        cells.put(text, value_tone(place.point, reading), width, right=True, bold=reading.quality is Quality.GOOD)

    def texts(self, row: Pair) -> tuple[str, str]:
        """Both sides as text."""
        sides = [
            brief_text(place.point, self.snapshot.reading(place)) if place is not None else "no such point"
            for place in (row.left, row.right)
        ]
        if row.right is None:
            return expected_text(row.left, self.expected_of(row)), sides[0]
        return sides[0], sides[1]

    def expected_of(self, row: Pair) -> float | str | None:
        return self.expected.get(row.left.identity) if row.left is not None and row.right is None else None

    def verdict(self, row: Pair) -> tuple[str, bool]:
        """The difference in words, and whether the two are not the same."""
        if row.left is None:
            return "", True
        snapshot, left = self.snapshot, row.left
        seen = snapshot.reading(left)
        if row.right is None:
            expected = self.expected.get(left.identity)
            if expected is None:
                return "", False
            return verdict_of(left, expected, seen.value)
        other = snapshot.reading(row.right)
        off = difference(seen, left.point, other, row.right.point)
        if off is not None:
            text = shown(off, left.point.codec, left.point.decimals)
            is_same = not any(character in "123456789" for character in text)
            return (text if text.startswith("-") else f"+{text}") if not is_same else "0", not is_same
        is_off = brief_text(left.point, seen) != brief_text(row.right.point, other)
        return "differs" if is_off else "same", is_off


def expected_text(place: AnyPlace | None, expected: float | str | None) -> str:
    if place is None or expected is None:
        return "—"
    if isinstance(expected, str):
        return expected
    return f"{expected:.10g} {place.point.unit}".strip()


def verdict_of(place: AnyPlace, expected: float | str, value: object) -> tuple[str, bool]:
    """Seen minus expected. The same is what the device could not tell apart: half a step of the point."""
    point = place.point
    if isinstance(value, NoValue) or value is None:
        return "no value", True
    if isinstance(expected, str) or not isinstance(value, int | float):
        text = shown(value, point.codec, point.decimals, point.labels)  # type: ignore[arg-type]
        is_off = text.casefold() != str(expected).strip().casefold()
        return "differs" if is_off else "same", is_off
    off = float(value) - expected
    digits = len(repr(expected).partition(".")[2].rstrip("0")) if expected != int(expected) else 0
    decimals = point.decimals if point.decimals is not None else digits
    step = max(10.0 ** -min(decimals, digits or decimals), _raw_step(place))
    is_off = abs(off) > step / 2 * 1.000001
    return f"{off:+.{min(max(decimals, digits), 9)}f}", is_off


def _raw_step(place: AnyPlace) -> float:
    from kanaleto.analysis.movement import least_step

    return least_step(place.point)


class ComparePart(Part):
    kind = KIND
    actions = KIND.actions

    def __init__(self, doors: Doors) -> None:
        super().__init__(doors)
        self._with = With.DEVICE
        self._left = self._right = ""
        self._points: list[Identity] = []
        self._only = False
        self._answers = 0
        self._judged_for: object = None
        self.expected: dict[Identity, float | str] = {}
        self._head, self._list = CompareHead(), CompareRows()
        self._list.expected = self.expected

    def compose(self) -> ComposeResult:
        yield self._head
        yield self._list

    def begin(self, device: str, marked: Sequence[Identity]) -> None:
        """With what the cursor was on, and what is marked."""
        self._judged_for = None
        self._points = list(marked)
        self._left = device
        likes = [
            each_device.name
            for each_device in devices_like(self.context.snapshot.site, device)
            if each_device.name != device
        ]
        if self._right not in likes:
            self._right = likes[0] if likes else ""
        self._with = With.POINTS if len(marked) > 1 else With.DEVICE if likes else With.EXPECTED

    def show(self, snapshot: Snapshot) -> None:
        super().show(snapshot)
        key = (int(snapshot.now_s), snapshot.version, self._with, self._left, self._right, self._only, self._answers)
        if key != self._judged_for:  # thousands of points take their time
            self._judged_for = key
            self._judge()
        else:
            self._list.redraw()

    def _judge(self) -> None:
        pairs = self.pairs()
        off = [pair for pair in pairs if self._list.verdict(pair)[1]]
        self._list.empty_text = "nothing differs" if self._only and pairs else "nothing to compare here"
        self._list.set_rows(off if self._only else pairs)
        self._head.text = f"with {self._with.value} · {len(off)} of {len(pairs)} differ"
        self._head.titles = self._titles()
        self._head.redraw()

    def _titles(self) -> tuple[str, str, str]:
        if self._with is With.DEVICE:
            return "", self._left, self._right or "no other"
        if self._with is With.EXPECTED:
            return self._left, "expected", "seen"
        first = self._points[0] if self._points else ("", "")
        return "", " · ".join(part for part in reversed(first) if part), "the other"

    def pairs(self) -> list[Pair]:
        snapshot = self.snapshot
        if self._with is With.DEVICE:
            return pairs_of(snapshot, self._left, self._right) if self._right else []
        if self._with is With.POINTS:
            places = [place for one in self._points if (place := snapshot.place_of(one)) is not None]
            return [
                Pair(" · ".join(part for part in reversed(place.identity) if part), places[0], place)
                for place in places[1:]
            ]
        part = snapshot.plan.part_of(self._left)
        chosen: list[AnyPlace] = [place for one in self._points if (place := snapshot.place_of(one)) is not None]
        chosen = chosen or (list(part.places) if part is not None else list(snapshot.plan.derived))
        return [Pair(place.point.name, place, None) for place in chosen]

    def as_table(self) -> tuple[str, list[str], list[list[str]], list[int]]:
        """What is shown, for paper: what it is, headings, rows, and which of these differ."""
        rows, marked = [], []
        for at, pair in enumerate(self._list.rows):
            text, is_off = self._list.verdict(pair)
            rows.append([pair.name, *self._list.texts(pair), f"{text}{' ≠' if is_off else ''}"])
            marked += [at] if is_off else []
        titles = self._titles()
        return self._head.text, [titles[0] or "point", titles[1], titles[2], "difference"], rows, marked

    def focus_rows(self) -> None:
        self.screen.set_focus(self._list)

    def keys_here(self) -> list[Key]:
        of_pair = {
            With.DEVICE: self.keys_of("other"),
            With.POINTS: [],
            With.EXPECTED: self.keys_of("expect"),
        }[self._with]
        only = self.keys_of("only", only="all rows" if self._only else "only what differs")
        return [*self.keys_of("next"), *of_pair, *only, *self.keys_of("go"), ("x", "export"), ("escape", "back")]

    def action_next(self) -> None:
        self._with = self._with.next
        if self._with is With.POINTS and len(self._points) < 2:
            self._with = self._with.next
        self.context.redraw()

    def action_other(self, step: int) -> None:
        likes = [device.name for device in devices_like(self.snapshot.site, self._left) if device.name != self._left]
        if not likes:
            self.context.tell(f"no other device shares the map of {self._left}")
            return
        at = likes.index(self._right) if self._right in likes else -step
        self._right = likes[(at + step) % len(likes)]
        self._with = With.DEVICE
        self.context.redraw()

    def action_only(self) -> None:
        self._only = not self._only
        self.context.redraw()

    def action_go(self) -> None:
        row = self._list.current
        place = (row.left or row.right) if row is not None else None
        if place is not None:
            self.doors.go_to(place.identity)

    def action_expect(self) -> None:
        row = self._list.current
        place = row.left if row is not None else None
        if place is None:
            return
        self._with = With.EXPECTED
        identity, point = place.identity, place.point
        before = self.expected.get(identity)

        def answer(text: str) -> str | None:
            text = text.strip()
            if not text:
                self.expected.pop(identity, None)
            else:
                try:
                    self.expected[identity] = parse_expected(place, text)
                except ValueError as error:
                    return str(error)
            self._answers += 1
            self._list.place_cursor(self._list.cursor + 1)
            self.context.redraw()
            return None

        unit = f" ({point.unit})" if point.unit else ""
        self.context.ask(
            f"{point.name}{unit}: expected; nothing takes it away", "" if before is None else str(before), answer
        )


def parse_expected(place: AnyPlace, text: str) -> float | str:
    """A number, or a state by its label, or text. Raises ValueError."""
    point = place.point
    for value, label in point.labels.items():
        if label.casefold() == text.casefold():
            return label
        del value
    plain = text.removesuffix(point.unit).strip() if point.unit else text
    try:
        return number(plain.replace(",", "."))
    except ValueError:
        if point.labels:
            raise ValueError(f"{text!r} is neither a number nor one of {', '.join(point.labels.values())}") from None
        try:
            point.codec.encode(text, is_within=False)
        except (CannotEncode, ValueError, TypeError):
            raise ValueError(f"{text!r} is no number") from None
        return text
