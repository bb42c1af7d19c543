"""Draws a sheet and writes it, whole or not at all: here, or in a process of its own."""

import subprocess
import sys
from io import BytesIO
from pathlib import Path

import msgspec

from kanaleto.files.whole import write_bytes_whole
from kanaleto.paper.look import NoPaper, form_of, prepare
from kanaleto.paper.sheets import DocumentSheet, ExchangeSheet, SchemeSheet, Sheet, TableSheet, TimingSheet

_LONGEST_S = 600.0


def drawn(sheet: Sheet, form: str) -> bytes:
    """The file's content, as svg or pdf."""
    if isinstance(sheet, DocumentSheet | SchemeSheet):
        return _pages(sheet, form)
    prepare()
    if isinstance(sheet, TableSheet):
        from kanaleto.paper.table import draw_table

        figures = draw_table(sheet, form == "svg")
    elif isinstance(sheet, ExchangeSheet | TimingSheet):
        from kanaleto.paper.exchanges import draw_exchange, draw_timing

        figures = [draw_exchange(sheet) if isinstance(sheet, ExchangeSheet) else draw_timing(sheet)]
    else:
        from kanaleto.paper.trend import draw_trend

        figures = draw_trend(sheet)
    out = BytesIO()
    if form == "svg":
        figures[0].savefig(out, format="svg", metadata={"Creator": "Kanaleto", "Title": sheet.title[:200]})
        return out.getvalue()
    from matplotlib.backends.backend_pdf import PdfPages

    with PdfPages(out, metadata={"Creator": "Kanaleto", "Title": sheet.title[:200]}) as pages:
        for figure in figures:
            pages.savefig(figure)
    return out.getvalue()


def _pages(sheet: "DocumentSheet | SchemeSheet", form: str) -> bytes:
    from kanaleto.paper.document import document_pages
    from kanaleto.paper.scene import as_pdf, as_svg
    from kanaleto.paper.scheme import scheme_pages

    pages = document_pages(sheet) if isinstance(sheet, DocumentSheet) else scheme_pages(sheet)
    return as_svg(pages, sheet.title) if form == "svg" else as_pdf(pages, sheet.title)


def write_sheet(sheet: Sheet, path: Path) -> None:
    """Raises NoPaper."""
    data = drawn(sheet, form_of(path))
    try:
        write_bytes_whole(path, data)
    except OSError as error:
        raise NoPaper(f"{path} cannot be written: {error.strerror}") from None


def write_elsewhere(sheet: Sheet, path: Path) -> None:
    """The same in a process of its own, so that nobody here waits for it but the thread that asked. Raises NoPaper."""
    form_of(path)
    try:
        done = subprocess.run(
            [sys.executable, "-m", "kanaleto.paper", str(path)], input=msgspec.json.encode(sheet), capture_output=True,
            timeout=_LONGEST_S, check=False,
        )  # fmt: skip
    except (OSError, subprocess.TimeoutExpired) as error:
        raise NoPaper(f"{path} was not drawn: {error}") from None
    if done.returncode:
        lines = done.stderr.decode("utf-8", "replace").strip().splitlines()
        raise NoPaper(lines[-1] if lines else f"{path} was not drawn")
