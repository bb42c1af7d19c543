"""One row of a map into a point, with every fault of its cells."""

import math
import re
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar, cast

from msgspec.structs import replace

from kanaleto.files.alike import MOST_NAME
from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapscale import (
    SCALE_COLUMNS,
    SCALE_NUMBERS,
    ScaleCells,
    make_scale,
    parse_curve,
    parse_no_values,
    parse_yes,
)
from kanaleto.site.counting import Counting, to_wire
from kanaleto.site.filefaults import Fault
from kanaleto.site.model import (
    DEMAND,
    LIMIT_MANNERS,
    LIMIT_STATES,
    LIMITS,
    NO_LIMITS,
    PLAIN_WRITING,
    Access,
    Limits,
    Point,
    PointRole,
    PointWriting,
    PortSetting,
    Writing,
)
from kanaleto.site.proving import PROVED_ONCE, Proving, ToleranceOf, parse_prove, parse_tolerance
from kanaleto.values.codec import CannotEncode, Codec
from kanaleto.values.digits import number as decimal
from kanaleto.values.digits import whole
from kanaleto.values.scale import AnyScale
from kanaleto.values.types import ByteOrder, Kind, ValueType, order_for, parse_order, parse_type
from kanaleto.wire.codes import Table

LEAST_PERIOD_S, MOST_PERIOD_S = 0.001, 86400 * 31
_BIT_KINDS = (Kind.UINT16, Kind.INT16, Kind.BITS, Kind.HEX, Kind.BOOL)
_LIMIT_PAIRS = tuple(zip(LIMITS[::2], LIMITS[1::2], strict=True))
_TABLES = {table.value: table for table in Table}
_CODEC_COLUMNS = ("type", "order", *SCALE_COLUMNS, "scale", "bit", "no_value")
_LABEL_COLUMNS = ("labels", "states")
# which labels name what, and of which type the word is, says what a state is
_LIMIT_COLUMNS = (*LIMITS, *LIMIT_MANNERS, *LIMIT_STATES, *_LABEL_COLUMNS, "table", "type", "bit")
MOST_DELAY_S = 86400.0
WRITING_COLUMNS = ("role", "feedback", "write", "repeat")
_PROVING_CELLS = ("prove", "tolerance", "access", "type", "table", "bit", *LIMITS, *LIMIT_STATES, *_LABEL_COLUMNS)
_WRITING_CELLS = (*WRITING_COLUMNS, "access")
_WRITE_WORDS = {"yes": Writing.UNLOCK, "confirm": Writing.CONFIRM, "never": Writing.NEVER}
_NOT_MADE = object()

T = TypeVar("T")


