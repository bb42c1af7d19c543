"""The drawing of a site: each line with its devices in the order along the cable, over as many pages as it takes.
Every shape has room of its own: a row of boxes hangs on its piece of the line, and nothing else is put there."""

from kanaleto.paper.look import INK, MUTED
from kanaleto.paper.scene import A4, MARGIN, Box, Disc, Label, Scene, Stroke, fit, wrapped_to
from kanaleto.paper.sheets import SchemeLine, SchemeSheet, SchemeUnit

_BOX, _SPACE, _STUB, _PAD = 118.0, 9.0, 14.0, 5.0
_NAME, _WORDS, _LEADING = 8.0, 6.5, 8.6
_TITLE, _AFTER = 30.0, 12.0
_TOP, _BOTTOM = 84.0, A4[1] - 54.0
_WIDTH = A4[0] - 2 * MARGIN
_EACH_ROW = int((_WIDTH + _SPACE) / (_BOX + _SPACE))
_MOST_WORDS = 4
_CABLE, _PORT = "#1b7361", "#235f8d"


def scheme_pages(sheet: SchemeSheet) -> list[Scene]:
    """With head and page numbers."""
    pages = scheme_bodies(sheet)
    for number, scene in enumerate(pages, 1):
        scene.shapes.append(Label(MARGIN, 40, fit(sheet.title, _WIDTH - 100, 13, True), 13, INK, True))
        for at, line in enumerate(wrapped_to(sheet.about, _WIDTH, 8, 2)):
            scene.shapes.append(Label(MARGIN, 54 + 11 * at, line, 8, MUTED))
        scene.shapes.append(Label(A4[0] - MARGIN, 40, f"page {number} of {len(pages)}", 8, MUTED, at="end"))
        for at, note in enumerate(sheet.notes[:3]):
            scene.shapes.append(Label(MARGIN, A4[1] - 40 + 9 * at, fit(note, _WIDTH, 6.5), 6.5, MUTED))
    return pages


def scheme_bodies(sheet: SchemeSheet) -> list[Scene]:
    """The drawing alone, without heads."""
    pages = [Scene()]
    y = _TOP
    if not sheet.lines:
        pages[-1].shapes.append(Label(MARGIN, y, "this site has no lines yet", 9, MUTED))
    for line in sheet.lines:
        rows = [line.units[at : at + _EACH_ROW] for at in range(0, len(line.units), _EACH_ROW)] or [[]]
        for number, units in enumerate(rows):
            height = _row_height(units, line, number == 0)
            if y + height > _BOTTOM and y > _TOP:
                pages.append(Scene())
                y = _TOP
            y = _row(pages[-1], line, units, y, number == 0, number == len(rows) - 1)
        y += _AFTER
    for text in sheet.bridges:
        lines = wrapped_to(text, _WIDTH - 60, 7.5, 4)
        if y + 10 * len(lines) > _BOTTOM and y > _TOP:
            pages.append(Scene())
            y = _TOP
        pages[-1].shapes.append(Label(MARGIN, y, "bridge", 7.5, MUTED, True))
        for number, part in enumerate(lines):
            pages[-1].shapes.append(Label(MARGIN + 50, y + 10 * number, part, 7.5, INK))
        y += 10 * len(lines) + 6
    return pages


def _lines_of(unit: SchemeUnit) -> tuple[list[str], list[str]]:
    room = _BOX - 2 * _PAD
    words = [line for text in unit.words for line in wrapped_to(text, room, _WORDS, 2)][:_MOST_WORDS]
    marks = [word for word, has in (("terminator", unit.has_terminator), ("bias", unit.has_bias)) if has]
    return wrapped_to(unit.name, room, _NAME, 2, True), [*words, *([", ".join(marks)] if marks else [])]


def _box_height(unit: SchemeUnit) -> float:
    name, words = _lines_of(unit)
    return 2 * _PAD + (len(name) + len(words)) * _LEADING


def _row_height(units: list[SchemeUnit], line: SchemeLine, is_first: bool) -> float:
    title = _TITLE + 9.0 * len(line.notes) if is_first else 12.0
    return title + _STUB + max((_box_height(unit) for unit in units), default=10.0) + 10.0


def _row(scene: Scene, line: SchemeLine, units: list[SchemeUnit], y: float, is_first: bool, is_last: bool) -> float:
    """A piece of a line with the boxes that hang on it; gives where the next thing may stand."""
    shapes = scene.shapes
    if is_first:
        shapes.append(Label(MARGIN, y, fit(line.name, 250, 9.5, True), 9.5, INK, True))
        shapes.append(Label(MARGIN + 260, y, fit(line.words, _WIDTH - 260, 7.5), 7.5, MUTED))
        for number, note in enumerate(line.notes):
            shapes.append(Label(MARGIN, y + 11 + 9 * number, fit(note, _WIDTH, 6.5), 6.5, MUTED))
        y += _TITLE + 9.0 * len(line.notes) - 12.0
    bus = y + 6.0
    colour = _CABLE if line.is_bus else _PORT
    count = max(len(units), 1)
    end = MARGIN + count * (_BOX + _SPACE) - _SPACE if is_last else MARGIN + _WIDTH
    shapes.append(Stroke(MARGIN, bus, end, bus, colour, 2.0, None if line.is_bus else (5, 3)))
    top = bus + _STUB
    lowest = top
    for number, unit in enumerate(units):
        x = MARGIN + number * (_BOX + _SPACE)
        middle = x + _BOX / 2
        shapes.append(Stroke(middle, bus, middle, top, colour, 1.0))
        shapes.append(Disc(middle, bus, 2.4, colour))
        height = _box_height(unit)
        shapes.append(Box(x, top, _BOX, height, INK, "#ffffff"))
        at = top + _PAD + _NAME - 1.0
        name, words = _lines_of(unit)
        for text in name:
            shapes.append(Label(x + _PAD, at, text, _NAME, INK, True))
            at += _LEADING
        for text in words:
            shapes.append(Label(x + _PAD, at, text, _WORDS, MUTED))
            at += _LEADING
        if unit.has_terminator:
            shapes.append(Box(middle - 4, bus - 9, 8, 5, colour, colour))
        lowest = max(lowest, top + height)
    return lowest + 10.0
