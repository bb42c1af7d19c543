"""A PDU taken apart, field by field, as far as its bytes go (application protocol 1.1b3, section 6)."""

from collections.abc import Callable
from enum import Enum

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.wire.base import PduError
from kanaleto.wire.codes import (
    MOST_READ_WRITE_REGISTERS,
    MOST_WRITE_BITS,
    MOST_WRITE_REGISTERS,
    TABLE_READ_BY,
    Function,
    Table,
    exception_text,
)
from kanaleto.wire.diagnostics import DIAGNOSTIC_WORDS, Diagnostic, server_id_parts
from kanaleto.wire.frames import Role
from kanaleto.wire.identity import OBJECT_NAMES
from kanaleto.wire.pdu import parse_answer, parse_request
from kanaleto.wire.records import LAST_RECORD, MOST_FIFO


class FieldKind(Enum):
    """What a field is, for the eye."""

    FRAME = "frame"
    FUNCTION = "function"
    ADDRESS = "address"
    DATA = "data"
    CHECK = "check"


class Field(Struct, frozen=True):
    """Bytes `start`…`end` (not included) of the frame. `is_right` is None where nothing can be wrong."""

    start: int
    end: int
    name: str
    meaning: str
    kind: FieldKind = FieldKind.DATA
    is_right: bool | None = None


_FUNCTION_WORDS = {
    Function.READ_COILS: "read coils",
    Function.READ_DISCRETE_INPUTS: "read discrete inputs",
    Function.READ_HOLDING_REGISTERS: "read holding registers",
    Function.READ_INPUT_REGISTERS: "read input registers",
    Function.WRITE_COIL: "write one coil",
    Function.WRITE_REGISTER: "write one register",
    Function.READ_EXCEPTION_STATUS: "read exception status",
    Function.DIAGNOSTICS: "diagnostics",
    Function.COMM_EVENT_COUNTER: "get comm event counter",
    Function.COMM_EVENT_LOG: "get comm event log",
    Function.WRITE_COILS: "write coils",
    Function.WRITE_REGISTERS: "write registers",
    Function.REPORT_SERVER_ID: "report server ID",
    Function.READ_FILE_RECORD: "read file records",
    Function.WRITE_FILE_RECORD: "write file records",
    Function.MASK_WRITE_REGISTER: "mask write register",
    Function.READ_WRITE_REGISTERS: "write then read registers",
    Function.READ_FIFO_QUEUE: "read FIFO queue",
    Function.ENCAPSULATED: "encapsulated interface",
}
_DEPTHS = {1: "basic stream", 2: "regular stream", 3: "extended stream", 4: "one object"}


def function_words(function: int) -> str:
    """What a function code asks for."""
    if function in set(Function):
        return _FUNCTION_WORDS[Function(function)]
    return "a function of a maker's own" if 65 <= function <= 72 or 100 <= function <= 110 else "not defined"


class _Walk:
    """Takes fields off a PDU from left to right; past its end it takes nothing more."""

    def __init__(self, pdu: bytes, at: int, first_address: int | None) -> None:
        self._pdu, self._at = pdu, at
        self.first_address = first_address
        self.place = 1
        self.fields: list[Field] = []

    @property
    def rest(self) -> bytes:
        return self._pdu[self.place :]

    @property
    def left(self) -> int:
        return len(self._pdu) - self.place

    def take(
        self,
        name: str,
        size: int,
        kind: FieldKind = FieldKind.DATA,
        say: Callable[[int], str] = str,
        is_right: bool | None = None,
    ) -> int:
        """A number of `size` bytes; what is cut short is one field that says so."""
        raw = self._pdu[self.place : self.place + size]
        if not raw:
            return 0
        number = int.from_bytes(raw)
        meaning = say(number) if len(raw) == size else f"cut short: {size} bytes are due"
        self._add(len(raw), name, meaning, kind, is_right if len(raw) == size else False)
        return number

    def take_count(self, size: int = 1) -> None:
        """A byte count, right when as many bytes follow."""
        follow = self.left - size
        self.take(
            "bytes",
            size,
            FieldKind.FRAME,
            lambda count: str(count) if count == follow else f"{count}, {follow} follow",
            int.from_bytes(self._pdu[self.place : self.place + size]) == follow,
        )

    def take_number(self, name: str, low: int, high: int, kind: FieldKind = FieldKind.DATA) -> int:
        """Two bytes, right from `low` to `high`."""
        number = int.from_bytes(self._pdu[self.place : self.place + 2])
        is_right = low <= number <= high
        words = f"{number}" if is_right else f"{number}, {low}…{high} are allowed"
        return self.take(name, 2, kind, lambda _: words, None if is_right else False)

    def take_span(self, first: str, count: str, most: int) -> tuple[int, int]:
        """An address and how many from there: at most `most`, and none past the last address."""
        address = self.take(first, 2, FieldKind.ADDRESS)
        return address, self.take_number(count, 1, min(most, max(0x10000 - address, 1)))

    def take_one_of(self, name: str, size: int, words: dict[int, str], kind: FieldKind, otherwise: str) -> int:
        """A number that must be one of those in `words`."""
        number = int.from_bytes(self._pdu[self.place : self.place + size])
        is_right = None if number in words else False
        return self.take(name, size, kind, lambda number: words.get(number, f"{number}, {otherwise}"), is_right)

    def take_words(self) -> None:
        """Registers up to the end, with their addresses where the first is known."""
        number = 0
        while self.left >= 2:
            name = f"register +{number}" if self.first_address is None else f"register {self.first_address + number}"
            self.take(name, 2)
            number += 1
        self.take_rest("data")

    def take_bits(self) -> None:
        if self.left > 0:
            bits = "".join(f"{byte:08b}"[::-1] for byte in self._pdu[self.place :])
            name = "bits" if self.first_address is None else f"bits from {self.first_address}"
            self._add(self.left, name, bits, FieldKind.DATA, None)

    def take_text(self, name: str, size: int) -> None:
        raw = self._pdu[self.place : self.place + size]
        if raw:
            text = raw.decode("utf-8", "replace")
            self._add(len(raw), name, repr(text) if text.isprintable() else f"{len(raw)} bytes", FieldKind.DATA, None)

    def take_rest(self, name: str, meaning: str = "") -> None:
        if self.left > 0:
            self._add(self.left, name, meaning or f"{self.left} bytes", FieldKind.DATA, None)

    def _add(self, size: int, name: str, meaning: str, kind: FieldKind, is_right: bool | None) -> None:
        start = self._at + self.place
        self.fields.append(Field(start, start + size, name, meaning, kind, is_right))
        self.place += size


