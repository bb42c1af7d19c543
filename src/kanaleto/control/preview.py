"""What would go out for what is typed: orders, and all that is to be seen before they do. Pure, from one snapshot.

What may be typed: a value (`65`, `0x1964`, a state's text, `Enable, Open`, `Open on`); several, parted by semicolons,
for the points that are chosen or those that follow; `= Device` for the values of another device; `@ FILE` for values
of a file; `on 2 s` for a pulse; `5 to all` for a broadcast; and behind a value ` every 0.5 s`, to keep it alive, and
` then 0`, the safe value at the end.
"""

import re
from collections.abc import Mapping, Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.board.board import Quality
from kanaleto.board.snapshot import Snapshot
from kanaleto.control.alive import Wish
from kanaleto.control.order import Order, combined, requests_of
from kanaleto.control.permission import is_broadcast
from kanaleto.control.wanted import (
    WHOLE,
    CannotWrite,
    Wanted,
    is_switch,
    is_word_of_bits,
    text_of,
    values_in,
    wanted,
    why_not_writable,
)
from kanaleto.files.texts import CannotRead, expanded, read_bounded
from kanaleto.planning.plan import Place
from kanaleto.site.links.link import FramingKind
from kanaleto.site.model import Access, Device, DeviceLimits, Line, Point
from kanaleto.values.codec import Codec
from kanaleto.values.digits import number
from kanaleto.wire.codes import Table

_TO_ALL = " to all"
_EVERY = re.compile(r"(.*?)\s+every\s+([0-9]+(?:[.,][0-9]+)?)\s*s(?:\s+then\s+(.+))?", re.IGNORECASE | re.DOTALL)
_MOST_VALUES, _MOST_FILE = 2000, 1_000_000


class Spot(Struct, frozen=True, kw_only=True):
    """Somewhere to write: a point of a device, or bare registers (a point without a name) of a unit."""

    line: Line
    unit_id: int
    point: Point
    device: Device | None = None
    words: bytes | None = None
    """What stood there when it was looked at (at loop time `words_s`), where no poll has read since."""
    words_s: float = 0.0

    @property
    def name(self) -> str:
        items = self.point.table.title[:-1]
        return self.point.name or f"{items} {self.point.address}"

    @property
    def who(self) -> str:
        return self.device.name if self.device is not None else f"unit {self.unit_id}"

    def as_read(self, order: Order, data: bytes, now_s: float) -> "Spot":
        """With what was read there now, where the order covers it."""
        point = self.point
        is_there = (order.line, order.unit_id, order.table) == (self.line.name, self.unit_id, point.table)
        if not is_there or not order.address <= point.address < point.end <= order.end:
            return self
        width = 1 if point.table.is_bits else 2
        at = width * (point.address - order.address)
        return replace(self, words=data[at : at + width * point.size], words_s=now_s)

    @property
    def limits(self) -> DeviceLimits:
        return self.device.limits if self.device is not None else DeviceLimits()


def spot_of(place: Place) -> Spot:
    return Spot(line=place.line, unit_id=place.device.unit_id, point=place.point, device=place.device)


def bare_spot(line: Line, unit_id: int, table: Table, address: int, codec: Codec, words: bytes | None) -> Spot:
    """Registers, or a bit, without a map; of the site's device at that unit, where there is one."""
    device = next((device for device in line.devices if device.unit_id == unit_id), None)
    point = Point("", table, address, codec, 0.0, access=Access.BOTH)
    return Spot(line=line, unit_id=unit_id, point=point, device=device, words=words)


class PlannedWrite(Struct, frozen=True):
    """One of the spots: what is to stand there, and what does."""

    spot: Spot
    wanted: Wanted
    now: bytes | None
    old_text: str
    is_fresh: bool


class Preview(Struct, frozen=True, kw_only=True):
    """What would go out; with a `fault` nothing would."""

    lines: tuple[PlannedWrite, ...] = ()
    orders: tuple[Order, ...] = ()
    wish: Wish | None = None
    pulse_s: float = 0.0
    fault: str = ""

    @property
    def key(self) -> object:
        """What it would do: another key is another thing to be looked at."""
        sent = tuple(
            (order.line, order.unit_id, order.table, order.address, order.data, order.mask) for order in self.orders
        )
        wish = (self.wish.period_s, self.wish.safe) if self.wish is not None else None
        return sent, wish, self.pulse_s, self.fault


