"""A limit that is past, in one row."""

from kanaleto.board.crossing import Crossing, Level
from kanaleto.events.log import length_text
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.words import clock_text

LEVEL_SHAPES = {Level.RANGE: "▽", Level.WARN: "△", Level.ALARM: "▲"}
LEVEL_TONES = {Level.RANGE: "sky", Level.WARN: "ochre", Level.ALARM: "terracotta"}


def put_crossing(cells: Cells, crossing: Crossing, width: int, now: float | None = None) -> Cells:
    """Shape, point, device, what it is, since when, and who has seen it."""
    level = crossing.rule.level
    device, name = crossing.identity
    wide = width >= 110
    cells.put(f"{LEVEL_SHAPES[level]} ", LEVEL_TONES[level], bold=True).put(name, width=24 if wide else 18, bold=True)
    cells.put(" ").put(device or "derived", "muted", 20 if wide else 14).put(" ")
    cells.put(crossing.text, LEVEL_TONES[level], 30 if wide else 22).put(f" {crossing.rule.word:<6}", "muted")
    since = f"since {clock_text(crossing.wall_s)[:8]}"
    if crossing.ended_wall_s is not None:
        since = f"over, {clock_text(crossing.wall_s)[:8]} for {length_text(crossing.ended_wall_s - crossing.wall_s)}"
    elif now is not None and now >= crossing.wall_s:
        since = f"{since}, {length_text(now - crossing.wall_s)}"
    cells.put(since, "ink", 30 if wide and now is not None else 15).put(" ")
    if crossing.seen is None:
        return cells.put("not seen yet", "ochre")
    note = f": {crossing.seen.note}" if crossing.seen.note else ""
    return cells.put(f"seen {clock_text(crossing.seen.wall_s)[:5]} by {crossing.seen.who}{note}", "muted")
