"""All keys on one page."""

from textual.binding import Binding
from textual.strip import Strip

from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn

_EVERYWHERE = [
    ("1  2  3  4", "go to Find, Map, Live, Wire"),
    ("r", "a scratch reading: some registers of any unit, without a map"),
    ("arrows, h j k l", "move; page up, page down, home, end"),
    ("enter", "open what the cursor is on"),
    ("escape", "go back"),
    ("/", "filter what is shown; escape clears it"),
    ("space", "hold polling, or resume it"),
    ("n", "count addresses as the manual does, or as the wire does"),
    ("L", "hide the lanes, or show them"),
    ("ctrl+p", "find any action by name: ask now, reconnect, one cycle, switch off, save what was learned, …"),
    ("?", "these keys"),
    ("ctrl+z  ctrl+y", "undo an edit of the site, do it again"),
    ("ctrl+s  ctrl+n", "save the site as a file of your own, begin a new one"),
    ("q", "quit; a site that was never saved is kept and offered again"),
]
_FIND = [
    ("y", "type a link, a port or a range of hosts"),
    ("t  g  e  o", "try settings, ask units, look for registers, listen only; escape stops it"),
    ("a  A  s", "add as device or point, add a point a register, keep settings"),
    ("[ ]  + -  { }", "scratch reading: step, widen, change the unit; v chooses words to keep"),
    ("tab", "from panel to panel"),
]
_MAP = [
    ("d  b  < >", "what the display on the device says; take the reading that is marked, mark another"),
    ("z", "off by one? The words one address up and down, decoded the same way"),
    ("i  x  y", "import a table or description, export the map, copy rows with words and values; a pasted table is imported too"),
    ("F", "fit the scale to what the display shows"),
    ("a  c  C  delete", "add points, change cells, copy, delete: of the point or of all that are marked with v"),
    ("enter", "on a narrow screen: open the point"),
]
_LIVE = [("p", "pin the point to the trend, or take it off"), ("enter", "open the point: from its words to its value")]
_WIRE = [
    ("f", "follow the newest exchange"),
    ("e", "only what failed, the newest of it open"),
    ("enter", "fold the bytes away, or open them"),
]
_SHAPES = [
    ("●", "verdigris", "answers"),
    ("◐", "ochre", "late, or answers with exceptions"),
    ("✕", "terracotta", "silent"),
    ("◇", "violet", "garbled"),
    ("◌", "dim", "not polled, or not answered yet"),
]


class Keys(Drawn, can_focus=True):
    """The page behind `?`."""

    BINDINGS = [Binding("escape,enter", "app.back", show=False)]

    def render_line(self, y: int) -> Strip:
        cells = Cells(self.palette)
        rows = self._rows()
        if y < len(rows):
            key, tone, text = rows[y]
            if tone == "head":
                cells.put(f"  {key}", "muted", bold=True)
            elif key:
                cells.put("  ").put(key, tone, width=18, bold=True).put(text)
        return cells.strip(self.size.width)

    def _rows(self) -> list[tuple[str, str, str]]:
        blank = ("", "", "")
        rows = [blank, ("EVERYWHERE", "head", ""), *((key, "ochre", text) for key, text in _EVERYWHERE)]
        rows += [blank, ("FIND", "head", ""), *((key, "ochre", text) for key, text in _FIND)]
        rows += [blank, ("MAP", "head", ""), *((key, "ochre", text) for key, text in _MAP)]
        rows += [blank, ("LIVE", "head", ""), *((key, "ochre", text) for key, text in _LIVE)]
        rows += [blank, ("WIRE", "head", ""), *((key, "ochre", text) for key, text in _WIRE)]
        return [*rows, blank, ("SHAPES", "head", ""), *_SHAPES]