class RowReader:
    """Reads rows one by one. Each bad cell is a fault of its own; a row gives a point only when it has none. What
    several rows say alike (type, order and scale; limits; labels) is made once."""

    def __init__(self, path: Path, delimiter: str, faults: list[Fault], defaults: MapDefaults) -> None:
        self._path, self._faults, self._defaults = path, faults, defaults
        self._has_decimal_commas = delimiter != ","
        self._shared = defaults.shared
        self._parts: dict[tuple[object, ...], object] = {}
        self._line, self._cells, self._is_sound = 0, dict[str, str](), True

    def read(self, line: int, cells: dict[str, str]) -> Point | None:
        """The point of a row; `cells` are those that are not empty, by heading."""
        self._line, self._cells, self._is_sound = line, cells, True
        return self._point(self._defaults)

    def refuse(self, line: int, cells: dict[str, str], text: str) -> None:
        """A fault of the row as a whole."""
        self._line, self._cells = line, cells
        self.fault(text)

    def _part(self, kind: object, columns: tuple[str, ...], make: Callable[[], T]) -> T:
        """What those columns say; made once for each of what they may say."""
        key = (kind, *map(self._cells.get, columns))
        made = self._parts.get(key, _NOT_MADE)
        if made is _NOT_MADE:
            made = make()
            if self._is_sound:
                self._parts[key] = made
        return cast(T, made)

    def fault(self, text: str) -> None:
        name = self._cells.get("name", "")
        shown = name if len(name) <= MOST_NAME else f"{name[:40]}…"
        self._faults.append(Fault(self._path, self._line, f"{shown}: {text}" if name else text))
        self._is_sound = False

    def _cell(self, column: str, parse: Callable[[str], T], default: T) -> T:
        text = self._cells.get(column, "")
        if not text:
            return default
        try:
            return parse(text)
        except ValueError as error:
            self.fault(str(error))
            return default

    def _number(self, column: str) -> float | None:
        def parse(text: str) -> float:
            plain = text.replace(",", ".") if self._has_decimal_commas else text
            if self._shared.names_constant(plain):
                return self._shared.evaluate(plain)
            try:
                number = float(whole(plain)) if plain.lower().startswith("0x") else decimal(plain)
            except ValueError:
                number = math.nan
            if not math.isfinite(number):
                raise ValueError(f"{column} {text!r} is no number")
            return number

        return self._cell(column, parse, None)

    def _point(self, defaults: MapDefaults) -> Point | None:
        name = self._cells.get("name", "")
        if not name:
            self.fault("has no name")
        if len(name) > MOST_NAME:
            self.fault(f"the name has {len(name)} characters; at most {MOST_NAME} are taken")
        table = self._table() or Table.HOLDING  # where it is none that is reported, and the other cells are looked at
        codec = self._part(table, _CODEC_COLUMNS, lambda: self._codec(table, defaults.order))
        point = Point(
            name,
            table,
            self._address(table, defaults.numbering),
            codec,
            self._cell("period_s", self._period, defaults.period_s),
            self._cells.get("unit", ""),
            self._cell("decimals", _decimals, None),
            self._access(table),
            self._part("labels", _LABEL_COLUMNS, self._all_labels),
            self._part("limits", _LIMIT_COLUMNS, lambda: self._limits(codec)),
            self._cells.get("group", ""),
            None,
            self._cells.get("note", ""),
            self._cell("setting", _setting, None),
            self._cells.get("exponent", ""),
            self._cell("deadband", self._deadband, 0.0),
            self._part("writing", _WRITING_CELLS, self._writing),
            self._cell("sure", _sure, None),
            counts=self._cell("counts", _counts, ""),
            source=self._cells.get("from", ""),
            proving=self._part("proving", _PROVING_CELLS, lambda: self._proving(codec)),
        )
        self._check_place(point, defaults)
        initial, words = self._initial(point), self._words(point)
        if not self._is_sound:
            return None
        return point if initial is None and words is None else replace(point, initial=initial, words=words)

    def _codec(self, table: Table, inherited: ByteOrder | None) -> Codec:
        value_type = self._cell("type", parse_type, ValueType(Kind.BOOL if table.is_bits else Kind.UINT16))
        if table.is_bits and value_type.kind is not Kind.BOOL:
            self.fault(f"type {value_type} does not fit {table.title}; they are bool")
        bits = self._bits(table, value_type)
        order, scale = self._order(value_type, inherited), self._scale(value_type, table)
        return Codec(value_type, order, scale, bits, self._no_values(value_type))

    def _table(self) -> Table | None:
        text = self._cells.get("table", "")
        table = _TABLES.get(text.lower())
        if table is None:
            self.fault(
                f"table {text!r} is not known; there are coil, discrete, input, holding" if text else "has no table"
            )
        return table

    def _address(self, table: Table, numbering: Counting) -> int:
        if not self._cells.get("address", ""):
            self.fault("has no address")
            return 0
        return self._cell("address", lambda text: to_wire(text, table, numbering), 0)

    def _order(self, value_type: ValueType, inherited: ByteOrder | None) -> ByteOrder:
        byte_order = self._cell("order", parse_order, None)
        try:
            return order_for(value_type, byte_order, inherited)
        except ValueError as error:
            self.fault(str(error))
            return ByteOrder.ABCD

    def _bits(self, table: Table, value_type: ValueType) -> tuple[int, int] | None:
        bits = self._cell("bit", _bit_field, None)
        if bits is not None and (table.is_bits or value_type.kind not in _BIT_KINDS):
            self.fault(f"bit {self._cells['bit']} needs a register of 16 bits, not {table.title} of type {value_type}")
            return None
        return bits

    def _scale(self, value_type: ValueType, table: Table) -> AnyScale | None:
        numbers = {name: self._number(name) for name in SCALE_NUMBERS}
        no_curve: tuple[tuple[float, float], ...] = ()
        curve, clamps = self._cell("curve", parse_curve, no_curve), self._cell("clamp", parse_yes, False)
        cells = ScaleCells(**numbers, curve=curve, signal=self._cells.get("signal", ""), clamps=clamps)
        named = self._cells.get("scale", "")
        if named:
            if not cells.is_empty:
                self.fault(f"has scale {named!r} and numbers of its own; a point takes one or the other")
            cells = self._cell("scale", self._shared.scale_of, ScaleCells())
        if cells.is_empty:
            return None
        if not value_type.takes_scale or table.is_bits:
            self.fault(f"type {value_type} takes no scale; leave factor, offset, the raw range and the curve empty")
            return None
        try:
            return make_scale(cells)
        except ValueError as error:
            self.fault(str(error))
            return None

    def _all_labels(self) -> dict[int, str]:
        named = self._cells.get("states", "")
        none: dict[int, str] = {}
        labels = self._cell("labels", _labels, none)
        if not named:
            return labels
        return {**self._cell("states", self._shared.states_of, none), **labels}

    def _no_values(self, value_type: ValueType) -> frozenset[float]:
        return self._cell("no_value", lambda text: parse_no_values(text, value_type), frozenset())

    def _period(self, text: str) -> float:
        if text.lower() == "demand":
            return DEMAND
        period = self._number("period_s")
        if period is None or not (period == 0 or LEAST_PERIOD_S <= period <= MOST_PERIOD_S):
            raise ValueError(f"period_s {text!r} is seconds, 0 or {LEAST_PERIOD_S:g} up to a month, or demand")
        return period

    def _deadband(self, text: str) -> float:
        number = self._number("deadband")
        if number is None:
            return 0.0
        if number < 0:
            raise ValueError(f"deadband {text!r} is below 0; it says how much a value must change to be recorded again")
        return number

    def _access(self, table: Table) -> Access:
        text = self._cells.get("access", "").lower()
        if not text:
            return Access.READ
        try:
            access = Access(text)
        except ValueError:
            self.fault(f"access {text!r} is not known; there are r, w, rw")
            return Access.READ
        if access.is_written and not table.is_writable:
            self.fault(f"access {text} does not fit {table.title}: nobody can write them")
        return access

    def _writing(self) -> PointWriting:
        if not any(map(self._cells.get, WRITING_COLUMNS)):
            return PLAIN_WRITING
        made = PointWriting(
            self._cell("role", _role, None),
            self._cells.get("feedback", ""),
            self._cell("write", _how_to_write, Writing.UNLOCK),
            self._cell("repeat", parse_yes, False),
        )
        is_written = self._cells.get("access", "r").lower() != "r"
        if made.role in (PointRole.COMMAND, PointRole.SETPOINT) and not is_written:
            self.fault(f"role {self._cells['role']} needs access w or rw: nobody could write it")
        return made

    def _proving(self, codec: Codec) -> Proving:
        if not any(map(self._cells.get, ("prove", "tolerance"))):
            return PROVED_ONCE
        tolerance = self._cell("tolerance", parse_tolerance, None)
        made = self._cell("prove", lambda text: parse_prove(text, tolerance), Proving(tolerance=tolerance))
        has_range = all(self._cells.get(column) for column in LIMITS[:2])
        if made.levels and not has_range:
            self.fault(
                f"prove {self._cells['prove']!r}: levels are per cent of span, which needs range_low and range_high"
            )
        if tolerance is not None and tolerance.of is ToleranceOf.SPAN and not has_range:
            self.fault(
                f"tolerance {self._cells['tolerance']!r} is per cent of span, which needs range_low and range_high"
            )
        has_states = codec.type.kind in (Kind.BOOL, Kind.BITS) or codec.bits is not None
        if made.each and not (has_states or any(map(self._cells.get, _LABEL_COLUMNS))):
            self.fault("prove each needs states: labels, or a bit")
        if made.write and "w" not in self._cells.get("access", "").lower():
            self.fault("prove write needs access w or rw: nobody could write it")
        if made.limits and not any(map(self._cells.get, (*LIMITS[2:], *LIMIT_STATES))):
            self.fault("prove limits needs limits: warn_low, alarm_high and such")
        return made

    def _limits(self, codec: Codec) -> Limits:
        numbers = {name: self._number(name) for pair in _LIMIT_PAIRS for name in pair}
        has_no_size = codec.type.kind in (Kind.BOOL, Kind.TEXT)
        for column in [name for name, value in numbers.items() if value is not None and has_no_size]:
            takes = "; take warn_on or alarm_on" if codec.type.kind is Kind.BOOL else ""
            self.fault(f"{column} needs a number, and type {codec.type} has none{takes}")
        for low, high in _LIMIT_PAIRS:
            low_value, high_value = numbers[low], numbers[high]
            if low_value is not None and high_value is not None and low_value >= high_value:
                self.fault(f"{low} {low_value:g} is not below {high} {high_value:g}")
        none: tuple[int, ...] = ()
        warn_on, alarm_on = (self._cell(name, lambda text: self._states(text, codec), none) for name in LIMIT_STATES)
        hysteresis, delay_s = self._manner("hysteresis"), self._manner("delay_s")
        made = Limits(**numbers, warn_on=warn_on, alarm_on=alarm_on, hysteresis=hysteresis, delay_s=delay_s)
        return made if made != NO_LIMITS else NO_LIMITS

    def _manner(self, column: str) -> float:
        number = self._cell(column, lambda text: self._number(column), None)
        if number is None:
            return 0.0
        if number < 0 or (column == "delay_s" and number > MOST_DELAY_S):
            most = f", up to {MOST_DELAY_S:g} s" if column == "delay_s" else ""
            self.fault(f"{column} {self._cells[column]!r} is not 0 or more{most}")
        return number

    def _states(self, text: str, codec: Codec) -> tuple[int, ...]:
        """Values of a state, or numbers of bits, as `1;Fault`."""
        numbers = {label.casefold(): number for number, label in self._all_labels().items()}
        is_word_of_bits = codec.type.kind is Kind.BITS and codec.bits is None
        found: list[int] = []
        for part in filter(None, (part.strip() for part in text.split(";"))):
            number = numbers.get(part.casefold())
            if number is None:
                try:
                    number = whole(part)
                except ValueError:
                    known = f"; there are {', '.join(self._all_labels().values())}" if numbers else ""
                    raise ValueError(f"{part!r} is neither a label nor a number{known}") from None
            if is_word_of_bits and not 0 <= number <= 15:
                raise ValueError(f"{part!r} is no bit of a word; they are 0 to 15")
            found.append(number)
        if codec.type.kind is Kind.TEXT or codec.type.is_float:
            takes = "; take low and high limits" if codec.type.is_float else ""
            raise ValueError(f"type {codec.type} has no states for warn_on and alarm_on{takes}")
        return tuple(sorted(set(found)))

    def _check_place(self, point: Point, defaults: MapDefaults) -> None:
        if point.end > 0x10000:
            self.fault(f"takes {point.size} registers from address {point.address}, past the last, 65535")
        most = defaults.limits.most_read(point.table)
        if point.size > most:
            self.fault(f"takes {point.size} registers in one request, and max_registers of the device is {most}")

    def _initial(self, point: Point) -> float | str | None:
        text = self._cells.get("initial", "")
        if not text:
            return None
        if point.codec.type.kind is Kind.TEXT:
            value: float | str = text
        else:
            number = self._number("initial")
            if number is None:
                return None
            value = number
        try:
            point.codec.encode(value, is_within=False)
        except CannotEncode as error:
            self.fault(f"initial: {error}")
        return value

    def _words(self, point: Point) -> bytes | None:
        """What its registers hold at the start, or its one bit."""
        text = self._cells.get("words", "")
        if not text:
            return None
        if self._cells.get("initial", ""):
            self.fault("words and initial both say what it starts with: take one of them out")
            return None
        digits = text.strip().lower().removeprefix("0x").replace(" ", "").replace("_", "")
        size = 1 if point.table.is_bits else 4 * point.size
        if re.fullmatch(r"[0-9a-f]+", digits) is None or len(digits) != size:
            example = "0 or 1" if point.table.is_bits else "0x" + " ".join(["41A0"] * min(point.size, 2))
            what = "one bit" if point.table.is_bits else f"{point.size} register{'s' if point.size > 1 else ''}"
            self.fault(f"words: {text!r} is not {what} in hexadecimal, as {example}")
            return None
        if point.table.is_bits:
            if digits not in "01":
                self.fault(f"words: {text!r} is no bit, which is 0 or 1")
                return None
            return bytes((int(digits),))
        return bytes.fromhex(digits)


