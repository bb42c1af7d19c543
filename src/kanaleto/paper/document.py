"""A document: tables one behind the other, as many on a page as have room, heads repeated, pages counted through. A row
is never broken over pages; what is too long for its column is wrapped, and cut after some lines."""

from typing import NamedTuple

from kanaleto.paper.chart import chart_bodies
from kanaleto.paper.look import INK, MUTED, RULES, clean
from kanaleto.paper.scene import A4, MARGIN, Label, Scene, Stroke, fit, width_of, wrapped_to
from kanaleto.paper.scheme import scheme_bodies
from kanaleto.paper.sheets import MOST_CELL, DocumentSheet, TableSheet

_SIZE, _LEADING, _GAP = 7.0, 9.4, 8.0
_TOP, _FOOT = 86.0, 54.0
_TITLE, _HEAD, _AFTER = 16.0, 13.0, 14.0
_LEAST, _MOST_LINES = 22.0, 8
_WIDTH = A4[0] - 2 * MARGIN
_BOTTOM = A4[1] - _FOOT


class _Rows(NamedTuple):
    """A table as it is laid out: widths of its columns, and each row as lines a cell."""

    sheet: TableSheet
    widths: list[float]
    rows: list[list[list[str]]]

    def height(self, number: int) -> float:
        return max((len(cell) for cell in self.rows[number]), default=1) * _LEADING + 2.0


def document_pages(sheet: DocumentSheet) -> list[Scene]:
    """As many as it takes."""
    pages = [Scene()]
    notes: list[list[str]] = [[]]
    y = _TOP
    for index, section in enumerate(sheet.sections):
        if sheet.scheme is not None and index == sheet.scheme_at:
            drawn = scheme_bodies(sheet.scheme)
            pages += [*drawn, Scene()]
            notes += [[*sheet.scheme.notes] for _ in drawn] + [[]]
            y = _TOP
        laid = _laid_out(section)
        first = laid.height(0) if laid.rows else _LEADING
        if y + _TITLE + _HEAD + first > _BOTTOM and y > _TOP:
            pages.append(Scene())
            notes.append([])
            y = _TOP
        y = _title(pages[-1], section, y)
        y = _heading(pages[-1], laid, y)
        notes[-1] += section.notes
        for number in range(len(laid.rows)):
            height = laid.height(number)
            if y + height > _BOTTOM and y > _TOP + _TITLE + _HEAD:
                pages.append(Scene())
                notes.append(list(section.notes))
                y = _title(pages[-1], section, _TOP, " (goes on)")
                y = _heading(pages[-1], laid, y)
            y = _row(pages[-1], laid, number, y)
        y += _AFTER
    drawn = chart_bodies(sheet.curves, sheet.begin, sheet.end)
    pages += drawn
    notes += [[] for _ in drawn]
    for number, (scene, page_notes) in enumerate(zip(pages, notes, strict=True), 1):
        _frame(scene, sheet, [*dict.fromkeys([*page_notes, *sheet.notes])], f"page {number} of {len(pages)}")
    return pages


def _frame(scene: Scene, sheet: DocumentSheet, notes: list[str], page: str) -> None:
    width = scene.width - 2 * MARGIN
    scene.shapes.append(Label(MARGIN, 40, fit(sheet.title, width - 100, 13, True), 13, INK, True))
    for number, line in enumerate(wrapped_to(sheet.about, width, 8, 2)):
        scene.shapes.append(Label(MARGIN, 54 + 11 * number, line, 8, MUTED))
    scene.shapes.append(Label(scene.width - MARGIN, 40, page, 8, MUTED, at="end"))
    y = scene.height - 40
    for note in notes[:3]:
        scene.shapes.append(Label(MARGIN, y, fit(note, width, 6.5), 6.5, MUTED))
        y += 9


