"""All points of one block at once: a function made for the block when its first answer comes, run once an answer.

Registers are taken apart by one `struct`, from their bytes in the order in which the machine has them. What a value
needs beyond that is one expression; values of plain integers that stand as they come cost no Python at all.
"""

from collections.abc import Callable, Sequence
from functools import lru_cache
from math import isfinite
from operator import itemgetter
from struct import Struct
from typing import cast

from kanaleto.values.codec import Codec, Value
from kanaleto.values.scale import Scale
from kanaleto.values.types import Kind, byte_places

Decode = Callable[[bytes], tuple[Value, ...]]
_WHOLE = frozenset("hHiIqQ")
_BITS_OF_BYTE = [tuple(byte >> bit & 1 for bit in range(8)) for byte in range(256)]


class RegisterBlock:
    """Decodes the points of a block of registers. `fields` gives each point's first register in the block and its
    codec."""

    def __init__(self, registers: int, fields: Sequence[tuple[int, Codec]]) -> None:
        self._registers, self._fields = registers, fields
        self._decode: Decode | None = None

    def decode(self, data: bytes) -> tuple[Value, ...]:
        """Values of the block's points, from its registers as they came. Raises ValueError for a point outside the
        block. The function that does it is made when the first answer comes: planning thousands of points stays
        quick."""
        if self._decode is None:
            self._decode = _made_for(self._registers, self._fields)
        return self._decode(data)


@lru_cache(maxsize=1024)
def decoder_of(codec: Codec) -> Decode:
    """A function for one point's own registers; gives a tuple of one value."""
    return _made_for(codec.registers, ((0, codec),))


def _made_for(registers: int, fields: Sequence[tuple[int, Codec]]) -> Decode:
    """A function for these points: bytes put in the order in which the machine has them, taken apart at once, and one
    expression a value."""
    for start, codec in fields:
        if start < 0 or start + codec.registers > registers:
            raise ValueError(f"registers {start}…{start + codec.registers - 1} are not in a block of {registers}")
    if not fields:
        return lambda data: ()
    if all(codec.is_plain and not codec.type.is_float for _, codec in fields):
        in_place = _in_place(registers, fields)
        if in_place is not None:
            return in_place.unpack  # plain integers as they come
    raw, places, codes = _raw_numbers(fields)
    globals_: dict[str, object] = {"apart": Struct(codes).unpack, "bits": _BITS_OF_BYTE}
    if 2 * registers <= _TABLE:  # each byte of `places` is replaced by the byte that stands there: quick, in C
        globals_ |= {"places": bytes(places), "rest": bytes(_TABLE - 2 * registers)}
        ordered = "places.translate(data + rest)"
    else:
        globals_["take"] = itemgetter(*places, places[0])
        ordered = "bytes(take(data)[:-1])"
    lines, of_bytes = _bits_of_bytes(raw, fields)
    values = [
        of_bytes.get(index) or _expression(f"r{number}", index, codec, globals_)
        for index, (number, (_, codec)) in enumerate(zip(raw, fields, strict=True))
    ]
    names = "".join(f"r{number}, " for number in range(max(raw) + 1))
    lines = [f"{names}= apart({ordered})", *lines, f"return ({', '.join(values)},)"]
    exec("def decode(data):\n    " + "\n    ".join(lines), globals_)
    return cast(Decode, globals_["decode"])


_TABLE = 256


def _in_place(registers: int, fields: Sequence[tuple[int, Codec]]) -> Struct | None:
    """What takes apart points that stand as they come, one behind the other; None where they do not."""
    codes, end = ">", 0
    for start, codec in fields:
        if start < end or byte_places(codec.type, codec.order) != tuple(range(2 * codec.registers)):
            return None
        codes += f"{2 * (start - end)}x{codec.struct_code}"
        end = start + codec.registers
    return Struct(f"{codes}{2 * (registers - end)}x")