def explain_pdu(role: Role, pdu: bytes, at: int, first_address: int | None = None) -> list[Field]:
    """The fields of a PDU that begins at byte `at` of its frame; `first_address` is where the registers of an answer
    begin."""
    if not pdu:
        return []
    function = pdu[0]
    walk = _Walk(pdu, at, first_address)
    if role is Role.ANSWERS and function > 0x80:
        asked = function & 0x7F
        head = Field(at, at + 1, "function", f"exception to 0x{asked:02X}, {function_words(asked)}", FieldKind.FUNCTION)
        walk.take("exception", 1, say=lambda code: f"{code}: {exception_text(code)}")
    else:
        head = Field(at, at + 1, "function", function_words(function), FieldKind.FUNCTION)
        (_request if role is Role.REQUESTS else _answer)(function, walk)
    walk.take_rest("too much" if function in set(Function) else "data")
    if all(field.is_right is not False for field in walk.fields):
        head = _judged(head, role, pdu)
    return [head, *walk.fields]


def _judged(head: Field, role: Role, pdu: bytes) -> Field:
    """What is wrong with the PDU as a whole, where no field is."""
    try:
        (parse_request if role is Role.REQUESTS else parse_answer)(pdu)
    except PduError as error:
        return replace(head, meaning=f"{head.meaning}: {error}", is_right=False)
    return head


def _address(walk: _Walk, name: str = "address") -> None:
    walk.take(name, 2, FieldKind.ADDRESS)


def _request(function: int, walk: _Walk) -> None:
    if function in TABLE_READ_BY:
        walk.take_span("address", "count", TABLE_READ_BY[function].most_read)
    elif function in (Function.WRITE_COIL, Function.WRITE_REGISTER, Function.MASK_WRITE_REGISTER):
        _write_of_one(function, walk)
    elif function in (Function.WRITE_COILS, Function.WRITE_REGISTERS):
        most = MOST_WRITE_BITS if function == Function.WRITE_COILS else MOST_WRITE_REGISTERS
        walk.first_address, _ = walk.take_span("address", "count", most)
        walk.take_count()
        (walk.take_bits if function == Function.WRITE_COILS else walk.take_words)()
    elif function == Function.READ_WRITE_REGISTERS:
        walk.take_span("read from", "read count", Table.HOLDING.most_read)
        walk.first_address, _ = walk.take_span("write from", "write count", MOST_READ_WRITE_REGISTERS)
        walk.take_count()
        walk.take_words()
    elif function == Function.READ_FIFO_QUEUE:
        _address(walk)
    elif function == Function.DIAGNOSTICS:
        _diagnostics(walk)
    elif function in (Function.READ_FILE_RECORD, Function.WRITE_FILE_RECORD):
        walk.take_count()
        while walk.left > 0:
            count = _file_part(walk)
            for record in range(count if function == Function.WRITE_FILE_RECORD else 0):
                walk.take(f"record +{record}", 2)
    elif function == Function.ENCAPSULATED:
        _encapsulated(walk)
        walk.take("object", 1, say=_object_words)


