"""What is to be seen of an order before it goes out: its bytes, how it is written, where, what changes."""

from msgspec import Struct

from kanaleto.control.order import Order, method_of, requests_of
from kanaleto.control.preview import PlannedWrite, Spot
from kanaleto.control.wanted import is_word_of_bits
from kanaleto.lines.opening import framing_of
from kanaleto.site.counting import Numbering, from_wire
from kanaleto.site.links.link import FramingKind


class Sight(Struct, frozen=True):
    """What is to be seen of one order: its registers, its frame, how it is written, where, and how long that takes."""

    words: str
    frames: tuple[str, ...]
    method: str
    where: str
    takes_s: float


def sight_of(order: Order, spot: Spot, knows_mask: bool = True) -> Sight:
    """`knows_mask` where the device may know mask write. Raises CannotWrite."""
    link = spot.line.link
    now = order.seen if order.is_masked and order.seen is not None else None
    functions = spot.limits.functions
    has_mask = knows_mask and (functions is None or 0x16 in functions)
    requests = requests_of(order, spot.limits, now if not has_mask else None)
    framing = framing_of(link)
    frames = []
    for request in requests:
        text = framing.encode(order.unit_id, request.encode(), 0).hex(" ").upper()
        if link.framing is FramingKind.TCP:  # its number is given when it goes
            text = f"·· ··{text[5:]}"
        elif link.framing is FramingKind.ASCII:
            text = framing.encode(order.unit_id, request.encode(), 0).decode("ascii").strip()
        frames.append(text)
    numbering = spot.device.numbering if spot.device is not None else Numbering.PROTOCOL
    as_map = from_wire(order.address, order.table, numbering)
    where = f"{order.table.value} {as_map}" + (f" = wire {order.address}" if as_map != str(order.address) else "")
    cost = link.cost(spot.line.gap_s)
    sent = sum(len(request.encode()) for request in requests)
    takes_s = len(requests) * cost.fixed_s + sent * cost.byte_s
    whole = order.data
    if order.is_masked and now is not None:  # what the word will be, whichever way it is written
        whole = (int.from_bytes(now) & ~order.mask & 0xFFFF | int.from_bytes(order.data) & order.mask).to_bytes(2)
    words = whole.hex(" ", 2).upper() if not order.table.is_bits else " ".join("on" if b else "off" for b in order.data)
    return Sight(words, tuple(frames), method_of(requests), where, takes_s)


def changes_of(line: PlannedWrite) -> str:
    """Which bits of a word of bits change, by name."""
    point = line.spot.point
    if line.now is None or not is_word_of_bits(point):
        return ""
    new = line.wanted.over(line.now)
    before, after = point.codec.decode(line.now), point.codec.decode(new)
    if not isinstance(before, int) or not isinstance(after, int):
        return ""
    texts = []
    for number_of_bit in range(16):
        old, now = before >> number_of_bit & 1, after >> number_of_bit & 1
        if old != now:
            texts.append(f"{point.labels.get(number_of_bit, f'bit {number_of_bit}')} {'on' if now else 'off'}")
    return ", ".join(texts) or "nothing changes"
