"""Bytes on a wire, as a port hears them that has other settings: sampled sixteen times a bit, with a clock that is not
quite the sender's."""

import random

from kanaleto.site.links.link import Parity, SerialSettings

_PARTS = 16


def heard_with(source: random.Random, sent: bytes, theirs: SerialSettings, settings: SerialSettings) -> bytes:
    """Steps in parts of a bit of the port that hears."""
    levels: list[int] = []
    bits: list[int] = []
    for byte in sent:
        data = [byte >> at & 1 for at in range(8)]
        odd = sum(data) & 1
        check = {Parity.NONE: [], Parity.EVEN: [odd], Parity.ODD: [1 - odd]}[theirs.parity]
        bits += [0, *data, *check, *[1] * theirs.stop]
    parts = _PARTS * settings.baud / theirs.baud * (1 + source.uniform(-0.004, 0.004))
    levels = [bits[min(int(at / parts), len(bits) - 1)] for at in range(int(len(bits) * parts))]
    levels += [1] * (14 * _PARTS)
    begins_again = source.random() < 0.5
    heard, at = bytearray(), 0
    while at < len(levels) - 12 * _PARTS:
        if levels[at]:
            at += 1
            continue
        middle = at + _PARTS // 2
        if levels[middle]:
            at += 1
            continue
        count = 8 + (settings.parity is not Parity.NONE)
        samples = [levels[middle + _PARTS * (1 + number)] for number in range(count + 1)]
        heard.append(sum(bit << place for place, bit in enumerate(samples[:8])))
        at = middle + _PARTS * (count + 1)
        if samples[-1] == 0:
            if begins_again:
                at -= _PARTS // 2
            else:
                while at < len(levels) and not levels[at]:
                    at += 1
    return bytes(heard)