def _setting(text: str) -> PortSetting:
    try:
        return PortSetting(text.lower())
    except ValueError:
        raise ValueError(
            f"setting {text!r} is not known; there are {', '.join(setting.value for setting in PortSetting)}"
        ) from None


def _role(text: str) -> PointRole:
    try:
        return PointRole(text.lower())
    except ValueError:
        raise ValueError(
            f"role {text!r} is not known; there are {', '.join(role.value for role in PointRole)}"
        ) from None


def _how_to_write(text: str) -> Writing:
    if text.lower() not in _WRITE_WORDS:
        raise ValueError(f"write {text!r} is not known; there are {', '.join(_WRITE_WORDS)}")
    return _WRITE_WORDS[text.lower()]


def _sure(text: str) -> float:
    sure = decimal(text)
    if not 0 <= sure <= 1:
        raise ValueError(f"sure {text!r} is no number from 0 to 1")
    return float(sure)


def _counts(text: str) -> str:
    if text.lower() != "errors":
        raise ValueError(f"counts {text!r} is not known; there is errors: the device's own count of what went wrong")
    return text.lower()


def _decimals(text: str) -> int:
    if not re.fullmatch("[0-9]{1,2}", text) or int(text) > 12:
        raise ValueError(f"decimals {text!r} is not a whole number in 0…12")
    return int(text)


def _bit_field(text: str) -> tuple[int, int]:
    low, _, high = text.replace("–", "-").partition("-")
    if not re.fullmatch("[0-9]+", low.strip()) or not re.fullmatch("[0-9]+", (high or low).strip()):
        raise ValueError(f"bit {text!r} must be 0…15, or a field such as 4-7")
    field = int(low), int(high or low)
    if not 0 <= field[0] <= field[1] <= 15:
        raise ValueError(f"bit {text!r} must be 0…15, the lower end first")
    return field


def _labels(text: str) -> dict[int, str]:
    labels: dict[int, str] = {}
    for part in text.split(";"):
        number, equals, label = part.partition("=")
        try:
            if not equals:
                raise ValueError
            labels[whole(number)] = label.strip()
        except ValueError:
            raise ValueError(f"labels {text!r} must read like 0=Closed;1=Open") from None
    return labels