def _raw_numbers(fields: Sequence[tuple[int, Codec]]) -> tuple[list[int], list[int], str]:
    """For each field the number of its raw number; where the bytes of all raw numbers stand in the block, the lowest of
    each first; and what takes them apart then. Bits of one word share theirs."""
    raw: list[int] = []
    places: list[int] = []
    codes = "<"
    known: dict[tuple[object, ...], int] = {}
    for start, codec in fields:
        of_own, code = byte_places(codec.type, codec.order), codec.struct_code
        key = start, code, of_own
        if key not in known:
            known[key] = len(known)
            codes += code
            standing = [2 * start + place for place in of_own]
            places += standing if code.endswith("s") else reversed(standing)
        raw.append(known[key])
    return raw, places, codes


def _bits_of_bytes(raw: Sequence[int], fields: Sequence[tuple[int, Codec]]) -> tuple[list[str], dict[int, str]]:
    """Of bytes of which several single bits are points: lines that look their bits up at once, and by which field it
    is, where each bit is then."""
    found: dict[tuple[int, int], list[tuple[int, int]]] = {}
    for index, (number, (_, codec)) in enumerate(zip(raw, fields, strict=True)):
        low, high = codec.bits or (0, -1)
        if low == high and codec.scale is None and not codec.no_values:
            found.setdefault((number, low // 8), []).append((index, low % 8))
    several = {place: bits for place, bits in found.items() if len(bits) > 1}
    lines = [f"b{number}_{byte} = bits[r{number} >> {8 * byte} & 255]" for number, byte in several]
    return lines, {index: f"b{number}_{byte}[{bit}]" for (number, byte), bits in several.items() for index, bit in bits}


def _expression(raw: str, index: int, codec: Codec, names: dict[str, object]) -> str:
    """What makes the value of a raw number; what takes more than an expression is a call of the codec's own `finish`,
    under a name of its own."""
    finish = f"finish{index}"
    number = _number(raw, codec)
    text = _scaled(number, codec) if number is not None else None
    if text is None:
        names[finish] = codec.finish
        return f"{finish}({raw})"
    if codec.type.is_float:  # x - x is 0 but for NaN and what is infinite
        names[finish] = codec.finish
        is_bare = codec.scale is None
        test = f"{raw} - {raw}" if is_bare else f"(v := {text}) - v"
        text = f"({raw if is_bare else 'v'} if {test} == 0.0 else {finish}({raw}))"
    if codec.no_values:
        names[finish], names[f"none{index}"] = codec.finish, codec.no_values
        text = f"({finish}({raw}) if {raw} in none{index} else {text})"
    return text


def _number(raw: str, codec: Codec) -> str | None:
    """The number that is to be scaled: of plain kinds, a field of bits, or a bool. None for others."""
    kind, code = codec.type.kind, codec.struct_code
    if codec.type.is_array or not (code in _WHOLE or codec.type.is_float):
        return None
    if codec.bits is not None:
        low, high = codec.bits
        sign = 1 << high - low
        field = f"{raw} >> {low} & {2 * sign - 1}"
        return f"(({field} ^ {sign}) - {sign})" if kind is Kind.INT16 and high > low else f"({field})"
    if kind is Kind.BOOL:
        return f"(1 if {raw} else 0)"
    return raw if codec.is_number else None


def _scaled(number: str, codec: Codec) -> str | None:
    scale, is_float = codec.scale, codec.type.is_float
    if scale is None:
        return number
    if not isinstance(scale, Scale) or not isfinite((2.0**64 * scale.up + abs(scale.shift)) / scale.down):
        return None
    up, shift, down = (repr(float(part) if is_float else part) for part in (scale.up, scale.shift, scale.down))
    text = number if scale.up == 1 else f"{number} * {up}"
    text = text if scale.shift == 0 else f"({text} + {shift})"
    return f"{text} / {down}"


class BitBlock:
    """Decodes the points of a block of coils or discrete inputs; each is one bit, given by its place in the block."""

    def __init__(self, bits: int, places: Sequence[int]) -> None:
        for place in places:
            if not 0 <= place < bits:
                raise ValueError(f"bit {place} is not in a block of {bits}")
        self._take = None if list(places) == list(range(bits)) else list(places)
        self._bits = bits

    def decode(self, data: bytes) -> tuple[Value, ...]:
        """0 or 1 for each point, from the bits as they came, lowest address first."""
        bits: list[int] = []
        for byte in data:
            bits += _BITS_OF_BYTE[byte]
        if self._take is None:
            return tuple(bits[: self._bits])
        return tuple([bits[place] for place in self._take])
