"""Samples as people and files have them, wherever they were kept."""

import csv
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from kanaleto.cli.failures import Failed
from kanaleto.cli.moments import local, zone
from kanaleto.cli.output import emit, say
from kanaleto.files.harmless import guarded
from kanaleto.files.whole import writing_whole

_CSV = ("at", "device", "point", "value", "unit", "quality", "reason")


class SampleRow(dict[str, Any]):
    """A row as JSON has it, with what only people see beside it."""

    def __init__(self, fields: dict[str, Any], **beside: Any) -> None:
        super().__init__(fields)
        self._beside = beside

    def __missing__(self, key: str) -> Any:
        return self._beside[key]


def tell_rows(rows: Iterator["SampleRow"], is_json: bool) -> int:
    """A line a sample."""
    if not is_json:
        say(f"times are local, {zone()}", err=True)
    for row in rows:
        if is_json:
            emit(row)
            continue
        value = "—" if row["value"] is None else row["shown"]
        why = f"  {row['quality']}{': ' + str(row['reason']) if row['reason'] else ''}"
        unit = f" {row['unit']}" if row["unit"] else ""
        who = f"{row['device']} · {row['point']}" if row["device"] else row["point"]
        who = f"{row['site']}: {who}" if row.get("site") else who
        say(f"{local(row['at_us'])}  {who}  {value}{unit}{why if row['quality'] != 'good' else ''}")
    return 0


def write_csv(path: Path, rows: Iterator["SampleRow"]) -> int:
    """A table, written beside and renamed. Raises Failed."""
    count = 0
    try:
        with writing_whole(path) as file:
            writer = csv.DictWriter(file, _CSV, extrasaction="ignore", lineterminator="\n")
            writer.writeheader()
            for row in rows:
                count += 1
                writer.writerow({key: "" if row[key] is None else guarded(row[key]) for key in _CSV})
    except OSError as error:
        raise Failed(f"{path} cannot be written: {error.strerror or error}") from None
    say(f"{count} samples written to {path}", err=True)
    return 0
