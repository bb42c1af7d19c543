"""Read device identification: function 0x2B, type 0x0E (1.1b3, 6.21). Streams may need more than one answer (more
follows)."""

from collections.abc import Callable
from enum import IntEnum

from msgspec import Struct

from kanaleto.wire.base import Message, PduError, Raw
from kanaleto.wire.codes import MOST_PDU_BYTES, ExceptionCode, Function

TYPE = 0x0E
_HEAD_BYTES = 7
MOST_OBJECT_BYTES = MOST_PDU_BYTES - _HEAD_BYTES - 2


class Depth(IntEnum):
    """The four kinds of access."""

    BASIC = 1
    REGULAR = 2
    EXTENDED = 3
    ONE = 4


OBJECT_NAMES = {
    0: "vendor_name",
    1: "product_code",
    2: "revision",
    3: "vendor_url",
    4: "product_name",
    5: "model_name",
    6: "application_name",
}
LAST_OF_STREAM = {Depth.BASIC: 0x02, Depth.REGULAR: 0x7F, Depth.EXTENDED: 0xFF}


class Identify(Struct, frozen=True):
    """Ask for objects from `object_id` on, or for that one alone."""

    depth: Depth
    object_id: int = 0

    def __post_init__(self) -> None:
        if not 0 <= self.object_id <= 0xFF:
            raise ValueError(f"object {self.object_id} is not in 0…255")

    @property
    def function(self) -> int:
        return Function.ENCAPSULATED

    def encode(self) -> bytes:
        return bytes((self.function, TYPE, self.depth, self.object_id))

    def wrong_with(self, answer: Message) -> str | None:
        if not isinstance(answer, Identity) or answer.depth != self.depth:
            return "not the identification that was asked"
        if self.depth is Depth.ONE and [number for number, _ in answer.objects] != [self.object_id]:
            came = ", ".join(f"0x{number:02X}" for number, _ in answer.objects) or "none"
            return f"object 0x{self.object_id:02X} was asked for, {came} came"
        return None


class Identity(Struct, frozen=True):
    """Objects as (id, bytes); `conformity` is what the device can (bit 7: single objects too); `next_id` where the
    stream goes on, or None when nothing follows."""

    depth: Depth
    conformity: int
    next_id: int | None
    objects: tuple[tuple[int, bytes], ...]

    @property
    def function(self) -> int:
        return Function.ENCAPSULATED

    def encode(self) -> bytes:
        more = (0x00, 0x00) if self.next_id is None else (0xFF, self.next_id)
        head = bytes((self.function, TYPE, self.depth, self.conformity, *more, len(self.objects)))
        return head + b"".join(bytes((number, len(data))) + data for number, data in self.objects)


def answer_from(objects: dict[int, bytes], request: Identify) -> Identity | ExceptionCode:
    """What a slave with `objects` answers, as many as fit one PDU. An unknown object asked singly gives 02; one in a
    stream starts again at object 0."""
    deepest = (
        Depth.EXTENDED
        if any(number >= 0x80 for number in objects)
        else Depth.REGULAR
        if max(objects, default=0) > 2
        else Depth.BASIC
    )
    conformity = 0x80 | deepest
    if request.depth is Depth.ONE:
        if request.object_id not in objects:
            return ExceptionCode.ILLEGAL_DATA_ADDRESS
        return Identity(
            request.depth, conformity, None, ((request.object_id, objects[request.object_id][:MOST_OBJECT_BYTES]),)
        )
    last = LAST_OF_STREAM[request.depth]
    start = request.object_id if request.object_id in objects and request.object_id <= last else 0
    room = MOST_PDU_BYTES - _HEAD_BYTES
    taken: list[tuple[int, bytes]] = []
    for number in sorted(number for number in objects if start <= number <= last):
        data = objects[number][:MOST_OBJECT_BYTES]
        if 2 + len(data) > room:
            return Identity(request.depth, conformity, number, tuple(taken))
        taken.append((number, data))
        room -= 2 + len(data)
    return Identity(request.depth, conformity, None, tuple(taken))


def _identify(pdu: bytes) -> Identify | Raw:
    if len(pdu) < 2 or pdu[1] != TYPE:
        raise PduError("an encapsulated type other than 0x0E", ExceptionCode.ILLEGAL_FUNCTION)
    if len(pdu) != 4:
        raise PduError(f"identification with {len(pdu)} bytes, 4 are due")
    if pdu[2] not in set(Depth):
        raise PduError(f"access code {pdu[2]}, 1…4 are defined")
    return Identify(Depth(pdu[2]), pdu[3])


def _identity(pdu: bytes) -> Identity | Raw:
    if len(pdu) > 1 and pdu[1] != TYPE:
        return Raw(pdu[0], pdu[1:])
    if len(pdu) < _HEAD_BYTES or pdu[2] not in set(Depth):
        raise PduError("the head of the identification is cut short or has an access code that is not defined")
    if pdu[4] not in (0x00, 0xFF):
        raise PduError(f"more follows is {pdu[4]:02X}, 00 and FF are defined")
    objects: list[tuple[int, bytes]] = []
    at = _HEAD_BYTES
    for _ in range(pdu[6]):
        if at + 2 > len(pdu) or at + 2 + pdu[at + 1] > len(pdu):
            raise PduError("an object runs past the end")
        objects.append((pdu[at], pdu[at + 2 : at + 2 + pdu[at + 1]]))
        at += 2 + pdu[at + 1]
    if at != len(pdu):
        raise PduError(f"{len(pdu) - at} bytes after the last object")
    return Identity(Depth(pdu[2]), pdu[3], pdu[5] if pdu[4] else None, tuple(objects))


REQUESTS: dict[int, Callable[[bytes], Identify | Raw]] = {Function.ENCAPSULATED: _identify}
ANSWERS: dict[int, Callable[[bytes], Identity | Raw]] = {Function.ENCAPSULATED: _identity}
