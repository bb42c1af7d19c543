"""A survey of registers on disk, so that it can be gone on with another day. JSON, written whole."""

import json
from pathlib import Path
from typing import Any

from msgspec.structs import asdict

from kanaleto.files.texts import read_json
from kanaleto.files.whole import write_whole
from kanaleto.survey.registers import RegisterSurvey
from kanaleto.survey.tables import TableSurvey
from kanaleto.wire.codes import Table


def save_survey(path: Path, link: str, survey: RegisterSurvey) -> None:
    """Write it beside and rename. Raises OSError."""
    tables = [{**asdict(table), "table": table.table.value} for table in survey.tables]
    functions = {str(code): is_known for code, is_known in survey.functions.items()}
    kept = {"link": link, "unit_id": survey.unit_id, "tables": tables, "functions": functions}
    write_whole(path, json.dumps(kept, indent=1) + "\n")


def load_survey(path: Path, link: str, survey: RegisterSurvey) -> None:
    """Take over what was kept of the same link and unit. Raises ValueError with one sentence."""
    try:
        kept: Any = read_json(path, 32 * 1024 * 1024)
        if kept["link"] != link or kept["unit_id"] != survey.unit_id:
            raise ValueError(
                f"{path}: is the survey of unit {kept['unit_id']} at {kept['link']}, not of this one; name another file"
            )
        survey.tables = [_table(entry) for entry in kept["tables"]]
        survey.functions = {int(code): bool(is_known) for code, is_known in kept["functions"].items()}
    except (KeyError, TypeError, AttributeError, ArithmeticError):
        raise ValueError(f"{path}: is no survey of registers; name another file, or delete it to begin anew") from None


def _table(entry: dict[str, Any]) -> TableSurvey:
    known = set(TableSurvey.__struct_fields__)
    values = {key: value for key, value in entry.items() if key in known}
    values["table"] = Table(values["table"])
    for key in ("runs", "dangerous"):
        values[key] = [(int(first), int(last)) for first, last in values[key]]
    return TableSurvey(**values)
