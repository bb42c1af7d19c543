"""All points of one block at once: compiled when the plan is made, run once an answer.

Registers are brought into order by one permutation of bytes (none when everything is ABCD), taken apart by one
`struct`, and only the points that need more than that are touched one by one. Values of plain integers cost no Python
loop at all.
"""

from collections.abc import Sequence
from math import isfinite
from operator import itemgetter
from struct import Struct

from kanaleto.values.codec import Codec, Value
from kanaleto.values.types import byte_places

_BITS_OF_BYTE = [tuple(byte >> bit & 1 for bit in range(8)) for byte in range(256)]


class RegisterBlock:
    """Decodes the points of a block of registers. `fields` gives each point's first register in the block and its
    codec."""

    def __init__(self, registers: int, fields: Sequence[tuple[int, Codec]]) -> None:
        self._registers, self._fields = registers, fields
        self._is_compiled = False

    def _compile(self) -> None:
        """Done when the first answer comes: planning thousands of points stays quick. Raises ValueError for a point
        outside the block."""
        places: list[int] = []
        for start, codec in self._fields:
            if start < 0 or start + codec.registers > self._registers:
                raise ValueError(
                    f"registers {start}…{start + codec.registers - 1} are not in a block of {self._registers}"
                )
            places += [2 * start + place for place in byte_places(codec.type, codec.order)]
        self._take = None if places == list(range(2 * self._registers)) else itemgetter(*places) if places else None
        self._is_empty = not places
        self._struct = Struct(">" + "".join(codec.struct_code for _, codec in self._fields))
        self._finish = [(index, codec) for index, (_, codec) in enumerate(self._fields) if not codec.is_plain]
        self._floats = [
            index for index, (_, codec) in enumerate(self._fields) if codec.is_plain and codec.type.is_float
        ]
        self._is_compiled = True

    def decode(self, data: bytes) -> tuple[Value, ...]:
        """Values of the block's points, from its registers as they came."""
        if not self._is_compiled:
            self._compile()
        if self._is_empty:
            return ()
        raw = self._struct.unpack(bytes(self._take(data)) if self._take else data)
        if not self._finish and not self._floats:
            return raw
        values = list(raw)
        for index in self._floats:
            if not isfinite(values[index]):
                values[index] = self._fields[index][1].finish(values[index])
        for index, codec in self._finish:
            values[index] = codec.finish(values[index])
        return tuple(values)


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
