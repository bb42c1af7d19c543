"""A write as a value: where, what, with what consent; and what came of it. And which requests carry it out."""

from collections.abc import Sequence
from enum import Enum

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.control.permission import Touched, may_be_read
from kanaleto.control.wanted import WHOLE, CannotWrite
from kanaleto.lines.outcome import Outcome
from kanaleto.site.model import Device, DeviceLimits
from kanaleto.values.text import words_of
from kanaleto.wire.codes import Function, Table
from kanaleto.wire.pdu import Request, WriteCoil, WriteCoils, WriteRegister, WriteRegisters
from kanaleto.wire.reach import Items
from kanaleto.wire.records import MaskWrite


class Consent(Enum):
    """What somebody has to say yes to before a write goes out."""

    CONFIRM = "confirm"  # the site wants each write asked
    CHANGED = "changed"  # what stands there is not what was seen
    DEVICE = "device"  # it is not the device that the site knows
    HOLDER = "holder"  # somebody else writes this register
    BROADCAST = "broadcast"  # it goes to every device of the line
    WHOLE_WORD = "whole word"  # a bit is set by reading and writing the whole word


class Owed(Struct, frozen=True):
    """The registers that stand there again at the end (None: no safe value was named), and their value in words."""

    data: bytes | None
    text: str


class Order(Struct, frozen=True, kw_only=True):
    """One write. `device` is empty for a unit that the site has no device for. `data` are its registers as they go over
    the wire, or a byte (0, 1) for each coil; with a `mask` other than all only these bits of its one word. `seen` is
    what stood there when it was made, `new_text` and `old_text` the new and the old value in words. `owner` says who
    holds the register: nothing for a person."""

    line: str
    unit_id: int
    table: Table
    address: int
    data: bytes
    device: str = ""
    points: tuple[str, ...] = ()
    mask: int = WHOLE
    new_text: str = ""
    old_text: str = ""
    seen: bytes | None = None
    consents: frozenset[Consent] = frozenset()
    owner: str = ""
    reads_before: bool = True
    reads_back: bool = True
    may_repeat: bool = False
    is_multiple: bool = False
    is_urgent: bool = False
    owed: "Owed | None" = None
    """What is owed for it from its first byte on, as the journal has it."""

    @property
    def count(self) -> int:
        """Items that it writes."""
        return len(self.data) if self.table.is_bits else len(self.data) // 2

    @property
    def end(self) -> int:
        return self.address + self.count

    @property
    def items(self) -> Items:
        return Items(self.table, self.address, self.end)

    @property
    def touched(self) -> Touched:
        return Touched(self.items, self.mask, self.points)

    @property
    def is_masked(self) -> bool:
        return self.mask != WHOLE

    @property
    def name(self) -> str:
        """What is written, in words."""
        if self.points:
            return ", ".join(self.points)
        items = self.table.title if self.count > 1 else self.table.title[:-1]
        return f"{items} {self.address}" + (f"…{self.end - 1}" if self.count > 1 else "")

    def with_consent(self, consent: Consent, **changes: object) -> "Order":
        return replace(self, consents=self.consents | {consent}, **changes)


def owed_data(order: Order) -> dict[str, object]:
    """What is owed for an order, as its row in the journal has it: enough to give it back after a kill."""
    owed = order.owed
    assert owed is not None
    return {
        "words": owed.data.hex() if owed.data is not None else None, "told": owed.text, "by_us": order.data.hex(),
        "by_us_told": order.new_text, "mask": order.mask, "address": order.address, "table": order.table.value,
        "unit_id": order.unit_id, "points": list(order.points),
    }  # fmt: skip


class State(Enum):
    """What came of a write. The value is the word used on screens and in files."""

    DONE = "done"
    REFUSED = "refused"  # by the device, with an exception
    UNKNOWN = "unknown"  # it may have happened, or not
    NOT_SENT = "not sent"


class Result(Struct, frozen=True, kw_only=True):
    """The one outcome of an order. `needs` is what has to be said yes to before it is sent; `before` and `after` what
    stood there; `is_equal` whether what was read back is what was written (None: it was not read back)."""

    order: Order
    state: State
    text: str
    needs: Consent | None = None
    outcome: Outcome | None = None
    before: bytes | None = None
    after: bytes | None = None
    is_equal: bool | None = None
    took_s: float = 0.0
    wall_s: float = 0.0
    row: int | None = None
    """In the journal, where it goes on."""

    @property
    def is_done(self) -> bool:
        return self.state is State.DONE

    @property
    def is_well(self) -> bool:
        """Whether it is done, and stands there where that could be seen."""
        return self.state is State.DONE and self.is_equal is not False