def _answer(function: int, walk: _Walk) -> None:
    if function in TABLE_READ_BY:
        walk.take_count()
        (walk.take_bits if TABLE_READ_BY[function].is_bits else walk.take_words)()
    elif function in (Function.WRITE_COIL, Function.WRITE_REGISTER, Function.MASK_WRITE_REGISTER):
        _write_of_one(function, walk)
    elif function in (Function.WRITE_COILS, Function.WRITE_REGISTERS):
        most = MOST_WRITE_BITS if function == Function.WRITE_COILS else MOST_WRITE_REGISTERS
        walk.take_span("address", "count", most)
    elif function == Function.READ_WRITE_REGISTERS:
        walk.take_count()
        walk.take_words()
    elif function == Function.READ_FIFO_QUEUE:
        walk.take_count(2)
        walk.take_number("in the queue", 0, MOST_FIFO)
        walk.take_words()
    elif function == Function.DIAGNOSTICS:
        _diagnostics(walk)
    elif function == Function.READ_FILE_RECORD:
        walk.take_count()
        while walk.left > 0:
            length = walk.take("length", 1, FieldKind.FRAME)
            walk.take_one_of("reference", 1, {6: "6, as is due"}, FieldKind.FRAME, "6 is due")
            for record in range((length - 1) // 2):
                walk.take(f"record +{record}", 2)
    elif function == Function.WRITE_FILE_RECORD:
        _request(function, walk)
    elif function == Function.READ_EXCEPTION_STATUS:
        walk.take("outputs", 1, say=lambda outputs: f"{outputs:08b}")
    elif function in (Function.COMM_EVENT_COUNTER, Function.COMM_EVENT_LOG):
        if function == Function.COMM_EVENT_LOG:
            walk.take_count()
        walk.take("status", 2, say=lambda status: {0: "ready", 0xFFFF: "busy"}.get(status, f"{status}, not defined"))
        walk.take("events", 2)
        if function == Function.COMM_EVENT_LOG:
            walk.take("messages", 2)
            walk.take_rest("log", f"{walk.left} events, the newest first")
    elif function == Function.REPORT_SERVER_ID:
        walk.take_count()
        name, state, more = server_id_parts(walk.rest)
        walk.take_text("server ID", len(name))
        if state is not None:
            walk.take("run", 1, say=lambda run: "on" if run else "off")
        walk.take_text("additional", len(more))
    elif function == Function.ENCAPSULATED:
        _identification(walk)


def _write_of_one(function: int, walk: _Walk) -> None:
    _address(walk)
    if function == Function.MASK_WRITE_REGISTER:
        walk.take("AND mask", 2, say=lambda mask: f"{mask:016b}")
        walk.take("OR mask", 2, say=lambda mask: f"{mask:016b}")
    elif function == Function.WRITE_COIL:
        walk.take_one_of("value", 2, {0xFF00: "on", 0x0000: "off"}, FieldKind.DATA, "neither on nor off")
    else:
        walk.take("value", 2)


def _diagnostics(walk: _Walk) -> None:
    words = {int(one): f"{one.value}: {text}" for one, text in DIAGNOSTIC_WORDS.items()}
    if walk.take_one_of("sub-function", 2, words, FieldKind.ADDRESS, "not defined") == Diagnostic.RETURN_QUERY_DATA:
        walk.take_rest("query data")
    else:
        walk.take("data", 2)


def _file_part(walk: _Walk) -> int:
    walk.take_one_of("reference", 1, {6: "6, as is due"}, FieldKind.FRAME, "6 is due")
    walk.take_number("file", 1, 0xFFFF, FieldKind.ADDRESS)
    record = walk.take_number("record", 0, LAST_RECORD, FieldKind.ADDRESS)
    return min(walk.take_number("count", 1, max(LAST_RECORD + 1 - record, 1)), walk.left // 2 + 1)


def _encapsulated(walk: _Walk) -> None:
    walk.take(
        "type", 1, FieldKind.FUNCTION, lambda kind: "read device identification" if kind == 0x0E else f"0x{kind:02X}"
    )
    walk.take_one_of("access", 1, _DEPTHS, FieldKind.ADDRESS, "1…4 are defined")


def _object_words(number: int) -> str:
    return f"{number}, {OBJECT_NAMES[number].replace('_', ' ')}" if number in OBJECT_NAMES else str(number)


def _identification(walk: _Walk) -> None:
    _encapsulated(walk)
    walk.take("conformity", 1, say=lambda level: f"0x{level:02X}")
    walk.take_one_of("more follows", 1, {0: "no", 0xFF: "yes"}, FieldKind.FRAME, "neither yes nor no")
    walk.take("next object", 1, FieldKind.FRAME)
    for _ in range(walk.take("objects", 1, FieldKind.FRAME)):
        if walk.left <= 0:
            return
        number = walk.take("object", 1, FieldKind.ADDRESS, _object_words)
        length = walk.take("length", 1, FieldKind.FRAME)
        walk.take_text(OBJECT_NAMES.get(number, f"object {number}").replace("_", " "), length)
