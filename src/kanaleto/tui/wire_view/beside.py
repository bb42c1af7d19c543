"""Beside the bytes: how each device answers, and what the pattern of faults looks like, which comes first when there is
one."""

from textual.strip import Strip

from kanaleto.analysis.diagnosis import look_at
from kanaleto.board.snapshot import DeviceStatus
from kanaleto.events.log import length_text
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.words import clock_text

_EVENTS, _FEW_EVENTS = 12, 3


class Beside(Drawn):
    DEFAULT_CSS = "Beside { width: 70; height: 100%; background: $panel; }"

    def __init__(self) -> None:
        super().__init__()
        self._lines: list[Cells] = []
        self._now: object = None

    def tick(self) -> None:
        """Once a second: counts of what is asked hundreds of times are not read faster."""
        snapshot, events = self.snapshot, self.context.engine.session.events.ring
        now = snapshot.version, int(snapshot.now_s), self.size, self.palette, len(events)
        if now != self._now:
            self._now = now
            self._lines = self._made(self.size.width - 4)
        self.redraw()

    def draw_line(self, y: int) -> Strip:
        if 0 < y <= len(self._lines):
            return self._lines[y - 1].strip(self.size.width)
        return Cells(self.palette, "panel").strip(self.size.width)

    def _made(self, width: int) -> list[Cells]:
        lines = self.snapshot.lines
        name_width = max(width - 48, 12)
        head = Cells(self.palette, "panel").put("  ").put("HOW DEVICES ANSWER", "muted", name_width, bold=True)
        for title, column in (("good", 8), ("refused", 8), ("silent", 7), ("garbled", 8), ("median", 8), ("95 %", 9)):
            head.put(title, "dim", column, right=True)
        table = [head, *(self._device(status, name_width) for line in lines for status in line.devices)]
        looks = [Cells(self.palette, "panel").put("  ").put("WHAT THIS LOOKS LIKE", "muted", bold=True)]
        blank = Cells(self.palette, "panel")
        findings = look_at(lines)
        happened = self._happened(width)
        if not findings:
            looks.append(Cells(self.palette, "panel").put("  all that was asked has been answered", "muted"))
            return [*happened, *table, blank, *looks]
        for finding in findings:
            first = (
                Cells(self.palette, "panel")
                .put("  ")
                .put(finding.who, "violet" if finding.is_garbled else "terracotta", bold=True)
            )
            looks += self._wrapped(first, finding.text, width)
        return [*looks, blank, *happened, *table]

    def _happened(self, width: int) -> list[Cells]:
        """The last events, the newest first, and a blank row; nothing when nothing happened. On a low screen the newest
        few."""
        most = _EVENTS if self.size.height > 30 else _FEW_EVENTS
        rows: list[Cells] = []
        for event in reversed(list(self.context.engine.session.events.ring)[-most:]):
            first = Cells(self.palette, "panel").put("  ").put(clock_text(event.wall_s)[:8], "muted").put(" ")
            who = event.device or event.line
            times = f" ({event.count} times, last {clock_text(event.last_wall_s)[:8]})" if event.count > 1 else ""
            lasted = f"; over after {length_text(event.lasted_s)}" if event.lasted_s else ""
            told = f"{event.text}{times}{lasted}"
            rows += self._wrapped(first.put(who, "ink", bold=True) if who else first, told, width)
        head = Cells(self.palette, "panel").put("  ").put("WHAT HAPPENED", "muted", bold=True)
        return [head, *rows, Cells(self.palette, "panel")] if rows else []

    def _device(self, status: DeviceStatus, name_width: int) -> Cells:
        tally = status.tally
        cells = Cells(self.palette, "panel").put("  ").put(status.device.name, "ink", name_width)
        cells.put(str(tally.good), "verdigris", 8, right=True)
        for count, tone, column in (
            (sum(tally.exceptions.values()), "ochre", 8),
            (tally.timeouts + tally.unreachable, "terracotta", 7),
            (tally.garbled + tally.unexpected, "violet", 8),
        ):
            cells.put(str(count) if count else "·", tone if count else "dim", column, right=True)
        _, median, most, _ = tally.took or (0, 0, 0, 0)
        cells.put(f"{1000 * median:.1f}" if tally.took else "—", "ink", 8, right=True)
        return cells.put(f"{1000 * most:.0f} ms" if tally.took else "—", "muted", 9, right=True)

    def _wrapped(self, first: Cells, text: str, width: int) -> list[Cells]:
        rows = [first]
        for word in text.split():
            if rows[-1].width + len(word) + 1 > width + 2:
                rows.append(Cells(self.palette, "panel").put("  "))
                rows[-1].put(word)
            else:
                rows[-1].put(f" {word}")
        return rows
