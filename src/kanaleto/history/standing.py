"""How what is recorded stands: points, derived ones, and the blocks whose words bring them."""

from msgspec import Struct, field

from kanaleto.history.definition import Definition
from kanaleto.site.expression import Expression
from kanaleto.values.block import BitBlock, RegisterBlock

BEGIN, CHANGED, STILL, END = range(4)
GOOD, STALE, BAD, NEVER = range(4)
QUALITIES = ("good", "stale", "bad", "never")


class Series(Struct, eq=False):
    """A point as it was recorded last. `value` is what rows have; `number` is None for text and where there is none."""

    id: int
    definition_id: int
    definition: Definition
    deadband: float
    exponent: "Series | None" = None
    at_us: int = 0
    number: float | None = None
    words: bytes | None = None
    quality: int = NEVER
    reason: str = ""
    has_row: bool = False
    derived: list["Formula"] = field(default_factory=list)
    scaled: list["Series"] = field(default_factory=list)
    """Those for whom this is the power of ten."""

    is_plain: bool = False
    """No power of ten has to do with it."""


class Formula(Struct, eq=False):
    """A derived point."""

    name: str
    series: Series
    expression: Expression
    needs: list[Series]


class RecordedBlock(Struct, eq=False):
    is_bits: bool
    points: list[Series]
    bounds: list[tuple[int, int]]
    """Of each point's words, in bytes."""
    decoder: RegisterBlock | BitBlock
    feeds: list[Formula]
