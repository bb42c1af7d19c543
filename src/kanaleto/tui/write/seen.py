"""What the line to write into shows: title, value, what goes out, what happens then."""

from collections.abc import Callable, Sequence

from kanaleto.board.snapshot import Snapshot
from kanaleto.control.permission import is_broadcast
from kanaleto.control.preview import PlannedWrite, Preview, Spot, now_of
from kanaleto.control.sight import changes_of, sight_of
from kanaleto.control.wanted import CannotWrite
from kanaleto.site.model import Device
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.look import Palette
from kanaleto.tui.shared.words import wrapped

_LABEL = 11


def message_rows(palette: Palette, text: str, tone: str, width: int, most: int) -> list[Cells]:
    parts = wrapped(text, max(width - 4, 20)) if text else []
    if len(parts) > most:
        parts = [*parts[: most - 1], parts[most - 1] + " …"]
    return [Cells(palette, "panel").put("  ").put(part, tone) for part in parts]


class SeenPreview:
    """Rows of cells, of one preview."""

    def __init__(
        self, spots: Sequence[Spot], made: Preview, snapshot: Snapshot, palette: Palette, width: int,
        knows_mask: Callable[[Spot], bool],
    ) -> None:  # fmt: skip
        self._spots, self._made, self._snapshot = spots, made, snapshot
        self._knows_mask = knows_mask
        self._palette, self._width = palette, width

    def _cells(self, label: str = "") -> Cells:
        return Cells(self._palette, "panel").put("  ").put(label, "muted", _LABEL if label else 0)

    @property
    def changed(self) -> str:
        """What stands there now, where it is not what stood there when this was typed."""
        for line in self._made.lines[:20]:
            now, is_fresh, text = now_of(line.spot, self._snapshot)
            if now is not None and line.now is not None and line.is_fresh and is_fresh and now != line.now:
                return f"{line.spot.name} has changed meanwhile: {text} stands there now, it was {line.old_text}"
        return ""

    def title(self, what: str, bit: int | None = None) -> Cells:
        first = self._spots[0]
        count = max(len(self._spots), len(self._made.lines))
        name = first.name if count == 1 else f"{first.name} and {count - 1} more"
        if bit is not None:
            name += f" · bit {bit} {first.point.labels.get(bit, '')}"
        devices = {spot.who for spot in self._spots}
        who = first.who if len(devices) == 1 else f"{len(devices)} devices"
        cells = (
            self._cells()
            .put(name, bold=True)
            .put("   ")
            .put(f"{who} · {first.line.name} · unit {first.unit_id}", "muted")
        )
        if self._is_to_all:
            return cells.put("   a broadcast: to every device of the line", "terracotta", bold=True)
        return cells.put(f"   {what or 'nothing goes out before enter'}", "dim")

    @property
    def _is_to_all(self) -> bool:
        first, orders = self._spots[0], self._made.orders
        return is_broadcast(first.line, orders[0].unit_id if orders else first.unit_id)

    def value(self, text: str, at: int, has_keys: bool) -> Cells:
        point = self._spots[0].point
        cells = self._cells("new value")
        room = max(self._width // 3, 12)
        start = max(at - room + 1, 0)
        shown = text[start : start + room]
        here = at - start
        cells.put(" ", on="rules").put(shown[:here], bold=True, on="rules")
        if has_keys:
            cells.put(shown[here : here + 1] or " ", "ground", on="ochre")
            cells.put(shown[here + 1 :], bold=True, on="rules")
        else:
            cells.put(shown[here:], bold=True, on="rules")
        cells.put(" ", on="rules").put(f" {point.unit}" if point.unit else "", "muted")
        lines = self._made.lines
        if len(lines) > 1:
            return self._several(cells, lines)
        now, is_fresh, old_text = now_of(self._spots[0], self._snapshot)
        words = "" if now is None or point.table.is_bits else f" {now.hex(' ', 2).upper()}"
        cells.put("    now ", "muted").put(old_text, "ink" if is_fresh else "ochre").put(words, "sky")
        changes = changes_of(lines[0]) if lines else ""
        if changes:
            cells.put("    ").put(changes, "ochre")
        elif lines and lines[0].wanted.text:
            cells.put("    becomes ", "muted").put(lines[0].wanted.text, bold=True)
        limits = point.limits
        if limits.range_low is not None and limits.range_high is not None:
            cells.put("    within ", "muted").put(f"{limits.range_low:g} … {limits.range_high:g} {point.unit}")
        return cells

    def _several(self, cells: Cells, lines: Sequence[PlannedWrite]) -> Cells:
        is_one = len({line.spot.who for line in lines}) == 1
        names = [line.spot.name if is_one else line.spot.who for line in lines[:6]]
        texts = [f"{name}: {line.old_text} → {line.wanted.text}" for name, line in zip(names, lines, strict=False)]
        more = f" and {len(lines) - 6} more" if len(lines) > 6 else ""
        return cells.put("   ").put(" · ".join(texts) + more, "ink")

    def goes_out(self) -> Cells:
        cells = self._cells("goes out")
        orders = self._made.orders
        if not orders:
            return cells.put("nothing yet", "dim")
        order = self._made.wish.order if self._made.wish is not None else orders[0]
        spot = next(
            (line.spot for line in self._made.lines if line.spot.who == (order.device or line.spot.who)), self._spots[0]
        )
        try:
            sight = sight_of(order, spot, self._knows_mask(spot))
        except CannotWrite as error:
            return cells.put(str(error), "ochre")
        frame = sight.frames[0] + (" …" if len(sight.frames) > 1 else "")
        if not order.table.is_bits:
            cells.put("word " if order.count == 1 else "words ", "muted").put(f"{sight.words}  ", "sky")
        cells.put(frame, "sky").put(f"   {sight.method}, {sight.where}", "muted")
        cells.put(f", {1000 * sight.takes_s:.1f} ms", "muted")
        if len(orders) > 1:
            cells.put(f"   and {len(orders) - 1} more, one after the other", "muted")
        return cells

    def then(self, device: Device | None) -> Cells:
        cells = self._cells("then")
        wish = self._made.wish
        if wish is not None:
            end = "the last value stays" if wish.safe is None else f"{wish.safe.hex(' ', 2).upper()} first, then stop"
            watchdog = (
                f", its watchdog trips after {device.watchdog_s:g} s"
                if device is not None and device.watchdog_s
                else ""
            )
            cells.put(f"repeated every {wish.period_s:g} s until it is stopped{watchdog}; at the end: ").put(
                end, bold=True
            )
            return cells
        if self._made.pulse_s:
            return cells.put(f"the way back after {self._made.pulse_s:g} s, whatever happens")
        if self._is_to_all:
            return cells.put("nobody answers a broadcast: it is not known who has taken it, nothing is read back")
        if len(self._made.orders) > 1:
            return cells.put("each read back and compared; the first that fails ends it")
        first = orders[0] if (orders := self._made.orders) else None
        if first is not None and first.is_masked and not self._knows_mask(self._spots[0]):
            cells.put("it knows no mask write: the whole word is read, changed and written; ", "ochre")
        cells.put("read back and compared, watched for 5 s")
        return cells.put(
            "    0x…, 0b…, a state's text; several by ; = DEVICE copies; @ FILE; to all; every 0.5 s then 0", "dim"
        )
