"""What a request costs in line time: `fixed_s` for the exchange itself, and so much for each item that it reads.

On a serial line that is exact but for how long the device thinks: 8 bytes of request, 5 of answer, two gaps of 3.5
characters, and the data. On a network an exchange costs what a round trip does, and data next to nothing.
"""

from msgspec import Struct

from kanaleto.wire.codes import Table

THINKING_S = 0.002
ROUND_TRIP_S = 0.001
NETWORK_BYTE_S = 1e-7
FRAME_BYTES = 13  # request 8, answer 5 without its data


class LineCost(Struct, frozen=True):
    """Seconds."""

    fixed_s: float
    byte_s: float

    def item_s(self, table: Table) -> float:
        """One register, or one bit (an eighth of a byte)."""
        return self.byte_s / 8 if table.is_bits else 2 * self.byte_s

    def request_s(self, table: Table, count: int) -> float:
        """One request for `count` items, from its first byte to the end of the gap after its answer."""
        data = (count + 7) // 8 if table.is_bits else 2 * count
        return self.fixed_s + data * self.byte_s