class _Typed(Struct, frozen=True):
    values: tuple[str, ...]
    of_device: str = ""
    is_to_all: bool = False
    every_s: float = 0.0
    safe: str | None = None


def _parsed(text: str) -> _Typed:
    """Raises CannotWrite."""
    text = text.strip()
    every_s, safe = 0.0, None
    kept = _EVERY.fullmatch(text)
    if kept is not None:
        text, every_s, safe = kept[1].strip(), number(kept[2].replace(",", ".")), kept[3]
    is_to_all = text.casefold().endswith(_TO_ALL)
    text = text[: -len(_TO_ALL)].strip() if is_to_all else text
    if text.startswith("="):
        return _Typed((), text[1:].strip(), is_to_all, every_s, safe)
    if text.startswith("@"):
        text = _file_text(text[1:].strip())
    values = tuple(values_in(text))
    if not values:
        raise CannotWrite("type a value")
    if len(values) > _MOST_VALUES:
        raise CannotWrite(f"{len(values)} values are more than the {_MOST_VALUES} that are taken at once")
    return _Typed(values, "", is_to_all, every_s, safe)


def _file_text(name: str) -> str:
    try:
        text = read_bounded(expanded(Path(name)), _MOST_FILE).decode("utf-8-sig")
    except (CannotRead, OSError, UnicodeDecodeError) as error:
        raise CannotWrite(f"{name}: {error}") from None
    return text


Read = Mapping[tuple[str, str], tuple[bytes, float]]
"""What was read by hand, by device and point: the words, and when by the loop's time."""


def preview(
    spots: Sequence[Spot], text: str, snapshot: Snapshot, bit: int | None = None, read: Read | None = None
) -> Preview:
    """`bit` where one bit of a word of bits is meant: then on and off are enough. `read` is known of points that have
    no spot of their own."""
    try:
        return _preview(spots, text, snapshot, bit, read or {})
    except ValueError as error:  # CannotWrite, and what no frame can hold
        return Preview(fault=str(error))


def _preview(spots: Sequence[Spot], text: str, snapshot: Snapshot, bit: int | None, read: Read) -> Preview:
    first = spots[0]
    why = why_not_writable(first.point)
    if why:
        raise CannotWrite(why)
    if first.point.codec.type.is_array:  # its own values are parted by semicolons
        return _made(snapshot, [(first, wanted(first.point, text, _power(first, snapshot)))], _Typed(()))
    typed = _parsed(text)
    if typed.of_device:
        return _made(snapshot, _copied(spots, typed.of_device, snapshot), typed)
    if len(spots) == 1 and len(typed.values) > 1:
        spots = _following(first, len(typed.values), snapshot, read)
    elif len(typed.values) > 1 and len(typed.values) != len(spots):
        raise CannotWrite(f"{len(typed.values)} values for {len(spots)} points: type one, or one for each")
    values = typed.values if len(typed.values) > 1 else typed.values * len(spots)
    pairs = []
    for spot, value in zip(spots, values, strict=True):
        if (bit is not None and value.casefold() in ("on", "off", "1", "0")) or (bit is not None and _is_pulse(value)):
            value = f"{spot.point.labels.get(bit, '')} {value}" if bit in spot.point.labels else value
        pairs.append((spot, wanted(spot.point, value, _power(spot, snapshot))))
    return _made(snapshot, pairs, typed)


def _is_pulse(value: str) -> bool:
    return re.fullmatch(r"(on|off)\s.*s", value.strip(), re.IGNORECASE) is not None


def _power(spot: Spot, snapshot: Snapshot) -> int:
    """Raises CannotWrite where it is not known."""
    if not spot.point.exponent or spot.device is None:
        return 0
    power = snapshot.board.exponent_of(spot.device.name, spot.point)
    if power is None:
        raise CannotWrite(f"{spot.point.exponent}, the exponent of {spot.name}, is not known")
    return power


