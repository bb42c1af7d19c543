"""Any frame taken apart: each field with its place, its name, what it says, and whether it is right."""

from dataclasses import dataclass
from enum import Enum

from kanaleto.wire.checks import crc_bytes, lrc
from kanaleto.wire.codes import TABLE_READ_BY, Function, exception_text
from kanaleto.wire.frames import Role


class FieldKind(Enum):
    """What a field is, for the eye."""

    FRAME = "frame"
    FUNCTION = "function"
    ADDRESS = "address"
    DATA = "data"
    CHECK = "check"


@dataclass(frozen=True, slots=True)
class Field:
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
    Function.WRITE_COILS: "write coils",
    Function.WRITE_REGISTERS: "write registers",
}


def function_words(function: int) -> str:
    """What a function code asks for."""
    return _FUNCTION_WORDS.get(Function(function), "") if function in set(Function) else "a function of a maker's own, or not defined"


def explain_frame(framing: str, role: Role, raw: bytes) -> list[Field]:
    """The fields of a whole frame; `framing` is rtu, ascii or tcp. Broken frames are explained as far as they go."""
    if framing == "tcp":
        return _explain_tcp(role, raw)
    if framing == "ascii":
        return _explain_ascii(role, raw)
    return _explain_rtu(role, raw)


def _explain_rtu(role: Role, raw: bytes) -> list[Field]:
    if len(raw) < 4:
        return [Field(0, len(raw), "rest", "too short for a frame", FieldKind.FRAME, False)]
    right = crc_bytes(raw[:-2])
    verdict = "right" if right == raw[-2:] else f"wrong, {right.hex(' ').upper()} would be right"
    fields = [Field(0, 1, "unit", str(raw[0]), FieldKind.FRAME)]
    fields += explain_pdu(role, raw[1:-2], 1)
    return [*fields, Field(len(raw) - 2, len(raw), "CRC", verdict, FieldKind.CHECK, right == raw[-2:])]


def _explain_tcp(role: Role, raw: bytes) -> list[Field]:
    if len(raw) < 8:
        return [Field(0, len(raw), "rest", "too short for a frame", FieldKind.FRAME, False)]
    protocol, length = int.from_bytes(raw[2:4]), int.from_bytes(raw[4:6])
    due = len(raw) - 6
    return [
        Field(0, 2, "transaction", str(int.from_bytes(raw[0:2])), FieldKind.FRAME),
        Field(2, 4, "protocol", "right" if protocol == 0 else f"{protocol}, 0 is due", FieldKind.CHECK, protocol == 0),
        Field(4, 6, "length", f"{length}" if length == due else f"{length}, {due} bytes follow", FieldKind.CHECK, length == due),
        Field(6, 7, "unit", str(raw[6]), FieldKind.FRAME),
        *explain_pdu(role, raw[7:], 7),
    ]


def _explain_ascii(role: Role, raw: bytes) -> list[Field]:
    """Offsets are those of the characters as they came."""
    text = raw.decode("latin-1")
    digits = text.strip("\r\n").removeprefix(":")
    try:
        body = bytes.fromhex(digits)
    except ValueError:
        body = b""
    if not text.startswith(":") or len(body) < 3:
        return [Field(0, len(raw), "rest", "no frame", FieldKind.FRAME, False)]
    due = lrc(body[:-1])
    verdict = "right" if due == body[-1] else f"wrong, {due:02X} would be right"
    inner = [Field(0, 1, "unit", str(body[0]), FieldKind.FRAME), *explain_pdu(role, body[1:-1], 1)]
    inner.append(Field(len(body) - 1, len(body), "LRC", verdict, FieldKind.CHECK, due == body[-1]))
    fields = [Field(0, 1, "start", ":", FieldKind.FRAME)]
    fields += [Field(1 + 2 * f.start, 1 + 2 * f.end, f.name, f.meaning, f.kind, f.is_right) for f in inner]
    end = 1 + len(digits)
    if end < len(raw):
        fields.append(
            Field(end, len(raw), "end", "CR LF" if text.endswith("\r\n") else "not CR LF", FieldKind.FRAME, text.endswith("\r\n"))
        )
    return fields


