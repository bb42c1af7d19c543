"""What moves a register, what a master wrote and what a fault does, in the words of the view Bench."""

from collections.abc import Sequence

from kanaleto.bench.states import LookState, WrittenState
from kanaleto.control.wanted import is_word_of_bits, text_of
from kanaleto.site.counting import Numbering, from_wire
from kanaleto.site.links.link import Link
from kanaleto.site.model import Device, Move, Point
from kanaleto.site.moving import owned_bits
from kanaleto.wire.codes import Table

FAULTS: dict[str, tuple[str, str]] = {
    "silent": ("says nothing", ""),
    "late": ("answers late", "ms=300"),
    "lost": ("drops each n-th answer", "each=5"),
    "garbled": ("wrong check bytes", "each=1"),
    "short": ("answers end early", "bytes=3"),
    "unit": ("answers as another unit", "unit=9"),
    "exception": ("refuses with an exception", "code=4"),
    "busy": ("busy: exception 06", ""),
    "previous": ("gives the answer before", ""),
    "power": ("power off, on when it ends", ""),
    "frozen": ("values stand still", ""),
    "jump": ("one value jumps, once", "point= by=1"),
    "noise": ("noise between frames", "a_second=5"),
    "hang_up": ("hangs up after n answers", "after=10"),
    "refuse": ("lets nobody in", ""),
    "cable": ("cable out", ""),
}
"""Each fault in words, and the keys that it wants, as they are offered."""
OF_TCP, OF_SERIAL = ("hang_up", "refuse"), ("noise",)
"""Faults of a connection over TCP alone, and of a serial line alone."""


def moved_by(device: Device, point: Point, look: LookState | None) -> tuple[str, str]:
    """What moves a register, and in which tone."""
    if look is not None and point.name in look.slowly:
        return "by hand, on its way", "ochre"
    if look is not None and point.name in look.held:
        return "by hand, held", "ochre"
    simulated = device.simulated
    word = _word_of(device, point)
    if word is not None and not any(move.point == point.name for move in simulated.moves):
        machine = next((one for one in simulated.machines if one.point == word.name), None)
        low, high = point.codec.bits or (0, 0)
        if machine is not None and any(low <= bit <= high for bit in owned_bits(machine, word)):
            return f"states of {word.name}", "verdigris"
        return ("masters", "sky") if word.access.is_written else ("nothing", "dim")
    if any(machine.point == point.name for machine in simulated.machines):
        state = look.states.get(point.name, "") if look is not None else ""
        return f"states{': ' if state else ''}{state}", "verdigris"
    move = next((move for move in simulated.moves if move.point == point.name), None)
    if move is not None:
        when = ", while it may" if move.condition else ""
        return f"{_of_move(move)}{when}", "verdigris"
    if point.setting is not None:
        return "a setting: " + ("after power" if simulated.behaves.settings_after == "power" else "at once"), "muted"
    return ("masters", "sky") if point.access.is_written else ("nothing", "dim")


def _word_of(device: Device, point: Point) -> Point | None:
    """The point that is the whole word of which this one is some bits."""
    if point.codec.bits is None:
        return None
    return next(
        (one for one in device.points
         if one.table is point.table and one.address == point.address and one.size == 1 and one.codec.bits is None),
        None,
    )  # fmt: skip


def place_text(link: Link, width: int = 200) -> str:
    """Where that is, for people; of a long path its end."""
    settings = link.settings
    more = f" · {link.framing.value.upper()} {settings}" if settings is not None else ""
    place = link.place if settings is not None or link.scheme == "tcp" else f"{link.scheme}://{link.place}"
    if len(place) + len(more) > width:
        more = ""
    return (place if len(place) <= width else f"…{place[len(place) - width + 1 :]}") + more


def master_text(master: str) -> str:
    """The port of a connection tells masters of one host apart; of a serial port its name does."""
    host, colon, port = master.rpartition(":")
    return f":{port}" if colon and host in ("127.0.0.1", "::1") else master.rpartition("/")[2]


def _of_move(move: Move) -> str:
    noise = f", noise {move.noise:g}" if move.noise else ""
    match move.kind:
        case "wave":
            low, high, period = move.number("low"), move.number("high"), move.number("period_s")
            text = f"{move.text} {low:g} … {high:g} in {period:g} s"
        case "follow":
            rate, lag = move.number("rate"), move.number("lag_s")
            text = (
                f"follows {move.text}" + (f", {rate:g} a second" if rate else "") + (f", lag {lag:g} s" if lag else "")
            )
        case "formula":
            text = move.text
        case "counts_s":
            text = f"counts {move.number('by', 1.0):g} each {move.number('counts_s'):g} s"
        case "walk":
            low, high = (move.number(key, float("nan")) for key in ("low", "high"))
            text = "walks" + (f" {low:g} … {high:g}" if low == low and high == high else "")
        case "list":
            text = f"list {move.text}"
        case _:
            text = f"clock, {move.text}"
    return text + noise


def written_text(point: Point, written: WrittenState) -> str:
    """What a master wrote there last, or what it was refused."""
    if written.code is not None:
        return f"refused ({written.code:02})"
    new = _part(point, written.address, written.written)
    old = _part(point, written.address, written.old) if written.old is not None else None
    return f"{old} → {new}" if old is not None and old != new else new or "a part of it"


def _part(point: Point, address: int, items: Sequence[int]) -> str | None:
    """The point as it stands in what was written; nothing where only a part of it was."""
    first = point.address - address
    here = items[first : first + point.size] if first >= 0 else ()
    if len(here) < point.size:
        return None
    if point.table.is_bits:
        return "on" if here[0] else "off"
    data = b"".join(word.to_bytes(2) for word in here)
    return data.hex().upper() if is_word_of_bits(point) else text_of(point, data)


def span_text(table: Table, address: int, count: int, device: Device, counts_as_wire: bool) -> str:
    numbering = Numbering.PROTOCOL if counts_as_wire else device.numbering
    first = from_wire(address, table, numbering)
    return first if count == 1 else f"{first} … {from_wire(address + count - 1, table, numbering)}"


def period_text(period_s: float | None) -> str:
    if period_s is None:
        return "once"
    if period_s < 0.0995:
        return f"every {1000 * period_s:.0f} ms"
    digits = 2 if period_s < 1 else 1 if period_s < 10 else 0
    return f"every {period_s:.{digits}f} s"


def points_in(points: Sequence[Point], table: Table, address: int, count: int) -> list[Point]:
    return [one for one in points if one.table is table and one.address < address + count and address < one.end]