def requests_of(order: Order, limits: DeviceLimits, now: bytes | None = None) -> list[Request]:
    """What carries an order out: one request, but for a device that only writes singly. With a mask the bits are set by
    mask write, unless `now` stands there: then the whole word is written. Raises CannotWrite."""
    known = limits.functions
    if order.is_masked and now is None:
        word = int.from_bytes(order.data) & order.mask
        return [MaskWrite(order.address, ~order.mask & 0xFFFF, word)]
    data = order.data
    if order.is_masked and now is not None:
        data = (int.from_bytes(now) & ~order.mask & 0xFFFF | int.from_bytes(data) & order.mask).to_bytes(2)
    table = order.table
    single, several = (
        (Function.WRITE_COIL, Function.WRITE_COILS)
        if table.is_bits
        else (Function.WRITE_REGISTER, Function.WRITE_REGISTERS)
    )
    has_single = (known is None or single in known) and limits.write_with != "multiple"
    has_several = (known is None or several in known) and limits.write_with != "single"
    count = order.count
    most = limits.max_write_bits if table.is_bits else limits.max_write_registers
    if not has_single and not has_several:
        raise CannotWrite(f"the device knows neither function {single:02X} nor {several:02X}, as the site file says")
    try:
        if count == 1 and has_single and not (order.is_multiple and has_several):
            return _singly(table, order.address, data)
        if has_several and count <= most:
            if table.is_bits:
                return [WriteCoils(order.address, tuple(byte != 0 for byte in data))]
            return [WriteRegisters(order.address, words_of(data))]
        if has_several:
            raise CannotWrite(f"{count} {table.title} do not fit one request to this device: {most} do")
        return _singly(table, order.address, data)
    except CannotWrite:
        raise
    except ValueError as error:
        raise CannotWrite(str(error)) from None


def _singly(table: Table, address: int, data: bytes) -> list[Request]:
    if table.is_bits:
        return [WriteCoil(address + at, byte != 0) for at, byte in enumerate(data)]
    return [WriteRegister(address + at, word) for at, word in enumerate(words_of(data))]


def method_of(requests: Sequence[Request]) -> str:
    """How it is written, in words."""
    first = requests[0]
    names: dict[int, str] = {
        Function.WRITE_COIL: "write one coil",
        Function.WRITE_REGISTER: "write one register",
        Function.WRITE_COILS: "write coils",
        Function.WRITE_REGISTERS: "write registers",
        Function.MASK_WRITE_REGISTER: "mask write of one register",
    }
    text = f"{names.get(first.function, 'write')} ({first.function:02X})"
    return text if len(requests) == 1 else f"{text}, {len(requests)} times: between them it holds half of each"


def combined(orders: Sequence[Order], limits: DeviceLimits) -> list[Order]:
    """Those that adjoin in one request, as far as the device takes it; the others in their order. An order whose data
    are part of another's word stays alone."""
    made: list[Order] = []
    for order in orders:
        last = made[-1] if made else None
        most = limits.max_write_bits if order.table.is_bits else limits.max_write_registers
        if (
            last is not None
            and (last.line, last.unit_id, last.device, last.table)
            == (order.line, order.unit_id, order.device, order.table)
            and last.end == order.address
            and not last.is_masked
            and not order.is_masked
            and last.count + order.count <= most
            and limits.write_with != "single"
        ):
            seen = last.seen + order.seen if last.seen is not None and order.seen is not None else None
            made[-1] = replace(
                last, data=last.data + order.data, points=last.points + order.points, seen=seen,
                new_text=f"{last.new_text}; {order.new_text}", old_text=f"{last.old_text}; {order.old_text}",
                may_repeat=last.may_repeat and order.may_repeat,
            )  # fmt: skip
        else:
            made.append(order)
    return made


def may_read(order: Order, device: Device | None) -> bool:
    """Whether the site file and the map let it be read, and the device can do so at once."""
    if device is None:
        return True
    if not may_be_read(device, order.items):
        return False
    if order.count > device.limits.most_read(order.table):
        return False
    functions = device.limits.functions
    return functions is None or order.table.function in functions