def explain_pdu(role: Role, pdu: bytes, at: int) -> list[Field]:
    """The fields of a PDU that begins at byte `at` of its frame."""
    if not pdu:
        return []
    function = pdu[0]
    if role is Role.ANSWERS and function & 0x80:
        fields = [
            Field(
                at,
                at + 1,
                "function",
                f"exception to 0x{function & 0x7F:02X}, {function_words(function & 0x7F)}",
                FieldKind.FUNCTION,
            )
        ]
        if len(pdu) > 1:
            fields.append(Field(at + 1, at + 2, "exception", f"{pdu[1]}: {exception_text(pdu[1])}", FieldKind.DATA))
        return fields + _rest(pdu, 2, at)
    head = Field(at, at + 1, "function", function_words(function), FieldKind.FUNCTION)
    if function in TABLE_READ_BY:
        body = _address_and_count(pdu, at) if role is Role.REQUESTS else _counted_data(pdu, at, 1, TABLE_READ_BY[function].is_bits)
    elif function in (Function.WRITE_COIL, Function.WRITE_REGISTER):
        body = _address_and_value(pdu, at, function == Function.WRITE_COIL)
    elif function in (Function.WRITE_COILS, Function.WRITE_REGISTERS):
        body = _address_and_count(pdu, at)
        if role is Role.REQUESTS and len(pdu) > 5:
            body = [*body[:2], *_counted_data(pdu, at, 5, function == Function.WRITE_COILS)]
    else:
        body = _rest(pdu, 1, at)
    return [head, *body]


def _rest(pdu: bytes, start: int, at: int) -> list[Field]:
    return [Field(at + start, at + len(pdu), "data", f"{len(pdu) - start} bytes")] if len(pdu) > start else []


def _number(pdu: bytes, start: int, at: int, name: str, kind: FieldKind) -> list[Field]:
    if len(pdu) < start + 2:
        return _rest(pdu, start, at)
    return [Field(at + start, at + start + 2, name, str(int.from_bytes(pdu[start : start + 2])), kind)]


def _address_and_count(pdu: bytes, at: int) -> list[Field]:
    fields = _number(pdu, 1, at, "address", FieldKind.ADDRESS) + (_number(pdu, 3, at, "count", FieldKind.DATA) if len(pdu) > 3 else [])
    return fields + (_rest(pdu, 5, at) if len(pdu) > 5 else [])


def _address_and_value(pdu: bytes, at: int, is_coil: bool) -> list[Field]:
    fields = _number(pdu, 1, at, "address", FieldKind.ADDRESS)
    if len(pdu) < 5:
        return fields + _rest(pdu, 3, at)
    value = int.from_bytes(pdu[3:5])
    coil = {0xFF00: "on", 0x0000: "off"}.get(value, "neither on nor off")
    return [*fields, Field(at + 3, at + 5, "value", coil if is_coil else str(value)), *_rest(pdu, 5, at)]


def _counted_data(pdu: bytes, at: int, start: int, is_bits: bool) -> list[Field]:
    if len(pdu) <= start:
        return []
    told, have = pdu[start], len(pdu) - start - 1
    count = Field(
        at + start,
        at + start + 1,
        "bytes",
        str(told) if told == have else f"{told}, {have} follow",
        FieldKind.FRAME,
        told == have,
    )
    if is_bits:
        data = pdu[start + 1 :]
        bits = "".join(f"{byte:08b}"[::-1] for byte in data)
        return [count, Field(at + start + 1, at + len(pdu), "bits", bits)] if data else [count]
    words = []
    for word in range(start + 1, len(pdu) - 1, 2):
        value = int.from_bytes(pdu[word : word + 2])
        words.append(Field(at + word, at + word + 2, f"register +{(word - start - 1) // 2}", str(value)))
    return [count, *words, *_rest(pdu, start + 1 + 2 * len(words), at)]