def _following(first: Spot, count: int, snapshot: Snapshot, read: Read) -> list[Spot]:
    """The points behind it that can be written, in the order of their addresses; of bare registers the next."""
    point = first.point
    if not point.name:
        return [
            replace(first, words=None, point=replace(point, address=point.address + number * point.size))
            for number in range(count)
        ]
    points = [
        each_point
        for each_point in (snapshot.plan.points_of(first.device.name) if first.device is not None else ())
        if each_point.table is point.table and each_point.address >= point.address and not why_not_writable(each_point)
    ]
    points.sort(key=lambda point: point.address)  # of one address in the order of the map
    points = points[next((at for at, each_point in enumerate(points) if each_point.name == point.name), 0) :]
    if len(points) < count:
        raise CannotWrite(f"{count} values, and {len(points)} points that can be written from {point.name} on")
    found = [first]
    for each_point in points[1:count]:  # what stands there is each one's own
        words, words_s = read.get((first.who, each_point.name), (None, 0.0))
        found.append(replace(first, point=each_point, words=words, words_s=words_s))
    return found


def _copied(spots: Sequence[Spot], name: str, snapshot: Snapshot) -> list[tuple[Spot, Wanted]]:
    """The values of the same points of another device, as they stand there now."""
    names = {device.name.casefold(): device.name for _, device in snapshot.site.devices()}
    other = names.get(name.casefold())
    if other is None:
        raise CannotWrite(f"there is no device {name!r}; there are {', '.join(list(names.values())[:8])}")
    pairs = []
    for spot in spots:
        place = snapshot.place_of((other, spot.point.name))
        if not isinstance(place, Place):
            raise CannotWrite(f"{other} has no point {spot.point.name!r}")
        reading = snapshot.reading(place)
        if reading.quality is not Quality.GOOD:
            raise CannotWrite(f"{other}/{spot.point.name} cannot be copied: {reading.reason or 'no value'}")
        if (place.point.codec, place.point.table) != (spot.point.codec, spot.point.table):
            raise CannotWrite(f"{spot.point.name} is of another type at {other}")
        pairs.append((spot, Wanted(reading.data, text_of(spot.point, reading.data), WHOLE)))
    return pairs


def now_of(spot: Spot, snapshot: Snapshot) -> tuple[bytes | None, bool, str]:
    """What stands there, whether that was read lately, and what is to be said of it."""
    place = (
        snapshot.place_of((spot.device.name, spot.point.name)) if spot.device is not None and spot.point.name else None
    )
    if isinstance(place, Place):
        reading = snapshot.reading(place)
        read_s = snapshot.now_s - reading.age_s if reading.age_s is not None else -1.0
        if spot.words is not None and spot.words_s > read_s:
            return spot.words, True, text_of(spot.point, spot.words)
        is_fresh = reading.quality is Quality.GOOD or (reading.quality is Quality.BAD and bool(reading.data))
        if reading.data:
            power = snapshot.board.exponent_of(place.device.name, place.point) or 0
            text = text_of(spot.point, reading.data, power)
            return reading.data, is_fresh, text if is_fresh else f"{text}, {reading.age_s or 0:.0f} s ago"
        return None, False, "not read" if spot.point.access.is_read else "only written, never read"
    if spot.words is not None:
        return spot.words, True, text_of(spot.point, spot.words)
    return None, False, "not read"


def _made(snapshot: Snapshot, pairs: Sequence[tuple[Spot, Wanted]], typed: _Typed) -> Preview:
    lines, orders = [], []
    pulse_s = 0.0
    for spot, made in pairs:
        why = why_not_writable(spot.point)
        if why:
            raise CannotWrite(why)
        now, is_fresh, old_text = now_of(spot, snapshot)
        lines.append(PlannedWrite(spot, made, now, old_text, is_fresh))
        pulse_s = max(pulse_s, made.pulse_s)
        orders.append(
            Order(
                line=spot.line.name, unit_id=spot.unit_id, device=spot.device.name if spot.device is not None else "",
                table=spot.point.table, address=spot.point.address, data=made.data, mask=made.mask,
                points=(spot.point.name,) if spot.point.name else (), new_text=made.text,
                old_text=old_text if now else "", seen=now if is_fresh else None,
                may_repeat=spot.point.writing.may_repeat,
            )
        )  # fmt: skip
    if typed.is_to_all and pulse_s:
        raise CannotWrite(
            "a pulse goes to one device: what stands at the others, and is to stand there again, is unknown"
        )
    if typed.is_to_all:
        orders = [_to_all(spot, order) for (spot, _), order in zip(pairs, orders, strict=True)]
    limits = pairs[0][0].limits
    if len({(order.line, order.device) for order in orders}) == 1:
        orders = combined(orders, limits)
    if pulse_s and (len(orders) > 1 or not lines[0].is_fresh):
        raise CannotWrite("a pulse is for one point whose state is known now")
    wish = _wish(typed, lines, orders, snapshot) if typed.every_s else None
    for order in orders:
        requests_of(order, limits)  # which says where it cannot be sent
    return Preview(lines=tuple(lines), orders=tuple(orders), wish=wish, pulse_s=pulse_s)


