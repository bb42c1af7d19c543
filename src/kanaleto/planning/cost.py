"""What a request costs in line time: `fixed_s` for the exchange itself, and so much for each item that it reads.

On a serial line that is exact but for how long the device thinks: 8 bytes of request, 5 of answer, two gaps of 3.5
characters, and the data. On a network an exchange costs what a round trip does, and data next to nothing.
"""

from msgspec import Struct

from kanaleto.site.link import FramingKind, Link, SerialLink
from kanaleto.wire.codes import Table

THINKING_S = 0.002
_ROUND_TRIP_S = 0.001
_NETWORK_BYTE_S = 1e-7
_FRAME_BYTES = 13  # request 8, answer 5 without its data


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


def assumed_s(link: Link) -> float:
    """The part of a request's cost that is only assumed: how long the far end takes."""
    return THINKING_S if isinstance(link, SerialLink) else _ROUND_TRIP_S


def line_cost(link: Link, gap_s: float = 0.0, thinking_s: float = THINKING_S) -> LineCost:
    """The cost on this link; `gap_s` is the line's own least gap, `thinking_s` how long its devices take to begin an
    answer."""
    if not isinstance(link, SerialLink):
        return LineCost(_ROUND_TRIP_S + gap_s, _NETWORK_BYTE_S)
    settings = link.settings
    is_ascii = link.framing is FramingKind.ASCII
    byte_s = settings.character_s * (2 if is_ascii else 1)
    frame_s = _FRAME_BYTES * byte_s + (6 * settings.character_s if is_ascii else 0.0)
    return LineCost(frame_s + max(gap_s, settings.gap_s) + settings.gap_s + thinking_s, byte_s)
