"""A table on paper: as many pages as it takes in a PDF, one tall page in an SVG."""

import textwrap
from typing import TYPE_CHECKING

from kanaleto.paper.look import A4_WIDE, INK, MUTED, RULES, clean, put_foot, put_head
from kanaleto.paper.sheets import MOST_CELL, TableSheet

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_LEFT, _WIDTH = 0.05, 0.90
_ROW_IN, _HEAD_IN, _FOOT_IN = 0.155, 1.05, 0.75
_CHARACTERS = 190
"""Of the small print, beside each other."""
_LEAST, _MOST = 4, 46


def draw_table(sheet: TableSheet, in_one: bool) -> "list[Figure]":
    """Pages; only one, as high as it must be, where `in_one`."""
    widths = _widths(sheet)
    rows = [_lines(row, widths) for row in sheet.rows]
    pages = _pages(rows, in_one)
    return [
        _page(sheet, rows, numbers, widths, f"{number} / {len(pages)}" if len(pages) > 1 else "", in_one)
        for number, numbers in enumerate(pages, 1)
    ]


def _pages(rows: list[list[list[str]]], in_one: bool) -> list[list[int]]:
    """Which rows stand on which page: a row is never broken."""
    page_rows = int((A4_WIDE[1] - _HEAD_IN - _FOOT_IN) / _ROW_IN) - 2
    pages: list[list[int]] = [[]]
    filled = 0
    for number, lines in enumerate(rows):
        height = max(map(len, lines), default=1)
        if not in_one and filled + height > page_rows and pages[-1]:
            pages.append([])
            filled = 0
        pages[-1].append(number)
        filled += height
    return pages


def _widths(sheet: TableSheet) -> list[int]:
    """Characters of each column: what it holds, as long as all fit beside each other; else the widest give way."""
    widths = []
    for number, column in enumerate(sheet.columns):
        cells = [len(row[number]) for row in sheet.rows if len(row) == len(sheet.columns)]
        cells.sort()
        usual = cells[min(len(cells) * 95 // 100, len(cells) - 1)] if cells else 0
        widths.append(max(len(column.heading), min(usual, _MOST), _LEAST))
    for number in sorted(range(len(widths)), key=lambda number: -widths[number]):  # what is left is for the long ones
        cells = [len(row[number]) for row in sheet.rows if len(row) == len(sheet.columns)]
        spare = _CHARACTERS - sum(widths) - 2 * len(widths)
        widths[number] += max(min(spare, max(cells, default=0) - widths[number]), 0)
    while sum(widths) + 2 * len(widths) > _CHARACTERS and max(widths) > _LEAST:
        widths[widths.index(max(widths))] -= 1
    return widths


def _lines(row: list[str], widths: list[int]) -> list[list[str]]:
    if len(row) != len(widths):
        return [[clean(row[0])[:_CHARACTERS]]] if row else [[""]]
    return [
        textwrap.wrap(clean(cell)[:MOST_CELL], max(width, 1)) or [""] for cell, width in zip(row, widths, strict=True)
    ]


def _page(
    sheet: TableSheet, rows: list[list[list[str]]], numbers: list[int], widths: list[int], page: str, in_one: bool
) -> "Figure":
    from matplotlib.figure import Figure

    lines = sum(max(map(len, rows[number]), default=1) for number in numbers)
    height = max(_HEAD_IN + _FOOT_IN + (lines + 3) * _ROW_IN, 3.0) if in_one else A4_WIDE[1]
    figure = Figure(figsize=(A4_WIDE[0], height))
    if in_one:  # heads are given as shares of a page
        figure.text(0.05, 1 - 0.38 / height, clean(sheet.title), fontsize=14, fontweight="bold", color=INK)
        figure.text(0.05, 1 - 0.60 / height, clean(sheet.about), fontsize=8, color=MUTED)
        for number, note in enumerate(sheet.notes[:4]):
            figure.text(0.05, (0.45 - 0.13 * number) / height, clean(note)[:220], fontsize=7, color=MUTED)
    else:
        put_head(figure, sheet.title, sheet.about, page)
        put_foot(figure, sheet.notes)
    row = _ROW_IN / height
    _put_rows(figure, sheet, rows, numbers, widths, 1 - _HEAD_IN / height, row)
    return figure


def _put_rows(
    figure: "Figure", sheet: TableSheet, rows: list[list[list[str]]], numbers: list[int], widths: list[int], y: float,
    row: float,
) -> float:  # fmt: skip
    """The heading and rows of a table from `y` down, `row` high each; gives where the next thing may stand."""
    from matplotlib.lines import Line2D

    scale = _WIDTH / max(sum(widths) + 2 * len(widths), 100)
    lefts = [_LEFT + scale * (sum(widths[:at]) + 2 * at) for at in range(len(widths))]

    def rule(at: float, colour: str, width: float) -> None:
        figure.add_artist(Line2D([_LEFT, _LEFT + _WIDTH], [at, at], color=colour, lw=width))

    for column, left, width in zip(sheet.columns, lefts, widths, strict=True):
        x, side = (left + scale * width, "right") if column.is_number else (left, "left")
        figure.text(x, y, clean(column.heading), fontsize=7, fontweight="bold", color=MUTED, ha=side)
    rule(y - 0.35 * row, MUTED, 0.8)
    y -= 1.25 * row
    for number in numbers:
        cells = rows[number]
        is_heading = len(cells) != len(widths)
        is_bold = is_heading or number in sheet.marked
        for at, cell in enumerate(cells):
            column = sheet.columns[at]
            right = column.is_number and not is_heading
            x, side = (lefts[at] + scale * widths[at], "right") if right else (lefts[at], "left")
            for line, text in enumerate(cell):
                figure.text(x, y - line * row, text, fontsize=7, color=INK, ha=side,
                            fontweight="bold" if is_bold else "normal")  # fmt: skip
        y -= max(map(len, cells), default=1) * row
        rule(y + 0.65 * row, RULES, 0.3)
    return y
