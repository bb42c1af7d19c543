"""A workbook, read in a process of its own: whatever is in it, it takes no more memory and time than that one may.

`python -m kanaleto.tables.workbook FILE` prints one JSON object a sheet: its title, and its rows with their numbers.
"""

import json
import re
import subprocess
import sys
import zipfile
from pathlib import Path
from threading import Event
from typing import Any

from kanaleto.tables.csvtext import MOST_CELL, MOST_COLUMNS, MOST_ROWS, CannotImport, Sheet

MOST_UNPACKED = 200 * 1024 * 1024
_MOST_SHEETS, _MOST_MERGED = 20, 50_000
_MOST_S, _MOST_MEMORY = 60, 1024 * 1024 * 1024
_MERGED = re.compile(rb'<mergeCell\s[^>]*ref="([A-Z]{1,3})([0-9]{1,7}):([A-Z]{1,3})([0-9]{1,7})"')
_LOOK_S = 0.1


def read_workbook(path: Path, stop: Event) -> list[Sheet]:
    """Its sheets that have rows. Raises CannotImport, also when `stop` is set meanwhile."""
    command = [sys.executable, "-m", __name__, str(path)]
    with subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as child:
        waited_s = 0.0
        while True:
            try:
                out, errors = child.communicate(timeout=_LOOK_S)
                break
            except subprocess.TimeoutExpired:
                waited_s += _LOOK_S
                if stop.is_set() or waited_s > _MOST_S:
                    child.kill()
                    child.communicate()
                    why = "reading it was stopped" if stop.is_set() else f"reading it takes over {_MOST_S} s"
                    raise CannotImport(f"{path.name}: {why}") from None
    if child.returncode == 2:
        raise CannotImport(errors.decode("utf-8", "replace").strip())
    if child.returncode:
        raise CannotImport(f"{path.name}: reading it takes more memory or time than a table may")
    entries = [json.loads(line) for line in out.decode("utf-8").splitlines()]
    sheets = [Sheet(one["title"], tuple((number, tuple(cells)) for number, cells in one["rows"])) for one in entries]
    if not sheets:
        raise CannotImport(f"{path.name} has no rows in any sheet")
    return sheets


def _limit() -> None:
    """What this process may take."""
    try:
        import resource
    except ImportError:  # Windows: time is bounded by whoever started us
        return
    resource.setrlimit(resource.RLIMIT_AS, (_MOST_MEMORY, _MOST_MEMORY))
    resource.setrlimit(resource.RLIMIT_CPU, (_MOST_S, _MOST_S))


def look_at_archive(path: Path) -> None:
    """Raises CannotImport for what is no workbook, or would unpack to too much."""
    try:
        with zipfile.ZipFile(path) as archive:
            size = sum(part.file_size for part in archive.infolist())
            names = set(archive.namelist())
    except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError) as error:
        raise CannotImport(f"{path.name} is no workbook that can be read: {error}") from None
    if size > MOST_UNPACKED:
        raise CannotImport(f"{path.name} unpacks to over {MOST_UNPACKED // 1024 // 1024} MB, and is not read")
    if not any(name.endswith("workbook.xml") for name in names):
        raise CannotImport(f"{path.name} is no workbook that can be read: it is another kind of archive")


def _merged(path: Path, part: str) -> dict[tuple[int, int], tuple[int, int]]:
    """For each further row of a merged cell, where its value stands: downwards it holds for each row."""
    found: dict[tuple[int, int], tuple[int, int]] = {}
    with zipfile.ZipFile(path) as archive:
        text = archive.read(part)
    for left, top, _, bottom in _MERGED.findall(text):
        column, first = _number_of(left.decode()), int(top)
        for row in range(first + 1, min(int(bottom), MOST_ROWS) + 1):
            found[row, column] = (first, column)
        if len(found) > _MOST_MERGED:
            break
    return found


def _number_of(letters: str) -> int:
    number = 0
    for letter in letters:
        number = 26 * number + ord(letter) - 64
    return number


def sheets_in(path: Path) -> list[dict[str, Any]]:
    """Title and rows of each sheet, for whoever may take the time. Raises CannotImport, and whatever the package
    does."""
    import openpyxl

    book = openpyxl.load_workbook(path, read_only=True, data_only=True)
    sheets = []
    for page in book.worksheets[:_MOST_SHEETS]:
        page.reset_dimensions()
        above = _merged(path, str(getattr(page, "_worksheet_path", "")))
        heads = set(above.values())
        kept: dict[tuple[int, int], str] = {}
        rows = []
        # what stands further out, with nothing before it, was put there by accident
        for number, values in enumerate(page.iter_rows(max_row=MOST_ROWS, max_col=MOST_COLUMNS, values_only=True), 1):
            texts = [_cell_text(value) for value in values]
            for column in range(1, len(texts) + 1):
                at = (number, column)
                if at in heads:
                    kept[at] = texts[column - 1]
                elif at in above:
                    texts[column - 1] = kept.get(above[at], "")
            if any(texts):
                rows.append([number, texts])
        if len(rows) >= MOST_ROWS:
            raise CannotImport(f"{path.name}, sheet {page.title}: has {MOST_ROWS} rows or more")
        if rows:
            sheets.append({"title": page.title, "rows": rows})
    return sheets


def _cell_text(value: object) -> str:
    if value is None:
        return ""
    if isinstance(value, float) and value == value and abs(value) < 1e15 and value == int(value):
        return str(int(value))
    return str(value).strip()[:MOST_CELL]


def main(path: Path) -> int:
    _limit()
    try:
        look_at_archive(path)
        for sheet in sheets_in(path):
            sys.stdout.write(json.dumps(sheet) + "\n")
    except CannotImport as error:
        sys.stderr.write(f"{error}\n")
        return 2
    except MemoryError:
        return 3
    except Exception as error:  # of the package, which says in many ways that a file is none
        sys.stderr.write(f"{path.name} is no workbook that can be read: {type(error).__name__} {str(error)[:200]}\n")
        return 2
    return 0


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1])))
