"""Other readings of a point's words, from what was read lately: the point's own registers, wider and narrower ones, and
those beside it."""

from collections.abc import Sequence

from msgspec.structs import replace

from kanaleto.board.board import Readings
from kanaleto.planning.plan import Place
from kanaleto.values.candidates import PRESENT, Candidate, Excess, excess_of, parse_display, rank
from kanaleto.values.codec import Codec

MOST_SAMPLES = 20
_WINDOWS = (1, 2, 4)
_BESIDE = (-1, 1)
# more than two readings that agree with a display can differ in how their words move, less than a bent power of ten
_BESIDE_COSTS, _OTHER_SIZE = 0.45, 0.1
_AROUND = 16  # registers before and behind that are looked at along with it


def samples_of(board: Readings, place: Place) -> list[tuple[int, bytes]]:
    """The last records of the point's block, as (first address, data), the newest last."""
    block = place.block
    if block is None or block.request.table.is_bits:
        return []
    read = board.traces[block.index].read()[-MOST_SAMPLES:]
    newest = board.records[block.index]
    if newest is not None and (not read or read[-1][0] != newest.at_s):
        read.append((newest.at_s, newest.data))
    return [(block.request.address, data) for _, data in read]


def window(samples: Sequence[tuple[int, bytes]], address: int, words: int) -> list[bytes]:
    """Those registers of each sample; nothing when they were not all read."""
    found = []
    for first, data in samples:
        at = 2 * (address - first)
        if at < 0 or at + 2 * words > len(data):
            return []
        found.append(data[at : at + 2 * words])
    return found


def other_readings(
    board: Readings, place: Place, display: str = "", beside: Sequence[Codec] = ()
) -> list[tuple[int, Candidate]]:
    """Ranked, each with how far its first register lies from the point's. With `display` those that agree come first,
    at the addresses beside it too; without it only readings that begin at the point's own address, by how short the
    description of all words of its block is with them. Raises ValueError when `display` is no number."""
    samples, point = samples_of(board, place), place.point
    found: list[tuple[int, Candidate]] = []
    for step in (0, *(_BESIDE if display.strip() else ())):
        address = point.address + step
        words = next((size for size in sorted(_WINDOWS, reverse=True) if window(samples, address, size)), 0)
        if words:
            candidates = rank(window(samples, address, words), display, beside, _excess(samples, address, beside))
            found += [(step, candidate) for candidate in candidates]
    registers = point.size
    judged = []
    for step, candidate in found:
        away = _BESIDE_COSTS * abs(step)
        if display.strip() and candidate.codec.registers != registers:
            away += _OTHER_SIZE
        judged.append((step, replace(candidate, fit=max(candidate.fit - away, 0.0))))
    return sorted(judged, key=lambda entry: (not entry[1].agrees, -entry[1].fit))


def with_present(
    found: Sequence[tuple[int, Candidate]], board: Readings, place: Place, display: str = ""
) -> list[tuple[int, Candidate]]:
    """The same with the point's present reading first, where no display speaks against it. Others that take as many
    registers are reported with the point's own scale: a factor belongs to what is measured, not to the order of
    words."""
    codec, samples = place.point.codec, samples_of(board, place)
    words = window(samples[-1:], place.point.address, codec.registers)
    if not words or codec.bits is not None or codec.type.is_array or not codec.type.takes_scale:
        return list(found)
    value = codec.decode(words[0])
    number = value if isinstance(value, int | float) else None
    wanted = parse_display(display) if display.strip() else None
    agrees = number is not None and wanted is not None and wanted.is_shown_by(number)
    present, others = Candidate(codec, number, 0.0, agrees, PRESENT), list[tuple[int, Candidate]]()
    for step, one in found:
        is_same = step == 0 and (one.codec.type, one.codec.order) == (codec.type, codec.order)
        if is_same:
            present = replace(
                present, fit=max(present.fit, one.fit) if one.codec.scale is None or agrees else present.fit
            )
        if is_same and (wanted is None or one.codec.scale == codec.scale):
            continue
        others.append((step, _as_scaled(one, codec) if step == 0 and wanted is None else one))
    at = 0 if wanted is None or agrees else sum(one.agrees for _, one in others)
    return [*others[:at], (0, present), *others[at:]]


def _as_scaled(one: Candidate, codec: Codec) -> Candidate:
    """With the scale of `codec`, where it takes as many registers and has none of its own."""
    if codec.scale is None or one.codec.scale is not None or one.codec.registers != codec.registers:
        return one
    scaled = replace(one.codec, scale=codec.scale)
    value = codec.scale.to_value(one.value) if one.value is not None else None
    return replace(one, codec=scaled, value=value if isinstance(value, int | float) else None)


def _excess(samples: Sequence[tuple[int, bytes]], address: int, beside: Sequence[Codec]) -> Excess:
    """Of each reading at an address, what the words around it say of it."""
    first = max(samples[-1][0], address - _AROUND)
    last = min(samples[-1][0] + len(samples[-1][1]) // 2, address + _AROUND)
    return excess_of(window(samples, first, last - first), address - first, beside)


def verdict(found: Sequence[tuple[int, Candidate]], display: str) -> str:
    """One sentence on who agrees with the display."""
    agreeing = [(step, candidate) for step, candidate in found if candidate.agrees]
    if not agreeing:
        return f"nothing here reads {display}, at this address or beside it"
    where = "" if agreeing[0][0] == 0 else f" one address {'up' if agreeing[0][0] > 0 else 'down'}"
    best = agreeing[0][1]
    scaled = f" × {best.codec.scale.factor:g}" if best.codec.scale is not None else ""
    if len(agreeing) == 1:
        return f"→ only {best.title}{scaled}{where} agrees"
    return f"→ {best.title}{scaled}{where} agrees best, of {len(agreeing)} that agree"


def off_by_one(board: Readings, place: Place) -> list[tuple[int, bytes]]:
    """The words of the point one address down, here, and one address up, as far as they were read along: (step,
    words)."""
    samples = samples_of(board, place)[-1:]
    return [
        (step, found[0])
        for step in (-1, 0, 1)
        if (found := window(samples, place.point.address + step, place.point.size))
    ]
