"""Statements, as text, that write numbers into the memory of a simulated table: packed at once where type and order are
usual."""

import math
import struct

from kanaleto.site.model import Point
from kanaleto.values.codec import Codec, NoValue
from kanaleto.values.scale import Scale
from kanaleto.values.types import ByteOrder, Kind

WRONG = "(ArithmeticError, ValueError, PackError)"
"""What a statement may raise, by the names that it finds."""


def guarded(text: str, at: int) -> str:
    lines = text.split("; ") if not text.startswith("if ") else None
    if lines is not None:
        body = "".join(f"\n  {line}" for line in lines)
    else:
        condition, _, rest = text.partition(": ")
        body = f"\n  {condition}:" + "".join(f"\n   {line}" for line in rest.split("; "))
    return f"try:{body}\n except {WRONG} as error:\n  wrong({at}, error)"


def literal(number: float) -> str:
    return repr(number) if math.isfinite(number) else f"float('{number}')"


def wrapped(point: Point | None, text: str) -> str:
    """A counter goes round at the end of its type."""
    if point is None or point.codec.type.is_float or point.codec.type.kind not in _FORMATS:
        return text
    low, high = point.codec.raw_limits()
    scale = point.codec.scale
    factor, offset = (scale.factor, scale.offset) if isinstance(scale, Scale) else (1.0, 0.0)
    span, first = (high - low + 1) * factor, low * factor + offset
    return f"(({text}) - {first!r}) % {span!r} + {first!r}"


_FORMATS = {
    Kind.INT16: "h", Kind.UINT16: "H", Kind.HEX: "H", Kind.INT32: "i", Kind.UINT32: "I", Kind.FLOAT32: "f",
    Kind.INT64: "q", Kind.UINT64: "Q", Kind.FLOAT64: "d", Kind.BITS: "H",
}  # fmt: skip
_PLAIN = {ByteOrder.ABCD: ">", ByteOrder.AB: ">", ByteOrder.DCBA: "<", ByteOrder.BA: "<"}


def as_float(value: float) -> int:
    """The 32 bits of a float."""
    return int.from_bytes(struct.pack(">f", value))


def written(at: int, point: Point, memory: str, offset: int, value: str) -> str:
    """A statement that writes the registers of a point: packed at once where its type and order are usual."""
    codec = point.codec
    scale = codec.scale
    if point.table.is_bits:
        return f"{memory}[{offset}] = 1 if {value} else 0"
    is_usual = codec.type.kind in _FORMATS and codec.bits is None and not codec.type.is_array
    if not is_usual or (scale is not None and type(scale) is not Scale) or codec.no_values:
        return guarded(f"put({at}, {value})", at)
    low, high = _ends(point, codec)
    ends = f"{literal(low)}, {literal(high)}"
    clamped = f"x = {value}; x = x if {literal(low)} <= x <= {literal(high)} else clamp({at}, {ends}, x)"
    if isinstance(scale, Scale):
        clamped += f"; x = (x * {scale.down!r} - {scale.shift!r}) / {scale.up!r}"
    code = _FORMATS[codec.type.kind]
    if not codec.type.is_float:
        clamped += "; x = whole(x)"
    prefix = _PLAIN.get(codec.order)
    if prefix is not None:
        return guarded(f"{clamped}; pack('{prefix}{code}', {memory}, {offset}, x)", at)
    if codec.registers != 2:
        return guarded(f"put({at}, {value})", at)
    bits = "as_float(x)" if codec.type.is_float else "x & 0xFFFFFFFF"
    if codec.order is ByteOrder.CDAB:
        return guarded(f"{clamped}; x = {bits}; pack('>HH', {memory}, {offset}, x & 0xFFFF, x >> 16)", at)
    return guarded(f"{clamped}; x = {bits}; pack('<HH', {memory}, {offset}, x >> 16, x & 0xFFFF)", at)


def _ends(point: Point, codec: Codec) -> tuple[float, float]:
    """What the registers can hold, within the point's range, in engineering units."""
    low, high = -math.inf, math.inf
    if not codec.type.is_float:
        ends = [codec.scale.to_value(raw) if codec.scale is not None else raw for raw in codec.raw_limits()]
        numbers = [float(end) for end in ends if not isinstance(end, NoValue)]
        low, high = (min(numbers), max(numbers)) if numbers else (low, high)
    elif codec.type.kind is Kind.FLOAT32:
        low, high = -3.4028234663852886e38, 3.4028234663852886e38
    limits = point.limits
    low = max(low, limits.range_low) if limits.range_low is not None else low
    high = min(high, limits.range_high) if limits.range_high is not None else high
    return low, high