def _to_all(spot: Spot, order: Order) -> Order:
    """The same for every device of the line at once (serial line 1.02, 2.1). Raises CannotWrite."""
    if spot.line.link.framing is FramingKind.TCP:
        raise CannotWrite(f"{spot.line.name} has no broadcast: that is for serial lines")
    if order.is_masked:
        raise CannotWrite("a part of a word goes to one device, not to all")
    return replace(order, unit_id=0, device="", points=(), seen=None, old_text="")


def _wish(typed: _Typed, lines: Sequence[PlannedWrite], orders: Sequence[Order], snapshot: Snapshot) -> Wish:
    """Raises CannotWrite."""
    line, order = lines[0], orders[0]
    if len(orders) > 1:
        raise CannotWrite("one request is kept alive; these do not fit one")
    if order.is_masked:
        if line.now is None or not line.is_fresh:
            raise CannotWrite("a part of a word is kept alive with the rest of it, and that is not known now")
        order = replace(order, data=line.wanted.over(line.now), mask=WHOLE)
    safe = None
    if typed.safe is not None:
        last = wanted(line.spot.point, typed.safe, _power(line.spot, snapshot))
        safe = last.over(order.data) if last.mask != WHOLE else last.data
        if len(safe) != len(order.data):
            raise CannotWrite("the safe value is for one point, and several are kept alive")
    return Wish(order=order, period_s=typed.every_s, safe=safe)


def back_of(before: Preview, snapshot: Snapshot) -> str:
    """What would have to be typed for the way back; nothing where that is not known."""
    texts = []
    if any(is_broadcast(line.spot.line, order.unit_id) for line in before.lines for order in before.orders):
        return ""  # what the others held is not known
    for line in before.lines:
        if line.now is None or not line.is_fresh:
            return ""
        texts.append(text_for(line.spot.point, line.now, line.wanted.mask, _power(line.spot, snapshot)))
    return "; ".join(texts)


def text_of_wish(point: Point, wish: Wish) -> str:
    """What would have to be typed to keep it alive in the same way."""
    then = f" then {text_for(point, wish.safe)}" if wish.safe is not None else ""
    return f"{text_for(point, wish.order.data)} every {wish.period_s:g} s{then}"


def text_for(point: Point, data: bytes, mask: int = WHOLE, power: int = 0) -> str:
    """A text that means these registers."""
    if is_switch(point):
        return text_of(point, data, power).removesuffix(f" {point.unit}").strip()
    if is_word_of_bits(point) and mask != WHOLE:
        bits = [bit for bit in point.labels if wanted(point, f"{point.labels[bit]} on").mask == mask]
        is_on = bool(int.from_bytes(data) & mask)
        return f"{point.labels[bits[0]]} {'on' if is_on else 'off'}" if bits else f"0x{int.from_bytes(data):04X}"
    raw = f"0x{data.hex().upper()}"
    value = point.codec.decode(data)
    for text in ([f"{value:.12g}"] if isinstance(value, int | float) and not power else []) + [str(value)]:
        try:
            if wanted(point, text, power).data == data:
                return text
        except CannotWrite:
            continue
    return raw


def offered(spot: Spot, snapshot: Snapshot, bit: int | None = None) -> str:
    """What stands in the line at the beginning: of a switch whose state is known now the other state; nothing else."""
    now, is_fresh, _ = now_of(spot, snapshot)
    if now is None or not is_fresh:
        return ""
    if bit is not None:
        return "off" if int.from_bytes(now) & wanted(spot.point, f"{spot.point.labels[bit]} on").mask else "on"
    if not is_switch(spot.point):
        return ""
    value = spot.point.codec.decode(now) if not spot.point.table.is_bits else now[0]
    return spot.point.labels.get(0, "off") if value else spot.point.labels.get(1, "on")
