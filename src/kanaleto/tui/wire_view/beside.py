"""Beside the bytes: how each device answers, and what the pattern of faults looks like, which comes first when there is
one. With the keys in it a finding is chosen; enter lists the rows that show it."""

from collections.abc import Callable

from textual.binding import Binding
from textual.strip import Strip

from kanaleto.events.log import length_text
from kanaleto.evidence.finding import FindingKind, WireFinding
from kanaleto.evidence.gathered import OfDevice
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.rows import Scrolled
from kanaleto.tui.shared.words import clock_text
from kanaleto.tui.wire_view.looking import Looking

_EVENTS, _FEW_EVENTS = 12, 3
_BARS = "▁▂▃▄▅▆▇█"
_VIOLET = (
    FindingKind.GROWS_WITH_LENGTH, FindingKind.ANOTHER_RATE, FindingKind.TWO_ALIKE, FindingKind.MIXED_UP,
    FindingKind.ECHO, FindingKind.OTHER_MASTER, FindingKind.WRONG_UNIT,
)  # fmt: skip
_HISTOGRAM = 5
_COLUMNS = (
    ("good", 6), ("refused", 8), ("silent", 7), ("late", 5), ("garbled", 8), ("median", 8), ("95 % ms", 8),
)  # fmt: skip


class Beside(Scrolled, can_focus=True):
    BINDINGS = [
        Binding("up,k", "choose(-1)", show=False),
        Binding("down,j", "choose(1)", show=False),
        Binding("enter", "rows", show=False),
        Binding("pageup", "page(-1)", show=False),
        Binding("pagedown", "page(1)", show=False),
    ]
    DEFAULT_CSS = "Beside { width: 70; height: 100%; background: $panel; scrollbar-size: 1 1; }"

    def __init__(self) -> None:
        super().__init__()
        self.looking = Looking()
        self.when_chosen: Callable[[WireFinding], None] = lambda finding: None
        self.chosen = 0
        self.shows_events = True
        self._lines: list[Cells] = []
        self._places: list[int] = []
        self._now: object = None

    def tick(self) -> None:
        """Drawn where something came of it."""
        snapshot, events = self.snapshot, self.context.engine.session.events.ring
        now = (
            self.looking.version, self.looking.span, int(snapshot.now_s / 5), self.size, self.palette, len(events),
            self.chosen, self.has_focus,
        )  # fmt: skip
        if now != self._now:
            self._now = now
            self._lines = self._made(self.size.width - 4)
            self.have_lines(len(self._lines) + 1)
        self.redraw()

    def draw_line(self, y: int) -> Strip:
        at = y + self.scroll_offset.y
        if 0 < at <= len(self._lines):
            return self._lines[at - 1].strip(self.size.width)
        return Cells(self.palette, "panel").strip(self.size.width)

    def action_choose(self, step: int) -> None:
        if self.looking.findings:
            self.chosen = max(0, min(self.chosen + step, len(self.looking.findings) - 1))
            self.tick()
            self.scroll_to(y=max(self._places[self.chosen] - 1, 0), animate=False, force=True)
        else:
            self.action_page(step)

    def action_page(self, step: int) -> None:
        self.action_by(step * max(self.size.height - 2, 1))

    def action_rows(self) -> None:
        if self.chosen < len(self.looking.findings):
            self.when_chosen(self.looking.findings[self.chosen])

    def _cells(self) -> Cells:
        return Cells(self.palette, "panel")

    def _made(self, width: int) -> list[Cells]:
        looks = self._looks(width)
        happened = self._happened(width) if self.shows_events else []
        table = self._table(width)
        blank = self._cells()
        if self.looking.findings or self.looking.remarks or self.looking.when:
            return [*looks, blank, *table, blank, *happened]
        self._places = []
        return [*happened, *table, blank, *looks]

    def _looks(self, width: int) -> list[Cells]:
        looking = self.looking
        lines = [self._cells().put("  ").put("WHAT IT LOOKS LIKE", "muted", bold=True)]
        self._places = []
        for number, finding in enumerate(looking.findings):
            self._places.append(len(lines) + 1)
            is_chosen = self.has_focus and number == self.chosen
            tone = "violet" if finding.kind in _VIOLET else "terracotta"
            first = self._cells().put("▸ " if is_chosen else "  ", "ochre").put(finding.who, tone, bold=True)
            lines += self._wrapped(first, f"{finding.what}.", width)
            lines += self._wrapped(self._cells().put("  ").put("likely", "muted"), "; or ".join(finding.causes), width)
            lines += self._wrapped(self._cells().put("  ").put("try", "muted"), "; ".join(finding.tries), width)
            if is_chosen:
                lines += self._wrapped(self._cells().put("  ").put("what tells", "muted"), finding.apart, width)
        for remark in looking.remarks:
            lines += self._wrapped(self._cells().put("  "), remark, width)
        if looking.when:
            lines.append(self._cells().put("  ").put("WHAT WAS ASKED FOR", "muted", bold=True))
            for text in looking.when:
                lines += self._wrapped(self._cells().put(" "), text, width)
        if len(lines) == 1:
            lost = sum(device.failed for device in looking.devices)
            message = f"{lost} failed, in no pattern: nothing stands out" if lost else "all that was asked was answered"
            lines.append(self._cells().put(f"  {message if looking.rows else 'nothing was asked'}", "muted"))
        return lines

    def _happened(self, width: int) -> list[Cells]:
        """The last events, the newest first, and a blank row; nothing when nothing happened. On a low screen the newest
        few."""
        most = _EVENTS if self.size.height > 30 else _FEW_EVENTS
        rows: list[Cells] = []
        for event in reversed(list(self.context.engine.session.events.ring)[-most:]):
            first = self._cells().put("  ").put(clock_text(event.wall_s)[:8], "muted").put(" ")
            who = event.device or event.line
            times = f" ({event.count} times, last {clock_text(event.last_wall_s)[:8]})" if event.count > 1 else ""
            lasted = f"; over after {length_text(event.lasted_s)}" if event.lasted_s else ""
            text = f"{event.text}{times}{lasted}"
            rows += self._wrapped(first.put(who, "ink", bold=True) if who else first, text, width)
        head = self._cells().put("  ").put("WHAT HAPPENED", "muted", bold=True)
        return [head, *rows, self._cells()] if rows else []

    def _table(self, width: int) -> list[Cells]:
        """A row a device: counts by outcome, median and 95 %, and the times as a histogram where there is room. Late
        answers have a column where there are any."""
        devices = self.looking.devices
        has_bars, has_late = width >= 66, any(device.late.count for device in devices)
        columns = [column for column in _COLUMNS if has_late or column[0] != "late"]
        used = sum(size for _, size in columns)
        name_width = max(width - used - (_HISTOGRAM + 1 if has_bars else 0), 12)
        head = self._cells().put("  ").put("HOW EACH ANSWERS", "muted", name_width, bold=True)
        for title, size in columns:
            head.put(title, "dim", size, right=True)
        of = self._cells().put("  ").put(f"{self.looking.span.value}, {self.looking.rows:,} exchanges", "dim")
        return [head, of, *(self._device(device, name_width, dict(columns), has_bars) for device in devices)]

    def _device(self, device: OfDevice, name_width: int, columns: dict[str, int], has_bars: bool) -> Cells:
        kinds = device.kinds
        cells = self._cells().put("  ").put(device.name, "ink", name_width)
        cells.put(str(kinds.get(OutcomeKind.GOOD, 0)), "verdigris", columns["good"], right=True)
        silent = sum(kinds.get(kind, 0) for kind in (OutcomeKind.TIMEOUT, OutcomeKind.UNREACHABLE))
        garbled = sum(kinds.get(kind, 0) for kind in (OutcomeKind.GARBLED, OutcomeKind.UNEXPECTED))
        for name, text, tone in (
            ("refused", _refused(device), "ochre"),
            ("silent", str(silent or "·"), "terracotta"),
            ("late", str(device.late.count or "·"), "ochre"),
            ("garbled", str(garbled or "·"), "violet"),
        ):
            if name in columns:
                cells.put(text, "dim" if text == "·" else tone, columns[name], right=True)
        times = sorted(device.times)
        count = len(times)
        median = f"{1000 * times[count // 2]:.1f}" if times else "—"
        most = f"{1000 * times[min(count * 95 // 100, count - 1)]:.1f}" if times else "—"
        cells.put(median, "ink", columns["median"], right=True).put(most, "muted", columns["95 % ms"], right=True)
        return cells.put(" ").put(_bars(times), "verdigris") if has_bars else cells

    def _wrapped(self, first: Cells, text: str, width: int) -> list[Cells]:
        rows = [first]
        for word in text.split():
            if rows[-1].width + len(word) + 1 > width + 2:
                rows.append(self._cells().put("  "))
                rows[-1].put(word)
            else:
                rows[-1].put(f" {word}")
        return rows


def _refused(device: OfDevice) -> str:
    """How often, and behind it the code, the most frequent one where there were several."""
    codes = {code: shown.count for code, shown in (*device.codes.items(), *device.gateway_codes.items())}
    if not codes:
        return "·"
    most = max(codes, key=lambda code: codes[code])
    count = f"{sum(codes.values())}"
    text = f"{count} ({most}{'…' if len(codes) > 1 else ''})"
    return text if len(text) < dict(_COLUMNS)["refused"] else count


def _bars(times: list[float]) -> str:
    """How often each fifth between the least and the most time was needed."""
    if len(times) < 3:
        return ""
    least, most = times[0], times[-1]
    counts = [0] * _HISTOGRAM
    for one in times:
        counts[min(int((one - least) / max(most - least, 1e-9) * _HISTOGRAM), _HISTOGRAM - 1)] += 1
    top = max(counts)
    return "".join(" " if not count else _BARS[min(count * 8 // (top + 1), 7)] for count in counts)