def _title(scene: Scene, section: TableSheet, y: float, more: str = "") -> float:
    title = clean(section.title) + more
    scene.shapes.append(Label(MARGIN, y, fit(title, _WIDTH, 9.5, True), 9.5, INK, True))
    room = _WIDTH - width_of(title, 9.5, True) - 10
    if section.about and room > 40:
        scene.shapes.append(
            Label(MARGIN + width_of(title, 9.5, True) + 10, y, fit(section.about, room, 7.5), 7.5, MUTED)
        )
    return y + _TITLE


def _heading(scene: Scene, laid: _Rows, y: float) -> float:
    x = MARGIN
    for column, width in zip(laid.sheet.columns, laid.widths, strict=True):
        text = fit(column.heading, width, _SIZE, True)
        at, side = (x + width, "end") if column.is_number else (x, "start")
        scene.shapes.append(Label(at, y, text, _SIZE, MUTED, True, side))
        x += width + _GAP
    if not any(column.heading for column in laid.sheet.columns):
        return y - 4
    scene.shapes.append(Stroke(MARGIN, y + 3.5, MARGIN + _WIDTH, y + 3.5, MUTED, 0.8))
    return y + _HEAD


def _row(scene: Scene, laid: _Rows, number: int, y: float) -> float:
    cells, sheet = laid.rows[number], laid.sheet
    is_heading = len(cells) != len(laid.widths)
    is_bold = is_heading or number in sheet.marked
    x = MARGIN
    for at, cell in enumerate(cells):
        width = _WIDTH if is_heading else laid.widths[at]
        right = not is_heading and sheet.columns[at].is_number
        for line, text in enumerate(cell):
            place, side = (x + width, "end") if right else (x, "start")
            scene.shapes.append(Label(place, y + line * _LEADING, text, _SIZE, INK, is_bold, side))
        x += width + _GAP
    y += laid.height(number)
    scene.shapes.append(Stroke(MARGIN, y - _LEADING + 3.0, MARGIN + _WIDTH, y - _LEADING + 3.0, RULES, 0.3))
    return y


def _laid_out(sheet: TableSheet) -> _Rows:
    widths = _column_widths(sheet)
    marked = set(sheet.marked)
    rows: list[list[list[str]]] = []
    for number, row in enumerate(sheet.rows):
        if len(row) != len(widths):
            rows.append([[fit(row[0] if row else "", _WIDTH, _SIZE, True)]])
            continue
        is_bold = number in marked
        rows.append(
            [
                wrapped_to(cell[:MOST_CELL], width, _SIZE, _MOST_LINES, is_bold)
                for cell, width in zip(row, widths, strict=True)
            ]
        )
    return _Rows(sheet, widths, rows)


def _column_widths(sheet: TableSheet) -> list[float]:
    """What most cells of a column need, as long as all fit beside each other; what is left goes to the longest, and
    where there is too little the widest give way."""
    count = len(sheet.columns)
    if not count:
        return []
    room = _WIDTH - _GAP * (count - 1)
    most: list[float] = []
    widths: list[float] = []
    marked = set(sheet.marked)
    for number, column in enumerate(sheet.columns):
        needs = sorted(
            width_of(row[number][:MOST_CELL], _SIZE, at in marked)
            for at, row in enumerate(sheet.rows) if len(row) == count
        )  # fmt: skip
        head = width_of(column.heading, _SIZE, True) + 1
        usual = needs[min(len(needs) * 95 // 100, len(needs) - 1)] + 1 if needs else 0.0
        most.append(max(needs[-1] + 1 if needs else 0.0, head, _LEAST))
        widths.append(max(head, min(usual, room / 2), _LEAST))
    spare = room - sum(widths)
    for number in sorted(range(count), key=lambda number: widths[number] - most[number]):
        if spare <= 0:
            break
        more = min(most[number] - widths[number], spare)
        widths[number] += more
        spare -= more
    for _ in range(200):
        over = sum(widths) - room
        if over <= 0.01:
            break
        widest = max(range(count), key=lambda number: widths[number])
        others = sorted(widths, reverse=True)
        second = others[1] if count > 1 else _LEAST
        widths[widest] = max(widths[widest] - over, min(second - 1, widths[widest] - 1), _LEAST)
    return widths
