"""What is put on paper, as values: they go to a process of their own as JSON."""

from msgspec import Struct

MOST_NAME = 60
MOST_CELL = 400


class PaperCurve(Struct):
    """A curve in columns: times (UTC, seconds since 1970), least, most and last of each (None where nothing was read),
    and whether what stands there was old by then. `figures` is what is reported of it, in words."""

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
    begins_again: list[float] = []


class TrendSheet(Struct, tag="trend"):
    """`scale` is one, several or percent. `notes` are reported at the foot."""

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


class SchemeUnit(Struct):
    """A device on a line of the drawing: its name, what stands below it, whether a terminator or the bias is there."""

    name: str
    words: list[str]
    has_terminator: bool = False
    has_bias: bool = False


class SchemeLine(Struct):
    """A line of the drawing with its units in the order along the cable; a network's hang on it each for itself."""

    name: str
    words: str
    units: list[SchemeUnit]
    is_bus: bool = True
    notes: list[str] = []


class SchemeSheet(Struct, tag="scheme"):
    """The site as a drawing: its lines below each other, then what bridges lead where."""

    title: str
    about: str
    lines: list[SchemeLine]
    bridges: list[str] = []
    notes: list[str] = []


class DocumentSheet(Struct, tag="document"):
    """Tables one behind the other, the pages counted through; the drawing, where there is one, before the tables from
    number `scheme_at` on, on pages of its own."""

    title: str
    about: str
    sections: list[TableSheet]
    notes: list[str] = []
    scheme: SchemeSheet | None = None
    scheme_at: int = 0
    curves: list[PaperCurve] = []
    """Charts behind the tables, from `begin` to `end` (seconds since 1970)."""
    begin: float = 0.0
    end: float = 0.0


class PaperBox(Struct):
    """Bytes as hexadecimal, what the field is called, what it says, and whether it is wrong."""

    data: str
    name: str
    meaning: str
    is_wrong: bool = False


class PaperFrame(Struct):
    heading: str
    boxes: list[PaperBox]


class ExchangeSheet(Struct, tag="exchange"):
    """The frames of one exchange, each in boxes."""

    title: str
    about: str
    frames: list[PaperFrame]
    notes: list[str] = []


class PaperBar(Struct):
    """An exchange on a time axis, in ms: request, answer (both 0 where there is none), and how it ended."""

    lane: int
    begin: float
    sent: float
    first: float
    last: float
    outcome: str


class TimingSheet(Struct, tag="timing"):
    """Lanes are devices; `outcome` of a bar is good, refused, silent, garbled, strange or unreachable."""

    title: str
    about: str
    begin: float
    lanes: list[str]
    bars: list[PaperBar]
    notes: list[str] = []


Sheet = TrendSheet | TableSheet | DocumentSheet | ExchangeSheet | TimingSheet | SchemeSheet


def short_name(name: str) -> str:
    return name if len(name) <= MOST_NAME else f"{name[: MOST_NAME - 1]}…"
