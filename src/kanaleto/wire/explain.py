"""Any frame taken apart: each field with its place, its name, what it says, and whether it is right. And which framing
bytes have."""

from msgspec import Struct

from kanaleto.wire.checks import crc_bytes, lrc
from kanaleto.wire.explain_pdu import Field, FieldKind, explain_pdu
from kanaleto.wire.frames import Role
from kanaleto.wire.lengths import frame_length
from kanaleto.wire.pdu import PduError, parse_answer, parse_request

__all__ = ["Field", "FieldKind", "Guess", "explain_frame", "guess", "pdu_of", "split_pair"]


def explain_frame(framing: str, role: Role, raw: bytes, first_address: int | None = None) -> list[Field]:
    """The fields of a whole frame; `framing` is rtu, ascii or tcp. Broken frames are explained as far as they go.
    `first_address` is where the registers of an answer begin, when its request is known."""
    if framing == "tcp":
        return _explain_tcp(role, raw, first_address)
    if framing == "ascii":
        return _explain_ascii(role, raw, first_address)
    return _explain_rtu(role, raw, first_address)


def _explain_rtu(role: Role, raw: bytes, first_address: int | None) -> list[Field]:
    if len(raw) < 4:
        return [Field(0, len(raw), "rest", "too short for a frame", FieldKind.FRAME, False)]
    right = crc_bytes(raw[:-2])
    verdict = "right" if right == raw[-2:] else f"wrong, {right.hex(' ').upper()} would be right"
    fields = [_serial_unit(raw[0])]
    fields += explain_pdu(role, raw[1:-2], 1, first_address)
    return [*fields, Field(len(raw) - 2, len(raw), "CRC", verdict, FieldKind.CHECK, right == raw[-2:])]


def _serial_unit(unit: int) -> Field:
    meaning = "0, to all" if unit == 0 else f"{unit}, reserved: there are 1…247" if unit > 247 else str(unit)
    return Field(0, 1, "unit", meaning, FieldKind.FRAME)


def _explain_tcp(role: Role, raw: bytes, first_address: int | None) -> list[Field]:
    if len(raw) < 8:
        return [Field(0, len(raw), "rest", "too short for a frame", FieldKind.FRAME, False)]
    protocol, length = int.from_bytes(raw[2:4]), int.from_bytes(raw[4:6])
    due = len(raw) - 6
    return [
        Field(0, 2, "transaction", str(int.from_bytes(raw[0:2])), FieldKind.FRAME),
        Field(2, 4, "protocol", "right" if protocol == 0 else f"{protocol}, 0 is due", FieldKind.CHECK, protocol == 0),
        Field(
            4,
            6,
            "length",
            f"{length}" if length == due else f"{length}, {due} bytes follow",
            FieldKind.CHECK,
            length == due,
        ),
        Field(6, 7, "unit", str(raw[6]), FieldKind.FRAME),
        *explain_pdu(role, raw[7:], 7, first_address),
    ]


def _explain_ascii(role: Role, raw: bytes, first_address: int | None) -> list[Field]:
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
    inner = [_serial_unit(body[0]), *explain_pdu(role, body[1:-1], 1, first_address)]
    inner.append(Field(len(body) - 1, len(body), "LRC", verdict, FieldKind.CHECK, due == body[-1]))
    fields = [Field(0, 1, "start", ":", FieldKind.FRAME)]
    fields += [Field(1 + 2 * f.start, 1 + 2 * f.end, f.name, f.meaning, f.kind, f.is_right) for f in inner]
    end = 1 + len(digits)
    if end < len(raw):
        fields.append(
            Field(
                end,
                len(raw),
                "end",
                "CR LF" if text.endswith("\r\n") else "not CR LF",
                FieldKind.FRAME,
                text.endswith("\r\n"),
            )
        )
    return fields


class Guess(Struct, frozen=True):
    """What bytes are most likely; `is_open` when they may as well be read as the other half of the traffic."""

    framing: str
    role: Role
    is_open: bool


def guess(raw: bytes, framing: str | None = None, role: Role | None = None) -> Guess:
    """The framing and role of bytes, as far as they are not given."""
    found = framing or _guess_framing(raw)
    if role is not None:
        return Guess(found, role, False)
    fits = [one for one in Role if _fits(found, one, raw)]
    return Guess(found, fits[0] if fits else Role.REQUESTS, len(fits) > 1)


def _guess_framing(raw: bytes) -> str:
    if len(raw) >= 4 and crc_bytes(raw[:-2]) == raw[-2:]:
        return "rtu"  # unit 58 begins as ASCII does
    if raw[:1] == b":":
        return "ascii"
    is_tcp_head = len(raw) >= 8 and raw[2:4] == b"\0\0" and abs(int.from_bytes(raw[4:6]) - (len(raw) - 6)) <= 4
    return "tcp" if is_tcp_head else "rtu"


def pdu_of(framing: str, raw: bytes) -> bytes:
    """The PDU inside a frame, whatever its check bytes say; empty when there is none."""
    if framing == "tcp":
        return raw[7:]
    if framing == "rtu":
        return raw[1:-2]
    try:
        return bytes.fromhex(raw.decode("ascii").strip().removeprefix(":"))[1:-1]
    except ValueError:
        return b""


def _fits(framing: str, role: Role, raw: bytes) -> bool:
    pdu = pdu_of(framing, raw)
    try:
        (parse_request if role is Role.REQUESTS else parse_answer)(pdu)
    except PduError:
        return False
    return True


def split_pair(framing: str, raw: bytes) -> tuple[bytes, bytes] | None:
    """A request and its answer that stand one behind the other, or None."""
    if framing == "ascii":
        first, end, second = raw.partition(b"\n")
        return (first + end, second) if second.startswith(b":") else None
    if framing == "tcp":
        length = 6 + int.from_bytes(raw[4:6]) if len(raw) > 6 else len(raw)
    else:
        length = frame_length(Role.REQUESTS, raw)
        if length > 0 and crc_bytes(raw[: max(length - 2, 0)]) != raw[max(length - 2, 0) : length]:
            return None
    if not 4 <= length <= len(raw) - 4 or (framing == "tcp" and raw[length + 2 : length + 4] != b"\0\0"):
        return None
    return raw[:length], raw[length:]
