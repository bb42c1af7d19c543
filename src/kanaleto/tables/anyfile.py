"""A file of others, whatever it is, as tables: text in any encoding, workbooks, Thing Descriptions, our own JSON. In
bounded time and memory, on whatever thread, and it can be stopped."""

from pathlib import Path
from threading import Event

from kanaleto.files.texts import CannotRead, expanded, read_bounded
from kanaleto.tables.csvtext import CannotImport, Sheet, decode, read_text_table, sheet_of_rows
from kanaleto.tables.maps import rows_of_json
from kanaleto.tables.things import rows_of_thing
from kanaleto.tables.workbook import read_workbook

_MOST_BYTES = 32 * 1024 * 1024
_COMPOUND = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"


def read_tables(path: Path, stop: Event | None = None) -> tuple[list[Sheet], str]:
    """The tables of a file, and what there is to say of it. Raises CannotImport."""
    try:
        path = expanded(path)
        data = read_bounded(path, _MOST_BYTES)
    except CannotRead as error:
        raise CannotImport(f"{path}: {error}") from None
    if data[:4] == b"PK\x03\x04":
        return read_workbook(path, stop or Event()), ""
    if data[:8] == _COMPOUND:
        raise CannotImport(f"{path.name} is encrypted, or of an old binary kind; save it as .xlsx without a password")
    if path.suffix.lower() in (".json", ".jsonld") or data.lstrip()[:1] in (b"{",):
        return _of_json(path, data)
    return [read_text_table(decode(data), path.name)], ""


def _of_json(path: Path, data: bytes) -> tuple[list[Sheet], str]:
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise CannotImport(f"{path.name} is not UTF-8 text, as JSON must be") from None
    rows, doubts = rows_of_json(text), list[str]()
    if rows is None:
        try:
            rows, doubts = rows_of_thing(text)
        except ValueError as error:
            raise CannotImport(f"{path.name} {error}") from None
    if not rows:
        raise CannotImport(f"{path.name} has no point in it{f': {doubts[0]}' if doubts else ''}"[:400])
    return [sheet_of_rows(path.name, rows)], f"{len(doubts)} properties left out; {doubts[0]}"[:300] if doubts else ""
