"""Kinds whose value is no plain number: dates, addresses, versions, digits in several registers. Bytes in order, the
highest first."""

import re
from datetime import UTC, datetime, timedelta

from kanaleto.values.novalue import CannotEncode, NoValue
from kanaleto.values.types import Kind

_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_CENTURY = 2000


def decode_special(kind: Kind, raw: bytes) -> int | str | NoValue:
    """The value of `raw`."""
    match kind:
        case Kind.MODULO2 | Kind.MODULO3:
            value = 0
            for at in range(0, len(raw), 2):
                digits = int.from_bytes(raw[at : at + 2])
                if digits > 9999:
                    return NoValue(f"{digits:04X} is no group of four digits")
                value = value * 10000 + digits
            return value
        case Kind.UNIX32 | Kind.UNIX64:
            seconds = int.from_bytes(raw, signed=kind is Kind.UNIX64)
            try:
                return _iso(_EPOCH + timedelta(seconds=seconds))
            except OverflowError:
                return NoValue(f"{seconds} seconds since 1970 is no date")
        case Kind.CLOCK3:
            return _date(raw[0] + _CENTURY, *raw[1:6])
        case Kind.CLOCK6:
            year, *rest = (int.from_bytes(raw[at : at + 2]) for at in range(0, 12, 2))
            return _date(year if year >= 100 else year + _CENTURY, *rest)
        case Kind.IPV4:
            return ".".join(str(byte) for byte in raw)
        case Kind.MAC:
            return raw.hex(":").upper()
        case _:  # versions
            return ".".join(str(byte) for byte in raw)


def encode_special(kind: Kind, value: int | float | str) -> bytes:
    """The bytes that hold `value`. Raises CannotEncode with what would be right."""
    match kind:
        case Kind.MODULO2 | Kind.MODULO3:
            groups = 2 if kind is Kind.MODULO2 else 3
            if isinstance(value, str) or not 0 <= value < 10000**groups:
                raise CannotEncode(f"{value} does not fit: {kind.value} holds whole numbers 0…{10000**groups - 1}")
            return b"".join((int(value) // 10000**at % 10000).to_bytes(2) for at in range(groups - 1, -1, -1))
        case Kind.UNIX32 | Kind.UNIX64:
            return _seconds(kind, value)
        case Kind.CLOCK3 | Kind.CLOCK6:
            moment = _moment(kind, value)
            year = moment.year - _CENTURY if kind is Kind.CLOCK3 else moment.year
            parts = (year, moment.month, moment.day, moment.hour, moment.minute, moment.second)
            if not 0 <= year <= 0xFF and kind is Kind.CLOCK3:
                raise CannotEncode(f"{value}: the year does not fit; {kind.value} holds 2000…2255")
            return bytes(parts) if kind is Kind.CLOCK3 else b"".join(part.to_bytes(2) for part in parts)
        case Kind.IPV4:
            import ipaddress  # only needed where one is written

            try:
                return ipaddress.IPv4Address(str(value)).packed
            except ValueError:
                raise CannotEncode(f"{value!r} is no address such as 192.0.2.7") from None
        case Kind.MAC:
            digits = re.sub(r"[:\-. ]", "", str(value))
            if not re.fullmatch(r"[0-9A-Fa-f]{12}", digits):
                raise CannotEncode(f"{value!r} is no address such as 02:00:5E:10:00:07")
            return bytes.fromhex(digits)
        case _:
            parts_text = str(value).split(".")
            count = 2 if kind is Kind.VERSION else 4
            if len(parts_text) != count or not all(part.isdecimal() and int(part) <= 255 for part in parts_text):
                raise CannotEncode(f"{value!r} is no version such as {'2.1' if count == 2 else '2.1.0.7'}")
            return bytes(int(part) for part in parts_text)


def _date(year: int, month: int, day: int, hour: int, minute: int, second: int) -> str | NoValue:
    try:
        return _iso(datetime(year, month, day, hour, minute, second, tzinfo=UTC))
    except ValueError:
        return NoValue(f"{year}-{month}-{day} {hour}:{minute}:{second} is no date")


def _iso(moment: datetime) -> str:
    return moment.strftime("%Y-%m-%d %H:%M:%S") if moment.year >= 1000 else moment.isoformat(" ")[:19]


def _moment(kind: Kind, value: int | float | str) -> datetime:
    try:
        return datetime.fromisoformat(str(value).replace("Z", "")).replace(tzinfo=UTC)
    except ValueError:
        raise CannotEncode(f"{value!r} is no date; {kind.value} takes one such as 2026-05-17 08:30:00") from None


def _seconds(kind: Kind, value: int | float | str) -> bytes:
    seconds = int(value) if isinstance(value, int | float) else int((_moment(kind, value) - _EPOCH).total_seconds())
    low, high = (0, 2**32 - 1) if kind is Kind.UNIX32 else (-(2**63), 2**63 - 1)
    if not low <= seconds <= high:
        raise CannotEncode(f"{value} does not fit {kind.value}")
    return seconds.to_bytes(4 if kind is Kind.UNIX32 else 8, signed=kind is Kind.UNIX64)
