"""The fields of a scratch reading in one row: unit, table, from, count, read as, every. Digits type, arrows turn, enter
reads."""

from collections.abc import Callable

from msgspec.structs import replace
from textual import events
from textual.strip import Strip

from kanaleto.finding.scratch import ScratchQuestion
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn
from kanaleto.values.codec import Codec
from kanaleto.values.types import order_for, parse_order, parse_type
from kanaleto.wire.codes import Table

READINGS = (
    "uint16", "int16", "uint32 ABCD", "uint32 CDAB", "int32 ABCD", "int32 CDAB", "float32 ABCD", "float32 CDAB",
    "float32 BADC",
    "float32 DCBA", "uint64 ABCD", "float64 ABCD", "float64 CDAB", "bcd16", "hex",
)  # fmt: skip
PERIODS = (0.1, 0.25, 0.5, 1.0, 2.0, 5.0, 10.0, 0.0)
_TABLES = (Table.HOLDING, Table.INPUT, Table.COIL, Table.DISCRETE)
_TABLE_KEYS = {"h": Table.HOLDING, "i": Table.INPUT, "c": Table.COIL, "d": Table.DISCRETE}
_FIELDS = ("unit", "table", "from", "count", "read as", "every")
_NUMBERS = {"unit": 3, "from": 6, "count": 4}


def codec_of(reading: str) -> Codec:
    """The codec of one of READINGS."""
    type_text, _, order_text = reading.partition(" ")
    value_type = parse_type(type_text)
    order = parse_order(order_text) if order_text else None
    return Codec(value_type, order_for(value_type, order, None), None)


class ScratchForm(Drawn, can_focus=True):
    """`question` is what the fields say; `reading` how the words are read."""

    DEFAULT_CSS = "ScratchForm { height: 1; }"

    def __init__(
        self, on_asked: Callable[[], None], on_left: Callable[[], None], on_passed: Callable[[int], None]
    ) -> None:
        """`on_asked`: enter, read it; `on_left`: escape; `on_passed`: tab behind the last field (1) or before the first
        (-1)."""
        super().__init__()
        self._on_asked, self._on_left, self._on_passed = on_asked, on_left, on_passed
        self.question = ScratchQuestion()
        self.reading = READINGS[0]
        self.at = 0
        self._typed = ""

    def show(self, question: ScratchQuestion) -> None:
        """Take over other values, as when somebody steps to the next group."""
        self.question = question
        self._typed = ""
        self.refresh()

    def begin(self, field: str = "unit") -> None:
        self.at, self._typed = _FIELDS.index(field), ""
        self.screen.set_focus(self)
        self.refresh()

    @property
    def field(self) -> str:
        return _FIELDS[self.at]

    def on_blur(self) -> None:
        self._typed = ""
        self.refresh()

    async def take_key(self, event: events.Key) -> bool:
        key, character = event.key, event.character or ""
        if key == "enter":
            self._typed = ""
            self._on_asked()
        elif key == "tab" and self.at == len(_FIELDS) - 1:
            self._on_passed(1)
        elif key == "shift+tab" and self.at == 0:
            self._on_passed(-1)
        elif key in ("tab", "right"):
            self._move(1)
        elif key in ("shift+tab", "left"):
            self._move(-1)
        elif key == "escape":
            self._on_left()
        elif key in ("up", "down"):
            self._turn(1 if key == "up" else -1)
        elif key == "backspace":
            if self.field in _NUMBERS:
                self._typed = self._typed[:-1]
                self._take_typed()
        elif character and character in "0123456789abcdefxABCDEF" and self.field in _NUMBERS:
            self._type(character)
        elif self.field == "table" and character in _TABLE_KEYS:
            self.question = replace(self.question, table=_TABLE_KEYS[character])
        else:
            return False
        self.refresh()
        return True

    def _move(self, step: int) -> None:
        self.at = (self.at + step) % len(_FIELDS)
        self._typed = ""

    def _type(self, character: str) -> None:
        text = self._typed + character
        try:
            int(text, 16 if text.lower().startswith("0x") else 10)
        except ValueError:
            if text.lower() != "0x":
                return
        if len(text) <= _NUMBERS[self.field]:
            self._typed = text
            self._take_typed()

    def _take_typed(self) -> None:
        text = self._typed.lower()
        number = int(text, 16 if text.startswith("0x") else 10) if text not in ("", "0x") else 0
        match self.field:
            case "unit":
                self.question = replace(self.question, unit_id=number)
            case "from":
                self.question = replace(self.question, address=number)
            case "count":
                self.question = replace(self.question, count=number)

    def _turn(self, step: int) -> None:
        question = self.question
        match self.field:
            case "unit":
                self.question = replace(question, unit_id=max(0, min(question.unit_id + step, 255)))
            case "table":
                self.question = replace(question, table=_TABLES[(_TABLES.index(question.table) - step) % len(_TABLES)])
            case "from":
                self.question = replace(question, address=max(0, min(question.address + step, 0xFFFF)))
            case "count":
                self.question = question.widen(step)
            case "read as":
                self.reading = READINGS[(READINGS.index(self.reading) - step) % len(READINGS)]
            case "every":
                self.question = replace(
                    question, period_s=PERIODS[(PERIODS.index(question.period_s) - step) % len(PERIODS)]
                )
        self._typed = ""

    def draw_line(self, y: int) -> Strip:
        cells = Cells(self.palette, "panel").put(" ")
        question = self.question
        values = (
            str(question.unit_id), question.table.value, str(question.address), str(question.count), self.reading,
            "once" if question.period_s == 0 else f"{question.period_s:g} s",
        )  # fmt: skip
        is_narrow = self.size.width < 76
        for number, (name, value) in enumerate(zip(_FIELDS, values, strict=True)):
            is_here = self.has_keys and number == self.at
            shown = (self._typed or value) if is_here else value
            cells.put(f"{name} " if not is_narrow or number in (0, 2) else "", "muted")
            cells.put(
                f" {shown} ", "ground" if is_here else "ink", bold=is_here, on="ochre" if is_here else "rules"
            ).put(" ")
        return cells.strip(self.size.width)
