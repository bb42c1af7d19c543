"""Above and below the ruler: whose registers, the columns, and what this map costs its line."""

from textual.strip import Strip

from kanaleto.site.counting import Numbering
from kanaleto.site.model import Device, Line
from kanaleto.tui.map.prompts import serves
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.words import device_phrase

_COUNTS = {
    Numbering.PROTOCOL: "manual counts from 0",
    Numbering.ONE: "manual counts from 1",
    Numbering.REFERENCE: "manual counts from {}0001",
}


class MapHead(Drawn):
    """Whose registers, and the columns."""

    DEFAULT_CSS = "MapHead { height: 3; }"
    device: Device | None = None
    line: Line | None = None

    def draw_line(self, y: int) -> Strip:
        width, device = self.size.width, self.device
        cells = Cells(self.palette).put("" if y == 2 else " ")
        if y == 0 and device is not None:
            table = next((point.table for point in device.points), None)
            count = (
                _COUNTS[device.numbering].format(table.reference_digit if table is not None else 4)
                if isinstance(device.numbering, Numbering)
                else "a numbering of the maker's own"
            )
            cells.put(device.name, bold=True).put(f"   unit {device.unit_id}", "muted")
            for text, tone in self._most_points(device):
                cells.put(text, tone)
            cells.put(f" · {count}", "muted")
            message = serves(self.snapshot.site, device)
            if message:
                cells.put(f" · {message}", "ochre")
            if device.order is not None:
                cells.put(f" · order {device.order.value}", "muted")
            found = self.snapshot.status_of(device.name)
            if found is not None and (found[0].is_off or found[1].points_off or not device.is_enabled):
                cells.put(f" · {device_phrase(*found)}", "ochre")
        elif y == 2 and device is not None:
            cells.put("  ").put("wire" if self.context.counts_as_wire else "manual", "dim", 8, right=True)
            if width >= 60:
                cells.put("wire", "dim", 7, right=True)
            cells.put("  word  point", "dim")
        return cells.strip(width)

    def _most_points(self, device: Device) -> list[tuple[str, str]]:
        """How many points there may be, where the site says so: of the device, its line, the site."""
        site, pairs = self.snapshot.site, []
        line = self.line
        for most, count, of in (
            (device.max_points, len(device.points), ""),
            (
                line.max_points if line is not None else None,
                line.point_count if line is not None else 0,
                " on the line",
            ),
            (site.max_points, site.point_count, " in the site"),
        ):
            if most is not None:
                over = f", {count - most} too many" if count > most else ""
                pairs.append((f" · {count} of {most} points{of}{over}", "terracotta" if over else "muted"))
        return pairs


class MapFoot(Drawn):
    """What this map costs its line."""

    DEFAULT_CSS = "MapFoot { height: 1; }"
    device: Device | None = None
    line: Line | None = None

    def draw_line(self, y: int) -> Strip:
        cells = Cells(self.palette).put(" ")
        plan = self.snapshot.plan
        part = plan.part_of(self.device.name) if self.device is not None else None
        if part is not None:
            blocks = [block for block in part.blocks if block.period_s > 0]
            share, spent, is_measured = self.snapshot.load_of(part.device.name)
            count = f"{len(blocks)} request{'s' if len(blocks) != 1 else ''}"
            load = self.snapshot.load(part.line)
            how = ", as measured" if is_measured else ", as calculated"
            cells.put(f"{count}, {1000 * spent:.1f} ms of line time{how}", "muted")
            cells.put(f" · this device {100 * share:.0f} %, ", "muted")
            cells.put(
                f"{part.line.name} {100 * load:.0f} %", "terracotta" if load > 1 else "ochre" if load > 0.8 else "muted"
            )
        return cells.strip(self.size.width)
