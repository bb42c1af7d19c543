"""What is put on paper, as values: they go to a process of their own as JSON."""

from msgspec import Struct

MOST_NAME = 60
MOST_CELL = 400


class PaperCurve(Struct):
    """A curve in columns: times (UTC, seconds since 1970), least, most and last of each (None where nothing was read),
    and whether what stands there was old by then. `figures` is what is told of it, in words."""

    letter: str
    name: str
    unit: str
    at: list[float]
    low: list[float | None]
    high: list[float | None]
    last: list[float | None]
    is_old: list[bool]
    limits: list[tuple[str, float, bool]] = []
    """What it is called, where it lies, and whether it is an alarm."""
    states: list[tuple[float, float, str]] | None = None
    """Of what is no number: from when to when, and what it was."""
    bottom: float | None = None
    top: float | None = None
    figures: str = ""
    begins_anew: list[float] = []


class TrendSheet(Struct, tag="trend"):
    """`scale` is one, several or percent. `notes` are told at the foot."""

    title: str
    about: str
    begin: float
    end: float
    scale: str
    curves: list[PaperCurve]
    mark: float | None = None
    cursor: float | None = None
    notes: list[str] = []


class PaperColumn(Struct):
    heading: str
    is_number: bool = False


class TableSheet(Struct, tag="table"):
    """Rows of text; those in `marked` are bold. A heading row of its own stands where a row has one cell."""

    title: str
    about: str
    columns: list[PaperColumn]
    rows: list[list[str]]
    marked: list[int] = []
    notes: list[str] = []


class DocumentSheet(Struct, tag="document"):
    """Tables one behind the other, each from a page of its own, the pages counted through."""

    title: str
    about: str
    sections: list[TableSheet]
    notes: list[str] = []


Sheet = TrendSheet | TableSheet | DocumentSheet


def short_name(name: str) -> str:
    return name if len(name) <= MOST_NAME else f"{name[: MOST_NAME - 1]}…"
