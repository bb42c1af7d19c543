"""Builds one row of the screen from left to right, in cells."""

from rich.cells import cell_len, set_cell_size
from rich.segment import Segment
from textual.strip import Strip

from kanaleto.tui.shared.look import Palette, style
from kanaleto.values.visible import visible

_LEAST_KEPT = 0.6
_MOST_A_CELL = 8
"""Characters for each cell that are looked at; what is behind has no room in any case."""


def cut(text: str, width: int) -> str:
    """`text` in at most `width` cells, ending in … where something was cut."""
    if cell_len(text) <= width:
        return text
    if width <= 0:
        return ""
    fits = set_cell_size(text, width - 1)
    whole = fits.rstrip().rfind(" ")
    if text[len(fits) : len(fits) + 1].strip() and whole >= _LEAST_KEPT * len(fits):  # not in the middle of a word
        fits = fits[:whole].rstrip(" ·,;:(")
    return fits + "…"


class Cells:
    """One row on one ground. `put` goes on from where the last ended; `at` jumps to a column first."""

    def __init__(self, palette: Palette, ground: str = "ground") -> None:
        self._palette, self._ground = palette, ground
        self._segments: list[Segment] = []
        self.width = 0

    def put(
        self,
        text: str,
        ink: str = "ink",
        width: int | None = None,
        right: bool = False,
        bold: bool = False,
        on: str = "",
    ) -> "Cells":
        """Text in a colour, made fit for a terminal; with `width` cut or padded to it."""
        if text.isascii() and text.isprintable() and (width is None or len(text) <= width):
            size = len(text)  # as most are: a cell a character, and nothing to be made fit
        else:
            if width is not None and len(text) > _MOST_A_CELL * width:
                text = text[: _MOST_A_CELL * max(width, 0)] + "…"
            text = visible(text)
            if width is not None:
                text = cut(text, width)
            size = cell_len(text)
        if width is not None and size < width:
            text = " " * (width - size) + text if right else text + " " * (width - size)
            size = width
        if text:
            look = style(self._palette, ink, on or self._ground, bold)
            segments = self._segments
            if segments and segments[-1].style is look:  # neighbours of one look are one piece
                segments[-1] = Segment(segments[-1].text + text, look)
            else:
                segments.append(Segment(text, look))
            self.width += size
        return self

    @property
    def ground(self) -> str:
        return self._ground

    def at(self, column: int) -> "Cells":
        """Fill with blanks up to `column`."""
        return self.put(" " * max(column - self.width, 0))

    def _cut_to(self, width: int) -> None:
        """End in … where there is no more room."""
        left, kept = max(width, 0), list[Segment]()
        for segment in self._segments:
            size = cell_len(segment.text)
            if size > left:
                if left:
                    kept.append(Segment(cut(segment.text, left), segment.style))
                break
            kept.append(segment)
            left -= size
        if kept and not left and not kept[-1].text.rstrip().endswith("…"):
            last = kept.pop()
            kept.append(Segment(cut(f"{last.text}  ", cell_len(last.text)), last.style))
        self._segments, self.width = kept, sum(cell_len(segment.text) for segment in kept)

    def segments(self, width: int) -> list[Segment]:
        """The row, cut or filled to `width` cells."""
        if self.width > width:
            self._cut_to(width)
        if self.width < width:
            self.put(" " * (width - self.width))
        return self._segments

    def strip(self, width: int) -> Strip:
        """The same as the toolkit wants it."""
        return Strip(self.segments(width), width)
