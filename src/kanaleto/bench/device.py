"""One simulated device: its tables, built from its map, and how it answers a PDU.

Requests are checked in the standard's order: function (01), quantity and byte count (03), address range (02), doing it (04).
A write to a point that the map calls read-only is answered 02.
"""

from collections.abc import Callable
from threading import RLock

from kanaleto.bench.bank import Bank
from kanaleto.site.model import Device, Point
from kanaleto.values.codec import Value
from kanaleto.wire.codes import ExceptionCode, Table
from kanaleto.wire.pdu import (
    Answer,
    PduError,
    Raw,
    Read,
    ReadAnswer,
    Refused,
    Request,
    SpanWritten,
    WriteCoil,
    WriteCoils,
    WriteRegister,
    WriteRegisters,
    pack_bits,
    parse_request,
)

OnWrite = Callable[["SimulatedDevice", Table, int, int], None]
"""Device, table, first address and count of what a master wrote."""


class SimulatedDevice:
    """Answers as `device` would. Servers on several threads may share it: each call holds its lock."""

    def __init__(self, device: Device) -> None:
        self.device = device
        self.lock = RLock()
        self.on_write: OnWrite | None = None
        self.requests = 0
        self.points = {point.name: point for point in device.points}
        self._banks: dict[Table, Bank] = {}
        for table in Table:
            points = [point for point in device.points if point.table is table]
            if points:
                self._banks[table] = _bank(table, points)
        for point in device.points:
            if point.initial is not None:
                self.put(point.name, point.initial)

    # From this side: values in engineering units

    def put(self, name: str, value: float | str) -> None:
        """Set a point to the nearest that its registers can hold. Raises KeyError."""
        point = self.points[name]
        with self.lock:
            bank = self._banks[point.table]
            if point.table.is_bits:
                bank.put(point.address, b"\1" if value else b"\0")
                return
            data = point.codec.encode(value, is_exact=False)
            if point.codec.bits is not None:
                low, high = point.codec.bits
                mask = ((1 << (high - low + 1)) - 1) << low
                now = int.from_bytes(bank.get(point.address, 1))
                data = (now & ~mask | int.from_bytes(data) & mask).to_bytes(2)
            bank.put(point.address, data)

    def value(self, name: str) -> Value:
        """A point's value now. Raises KeyError."""
        point = self.points[name]
        with self.lock:
            data = self._banks[point.table].get(point.address, point.size)
        return data[0] if point.table.is_bits else point.codec.decode(data)

    # From the wire

    def answer(self, pdu: bytes) -> bytes:
        """The PDU that answers a request's."""
        self.requests += 1
        try:
            request = parse_request(pdu)
        except PduError as error:
            function = pdu[0] & 0x7F if pdu else 0
            if not self._knows(function):
                return Refused(function, ExceptionCode.ILLEGAL_FUNCTION).encode()
            return Refused(function, error.exception).encode()
        with self.lock:
            return self._do(request).encode()

    def _knows(self, function: int) -> bool:
        functions = self.device.limits.functions
        return functions is None or function in functions

    def _do(self, request: Request) -> Answer:
        if isinstance(request, Raw) or not self._knows(request.function):
            return Refused(request.function, ExceptionCode.ILLEGAL_FUNCTION)
        if isinstance(request, Read):
            return self._read(request)
        if isinstance(request, WriteCoil):
            return self._write(request, Table.COIL, request.address, bytes((request.on,)), 1, request)
        if isinstance(request, WriteRegister):
            return self._write(request, Table.HOLDING, request.address, request.word.to_bytes(2), 1, request)
        if isinstance(request, WriteCoils):
            count = len(request.bits)
            done = SpanWritten(request.function, request.address, count)
            return self._write(request, Table.COIL, request.address, bytes(request.bits), count, done)
        count = len(request.words)
        done = SpanWritten(request.function, request.address, count)
        return self._write(request, Table.HOLDING, request.address, _word_bytes(request), count, done)

    def _read(self, request: Read) -> Answer:
        table, limits = request.table, self.device.limits
        if request.count > limits.most_read(table):
            return Refused(request.function, ExceptionCode.ILLEGAL_DATA_VALUE)
        bank = self._banks.get(table)
        if bank is not None and bank.has(request.address, request.count):
            data = bank.get(request.address, request.count)
        elif self.device.answers_gaps_with_zero:
            data = bank.get_with_zeros(request.address, request.count) if bank else bytes(request.count * (1 if table.is_bits else 2))
        else:
            return Refused(request.function, ExceptionCode.ILLEGAL_DATA_ADDRESS)
        return ReadAnswer(table, pack_bits(tuple(byte != 0 for byte in data)) if table.is_bits else data)

    def _write(self, request: Request, table: Table, address: int, data: bytes, count: int, done: Answer) -> Answer:
        limits = self.device.limits
        if count > (limits.max_write_bits if table.is_bits else limits.max_write_registers):
            return Refused(request.function, ExceptionCode.ILLEGAL_DATA_VALUE)
        bank = self._banks.get(table)
        if bank is None or not bank.may_write(address, count):
            return Refused(request.function, ExceptionCode.ILLEGAL_DATA_ADDRESS)
        bank.put(address, data)
        if self.on_write is not None:
            self.on_write(self, table, address, count)
        return done


def _word_bytes(request: WriteRegisters) -> bytes:
    return b"".join(word.to_bytes(2) for word in request.words)


def _bank(table: Table, points: list[Point]) -> Bank:
    bank = Bank(min(point.address for point in points), max(point.end for point in points) - 1, 1 if table.is_bits else 2)
    for point in points:
        bank.add(point.address, point.size, point.access.is_written)
    return bank
