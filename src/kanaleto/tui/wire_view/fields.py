"""What the boxes of an exchange say beside its bytes: the point that stands in a register and its value, and what a
confirmation has otherwise than its request."""

from kanaleto.board.snapshot import Snapshot
from kanaleto.capture.row import ExchangeRow, framing_name
from kanaleto.capture.served import point_at
from kanaleto.control.preview import text_for
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.model import Device, Point
from kanaleto.values.text import shown
from kanaleto.wire.checks import crc_bytes
from kanaleto.wire.codes import Table
from kanaleto.wire.functionfacts import table_of
from kanaleto.wire.pdu import Read, WriteCoil, WriteRegister, WriteRegisters
from kanaleto.wire.rtu import Rtu
from kanaleto.wire.tcp import Tcp

_CONFIRMED_ALIKE = (5, 6, 15, 16, 22)


def words_of(row: ExchangeRow, is_answer: bool) -> tuple[int, bytes] | None:
    """The first address, and the bytes of the registers that a frame carries; None where it carries none."""
    request = row.asked()
    if is_answer:
        pdu = row.answer_pdu
        if not isinstance(request, Read) or request.table.is_bits or row.kind is not OutcomeKind.GOOD:
            return None
        return request.address, pdu[2:]
    if isinstance(request, WriteRegister | WriteRegisters):
        words = request.words if isinstance(request, WriteRegisters) else (request.word,)
        return request.address, b"".join(word.to_bytes(2) for word in words)
    return None


def register_words(device: Device | None, row: ExchangeRow, is_answer: bool, address: int) -> tuple[str, str]:
    """The name of the point that has a register, and its value with its unit where the point begins there."""
    carried, request = words_of(row, is_answer), row.asked()
    table = table_of(request) if request is not None else None
    if device is None or carried is None or table is None:
        return "", ""
    first, data = carried
    point = point_at(device, table, address)
    if point is None:
        return "", ""
    begin = 2 * (point.address - first)
    if point.address != address or begin < 0 or begin + 2 * point.size > len(data):
        return point.name, ""
    text = shown(point.codec.decode(data[begin : begin + 2 * point.size]), point.codec, point.decimals, point.labels)
    return point.name, f"{text} {point.unit}".strip()


def written_points(device: Device, row: ExchangeRow) -> list[tuple[Point, str]]:
    """Points that a request wrote whole, each with what would have to be typed to write that; none for a read."""
    request = row.asked()
    table = table_of(request) if request is not None else None
    if isinstance(request, WriteCoil):
        point = point_at(device, Table.COIL, request.address)
        return [(point, text_for(point, bytes((request.on,))))] if point is not None else []
    carried = words_of(row, is_answer=False)
    if carried is None or table is None:
        return []
    first, data = carried
    found = []
    for point in device.points:
        begin = 2 * (point.address - first)
        if point.table is table and begin >= 0 and begin + 2 * point.size <= len(data) and point.size:
            found.append((point, text_for(point, data[begin : begin + 2 * point.size])))
    return found


def counted_points(snapshot: Snapshot, device: Device) -> dict[str, float]:
    """Points that count errors, as they were read last."""
    found: dict[str, float] = {}
    for point in device.points:
        place = snapshot.place_of((device.name, point.name)) if point.counts else None
        value = snapshot.reading(place).value if place is not None else None
        if isinstance(value, int | float):
            found[point.name] = float(value)
    return found


def confirms(row: ExchangeRow) -> bool:
    """Whether the answer should be the request once more, or its beginning."""
    pdu = row.pdu
    return bool(pdu) and pdu[0] in _CONFIRMED_ALIKE and row.answer_pdu[:1] == pdu[:1]


def both_framings(row: ExchangeRow, is_answer: bool) -> list[tuple[str, str, str, str]]:
    """One PDU on a serial line and on a network: a word, what stands before it, the PDU, what stands behind it, as
    hexadecimal, so that the PDUs stand one below the other."""
    pdu = row.answer_pdu if is_answer else row.pdu
    raw = row.answer if is_answer else row.request
    if not pdu:
        return []
    unit = bytes((row.unit_id,))
    is_tcp = framing_name(row.link) == "tcp"
    transaction = int.from_bytes(raw[:2]) if is_tcp else 0
    serial, network = Rtu().encode(row.unit_id, pdu, 0), Tcp().encode(row.unit_id, pdu, transaction)
    payload = raw if framing_name(row.link) == "rtu" else serial
    check = payload[-2:] if len(payload) >= 4 else crc_bytes(unit + pdu)
    head = network[:6].hex(" ").upper()
    middle, byte = pdu.hex(" ").upper(), unit.hex().upper()
    return [
        ("serial", f"{byte:>{len(head) + 3}}", middle, check.hex(" ").upper()),
        ("network", f"{head} {byte}", middle, ""),
    ]
