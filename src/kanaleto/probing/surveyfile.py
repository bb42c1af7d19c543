"""A survey of registers on disk, so that it can be gone on with another day. JSON, written whole."""

import json
from pathlib import Path
from typing import Any

from kanaleto.files.texts import read_json
from kanaleto.files.whole import write_whole
from kanaleto.probing.registers import RegisterSurvey
from kanaleto.probing.tables import TableSearch
from kanaleto.wire.codes import Table


def save_survey(path: Path, link: str, survey: RegisterSurvey) -> None:
    """Write it beside and rename. Raises OSError."""
    write_whole(path, json.dumps({"link": link, **kept_of(survey)}, indent=1) + "\n")


def kept_of(survey: RegisterSurvey) -> dict[str, Any]:
    """What a survey knows, as JSON holds it."""
    functions = {str(code): is_known for code, is_known in survey.functions.items()}
    return {"unit_id": survey.unit_id, "tables": [_kept(table) for table in survey.tables], "functions": functions}


def _kept(table: TableSearch) -> dict[str, Any]:
    return {
        "table": table.table.value, "first": table.first, "last": table.last, "most": table.most,
        "longest": table.longest, "runs": table.runs, "refused": table.refused(), "dangerous": table.dangerous,
        "resets": table.resets,
        "walls": table.walls, "why_none": table.why_none, "zeros": table.is_full_of_zeros, "every": table.with_every,
    }  # fmt: skip


def load_survey(path: Path, link: str, survey: RegisterSurvey) -> None:
    """Take over what was kept of the same link and unit. Raises ValueError with one sentence."""
    try:
        kept: Any = read_json(path, 32 * 1024 * 1024)
        if kept["link"] != link or kept["unit_id"] != survey.unit_id:
            raise ValueError(
                f"{path}: is the survey of unit {kept['unit_id']} at {kept['link']}, not of this one; name another file"
            )
        take_over(kept, survey)
    except (KeyError, TypeError, AttributeError, ArithmeticError, IndexError):
        raise ValueError(f"{path}: is no survey of registers; name another file, or delete it to begin again") from None


def take_over(kept: Any, survey: RegisterSurvey) -> None:
    """Go on with what `kept_of` gave. Raises KeyError, TypeError, ValueError and their like where it is something
    else."""
    every = survey.tables[0].with_every if survey.tables else False
    survey.tables = [_table(entry, survey, every) for entry in kept["tables"]]
    survey.functions = {int(code): bool(is_known) for code, is_known in kept["functions"].items()}


def _table(entry: Any, survey: RegisterSurvey, every: bool) -> TableSearch:
    first, last = int(entry["first"]), int(entry["last"])
    if not 0 <= first <= last <= 0xFFFF:
        raise TypeError
    table = TableSearch(Table(entry["table"]), first, last, survey.never, every or bool(entry.get("every")))
    table.most = max(1, min(int(entry["most"]), table.table.most_read))
    table.longest = int(entry["longest"])
    table.why_none = str(entry["why_none"])
    table.is_full_of_zeros = entry.get("zeros")
    table.dangerous = _spans(entry["dangerous"])
    table.resets = _spans(entry.get("resets", []))
    table.walls = sorted(int(at) for at in entry.get("walls", ()))
    table.restore(_spans(entry["runs"]), _spans(entry.get("refused", ())))
    return table


def _spans(spans: Any) -> list[tuple[int, int]]:
    found = [(int(first), int(last)) for first, last in spans]
    if not all(0 <= first <= last <= 0xFFFF for first, last in found):
        raise TypeError
    return found
