"""Whether an answer was sent with other settings than the line has: what is known of it (unit ID, function, count of
bytes; all of a confirmation) is put on the wire at each usual rate and parity and read with those of the line. One of
them must give the very bytes that came, sixteen bits of them at least, and no other rate."""

from bisect import bisect_right
from collections.abc import Callable, Iterator, Sequence
from functools import lru_cache
from itertools import pairwise

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.capture.row import ExchangeRow, link_of
from kanaleto.site.links.link import Parity, SerialSettings
from kanaleto.wire.pdu import Read

USUAL_BAUDS = (1200, 2400, 4800, 9600, 19200, 38400, 57600, 115200)
_LEAST_BYTES, _MOST_BYTES = 2, 12
_LATE = (0.03, -0.03)  # how far the middle of a bit may be missed, in bits: clocks differ by so much
_CONFIRMED = (5, 6, 15, 16)
_KNOWN_OF_CONFIRMED = 6


class OtherSettings(Struct, frozen=True):
    """What an answer was sent with, as far as its bytes tell: the rate, and the parity where that is proved too."""

    baud: int
    parity: Parity | None

    def text(self, settings: SerialSettings) -> str:
        """Beside what the line has."""
        if self.baud == settings.baud:
            other = f"parity {self.parity.value}" if self.parity is not None else "another parity"
            return f"sent with {other}, and the line has {settings.parity.value}"
        parity = f" with parity {self.parity.value}" if self.parity is not None else ""
        return f"sent at {self.baud} baud{parity}, and the line has {settings.baud}"


def other_settings(row: ExchangeRow) -> OtherSettings | None:
    """Of a garbled answer on a serial line; None where nothing is proved."""
    asked, answer = row.asked(), row.answer
    if len(row.request) < _KNOWN_OF_CONFIRMED or len(answer) < _LEAST_BYTES:
        return None
    unit, function = row.request[:2]
    known = [bytes((unit, function | 0x80))]
    if isinstance(asked, Read):
        known.append(bytes((unit, function, asked.answer_bytes)))
    elif function in _CONFIRMED:
        known.append(row.request if function < 15 else row.request[:_KNOWN_OF_CONFIRMED])
    if any(answer.startswith(begin) for begin in known):
        return None
    settings = link_of(row.link).settings
    if settings is None:
        return None
    fits = {
        (sent.baud, sent.parity)
        for begin in known
        for sent, heard in _heard(begin, settings)
        if answer.startswith(heard)
    }  # fmt: skip
    if len({baud for baud, _ in fits}) != 1:
        return None
    parities = {parity for _, parity in fits}
    return OtherSettings(next(iter(fits))[0], parities.pop() if len(parities) == 1 else None)


@lru_cache(maxsize=512)
def _heard(sent: bytes, settings: SerialSettings) -> Sequence[tuple[SerialSettings, bytes]]:
    """What a port with these settings makes of bytes that are sent with others; only what tells enough."""
    found: list[tuple[SerialSettings, bytes]] = []
    for baud in USUAL_BAUDS:
        for parity in Parity:
            other = replace(settings, baud=baud, parity=parity)
            if (other.baud, other.parity) == (settings.baud, settings.parity):
                continue
            for late in _LATE:
                for begins_again in (True, False):
                    heard = bytes(_sampled(sent, other, settings, late, begins_again))[:_MOST_BYTES]
                    if len(heard) - _alike(heard, sent) >= _LEAST_BYTES and len(set(heard)) > 1:
                        found.append((other, heard))
    return found


def _alike(one: bytes, other: bytes) -> int:
    """How many bytes both begin with."""
    apart = (at for at, (left, right) in enumerate(zip(one, other, strict=False)) if left != right)
    return next(apart, min(len(one), len(other)))


def _sampled(
    sent: bytes, theirs: SerialSettings, settings: SerialSettings, late: float, begins_again: bool
) -> Iterator[int]:
    """The bytes that are certain. After a stop bit that is none a port takes it for the next start bit
    (`begins_again`), or waits until the line is at rest."""
    level, falls, end_s = _wave(sent, theirs)
    bit_s = 1 / settings.baud
    edge_s: float | None = 0.0
    while edge_s is not None:
        if level(edge_s + (0.5 + late) * bit_s):  # too short for a start bit
            edge_s = _next(falls, edge_s)
            continue
        middles = [
            edge_s + (at + 1.5 + late) * bit_s for at in range(settings.data + (settings.parity is not Parity.NONE) + 1)
        ]
        stop_s = middles[-1]
        if stop_s >= end_s:
            return
        yield sum(level(at_s) << bit for bit, at_s in enumerate(middles[: settings.data]))
        is_start = begins_again and not level(stop_s)
        edge_s = stop_s - 0.5 * bit_s if is_start else _next(falls, stop_s)


def _wave(sent: bytes, settings: SerialSettings) -> tuple[Callable[[float], int], list[float], float]:
    """The line while it is sent: its level at a time, when it falls, when what is known ends."""
    bits: list[int] = []
    for byte in sent:
        data = [byte >> bit & 1 for bit in range(settings.data)]
        bits += [0, *data]
        if settings.parity is not Parity.NONE:
            bits.append(sum(data) % 2 ^ (settings.parity is Parity.ODD))
        bits += [1] * settings.stop
    bit_s = 1 / settings.baud
    starts = [at * bit_s for at in range(len(bits))]
    falls = [starts[at + 1] for at, (one, other) in enumerate(pairwise(bits)) if one and not other]
    return lambda at_s: bits[max(bisect_right(starts, at_s) - 1, 0)], falls, len(bits) * bit_s


def _next(falls: list[float], after_s: float) -> float | None:
    at = bisect_right(falls, after_s)
    return falls[at] if at < len(falls) else None
