"""One simulated device: its tables, built from its map, and how it answers a PDU.

Requests are checked in the standard's order: function (01), quantity and byte count (03), address range (02), doing it
(04). A write to a point that the map calls read-only is answered 02.
"""

from collections.abc import Callable, Mapping
from threading import RLock

from kanaleto.bench.bank import Bank
from kanaleto.bench.comm import RESTART_WORDS, Communication, RequestEnd
from kanaleto.bench.extras import Extras
from kanaleto.site.model import Device, Point
from kanaleto.values.codec import Value
from kanaleto.wire.codes import BROADCAST, SERIAL_ONLY, ExceptionCode, Function, Table
from kanaleto.wire.diagnostics import CommEventLog, Diagnose, Diagnostic, EventCounter, ExceptionStatus, Plain, ServerId
from kanaleto.wire.identity import Identify
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
from kanaleto.wire.records import MaskWrite, ReadBack, ReadFifo, ReadFile, WriteFile, WriteThenRead

_NOT_WITH: dict[str, tuple[int, ...]] = {"auto": (), "single": (0x0F, 0x10), "multiple": (0x05, 0x06)}

OnWrite = Callable[["SimulatedDevice", Table, int, int], None]
"""Device, table, first address and count of what a master wrote."""


class _Exception(Exception):
    """Ends the carrying out of a request with an exception answer."""

    def __init__(self, code: int) -> None:
        super().__init__(code)
        self.code = code


class SimulatedDevice:
    """Answers as `device` would. Servers on several threads may share it: each call holds its lock."""

    def __init__(self, device: Device, is_serial: bool = False, request_end: RequestEnd | None = None) -> None:
        self.device = device
        self.lock = RLock()
        self.on_write: OnWrite | None = None
        self.requests = 0
        self.points = {point.name: point for point in device.points}
        self.communication = Communication(request_end or RequestEnd())
        self._is_serial = is_serial
        self._extras = Extras(device)
        self._banks: dict[Table, Bank] = {}
        for table in Table:
            points = [point for point in device.points if point.table is table]
            if points:
                self._banks[table] = _bank(table, points)
        self._bank_read_by = {
            table.function: bank for table, bank in self._banks.items() if table in (Table.HOLDING, Table.INPUT)
        }
        for point in device.points:
            self._begin_point(point)

    def _begin_point(self, point: Point) -> None:
        """What it starts with."""
        if point.words is not None:
            now = self.data_of(point)
            mask = 0xFFFF if point.codec.bits is None else _mask(*point.codec.bits)
            is_part = mask != 0xFFFF and not point.table.is_bits
            merged = int.from_bytes(now) & ~mask | int.from_bytes(point.words) & mask
            self.put_data(point, merged.to_bytes(2) if is_part else point.words)
        elif point.initial is not None:
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
            data = point.codec.encode(value, is_within=False)
            if point.codec.bits is not None:
                mask = _mask(*point.codec.bits)
                now = int.from_bytes(bank.get(point.address, 1))
                data = (now & ~mask | int.from_bytes(data) & mask).to_bytes(2)
            bank.put(point.address, data)

    def value(self, name: str) -> Value:
        """A point's value now. Raises KeyError."""
        point = self.points[name]
        with self.lock:
            data = self._banks[point.table].get(point.address, point.size)
        return data[0] if point.table.is_bits else point.codec.decode(data)

    def begin_again(self) -> None:
        """As after power was off and on: what points begin with. A setting is kept without power."""
        with self.lock:
            for point in self.device.points:
                if point.setting is None:
                    self._begin_point(point)

    def take_over(self, before: "SimulatedDevice") -> None:
        """An edit: what stood in the registers stands there still."""
        self.requests, self.communication = before.requests, before.communication
        with self.lock:
            for table, bank in self._banks.items():
                if table in before._banks:
                    bank.copy_from(before._banks[table])

    def state(self) -> dict[str, tuple[int, str]]:
        """All that stands in its tables, by their names."""
        with self.lock:
            return {table.value: bank.state() for table, bank in self._banks.items()}

    def recall(self, tables: Mapping[str, tuple[int, str]]) -> None:
        """What stood there once. Raises ValueError."""
        with self.lock:
            for table, bank in self._banks.items():
                if table.value in tables:
                    bank.recall(*tables[table.value])

    def data_of(self, point: Point) -> bytes:
        """The registers of a point, or its one byte for a bit."""
        with self.lock:
            return self._banks[point.table].get(point.address, point.size)

    def put_data(self, point: Point, data: bytes) -> None:
        """Set the registers of a point."""
        with self.lock:
            self._banks[point.table].put(point.address, data)

    def bank_of(self, table: Table) -> Bank:
        """Raises KeyError."""
        return self._banks[table]

    def words(self, table: Table, address: int, count: int) -> list[int] | None:
        """Words or bits as they stand; None where they are not all there."""
        bank = self._banks.get(table)
        if bank is None or not bank.has(address, count):
            return None
        data = bank.get(address, count)
        return list(data) if table.is_bits else [int.from_bytes(data[at : at + 2]) for at in range(0, len(data), 2)]

    def word_of(self, point: Point) -> int:
        """The register that a point is, or is a part of."""
        return int.from_bytes(self._banks[point.table].get(point.address, 1))

    def put_word(self, point: Point, word: int) -> None:
        self._banks[point.table].put(point.address, word.to_bytes(2))

    # From the wire

    def answer(self, pdu: bytes, is_broadcast: bool = False) -> bytes | None:
        """The PDU that answers a request's, or None for silence. A broadcast is carried out and never answered."""
        with self.lock:
            self.requests += 1
            if not self._is_serial:  # only a serial line has counters and a log
                quick = self._read_registers(pdu)
                if quick is not None:
                    return quick
                answer = self._answer(pdu)
                return answer.encode() if answer is not None else None
            communication = self.communication
            is_heeded = _is_restart(pdu) if communication.is_listening_only else True
            if is_broadcast:
                is_heeded = is_heeded and pdu[0] in BROADCAST
            communication.note_request(is_broadcast, is_heeded)
            if not is_heeded:
                return None
            answer = self._answer(pdu)
            is_answered = answer is not None and not is_broadcast
            exception = answer.code if isinstance(answer, Refused) else None
            communication.note_done(exception, is_answered, not isinstance(answer, EventCounter | CommEventLog))
            return answer.encode() if answer is not None and is_answered else None

    def _read_registers(self, pdu: bytes) -> bytes | None:
        """The answer to the commonest of requests, a sound one for registers that are all there; None for any other."""
        if len(pdu) != 5 or self.device.limits.functions is not None:
            return None
        bank = self._bank_read_by.get(pdu[0])
        if bank is None:
            return None
        address, count = int.from_bytes(pdu[1:3]), int.from_bytes(pdu[3:])
        if not 1 <= count <= self.device.limits.max_registers or not bank.has(address, count):
            return None
        return bytes((pdu[0], 2 * count)) + bank.get(address, count)

    def _answer(self, pdu: bytes) -> Answer | None:
        function = pdu[0] & 0x7F if pdu else 0
        try:
            request = parse_request(pdu)
            if isinstance(request, Raw) or not self._knows(function):
                return Refused(function, ExceptionCode.ILLEGAL_FUNCTION)
            return self._do(request)
        except PduError as error:
            return Refused(function, error.exception if self._knows(function) else ExceptionCode.ILLEGAL_FUNCTION)
        except _Exception as refusal:
            return Refused(function, refusal.code)

    def _knows(self, function: int) -> bool:
        if function in SERIAL_ONLY and not self._is_serial:
            return False
        if function in _NOT_WITH[self.device.limits.write_with]:
            return False
        functions = self.device.limits.functions
        return functions is None or function in functions

    def _do(self, request: Request) -> Answer | None:
        match request:
            case Read():
                return self._read(request)
            case WriteCoil():
                self._write(Table.COIL, request.address, bytes((request.on,)), 1)
                return request
            case WriteRegister():
                self._write(Table.HOLDING, request.address, request.word.to_bytes(2), 1)
                return request
            case WriteCoils():
                self._write(Table.COIL, request.address, bytes(request.bits), len(request.bits))
                return SpanWritten(request.function, request.address, len(request.bits))
            case WriteRegisters():
                self._write(Table.HOLDING, request.address, _bytes_of(request.words), len(request.words))
                return SpanWritten(request.function, request.address, len(request.words))
            case MaskWrite():
                now = self._registers(Table.HOLDING, request.address, 1)
                self._write(Table.HOLDING, request.address, request.result(int.from_bytes(now)).to_bytes(2), 1)
                return request
            case WriteThenRead():
                self._require_most(Table.HOLDING, request.count)
                self._registers(Table.HOLDING, request.read_address, request.count)
                self._write(Table.HOLDING, request.write_address, _bytes_of(request.words), len(request.words))
                return ReadBack(self._registers(Table.HOLDING, request.read_address, request.count))
            case ReadFile() | WriteFile() | ReadFifo() | Identify():
                answer = self._extras.do(request)
                if isinstance(answer, ExceptionCode):
                    raise _Exception(answer)
                return answer
            case Diagnose():
                done = self.communication.do(request)
                if isinstance(done, ExceptionCode):
                    raise _Exception(done)
                return done
            case Plain():
                return self._plain(request)
        raise _Exception(ExceptionCode.ILLEGAL_FUNCTION)

    def _plain(self, request: Plain) -> Answer:
        if request.function == Function.COMM_EVENT_COUNTER:
            return self.communication.counter()
        if request.function == Function.COMM_EVENT_LOG:
            return self.communication.log()
        if request.function == Function.REPORT_SERVER_ID:
            return ServerId(self._extras.server_id + b"\xff")
        coils = self._banks.get(Table.COIL)
        first = coils.get_with_zeros(0, 8) if coils is not None else bytes(8)
        return ExceptionStatus(pack_bits(tuple(byte != 0 for byte in first))[0])

    def _require_most(self, table: Table, count: int) -> None:
        if count > self.device.limits.most_read(table):
            raise _Exception(ExceptionCode.ILLEGAL_DATA_VALUE)

    def _registers(self, table: Table, address: int, count: int) -> bytes:
        bank = self._banks.get(table)
        if bank is not None and bank.has(address, count):
            return bank.get(address, count)
        if not self.device.simulated.answers_gaps_with_zero:
            raise _Exception(ExceptionCode.ILLEGAL_DATA_ADDRESS)
        return bank.get_with_zeros(address, count) if bank else bytes(count * (1 if table.is_bits else 2))

    def _read(self, request: Read) -> Answer:
        self._require_most(request.table, request.count)
        data = self._registers(request.table, request.address, request.count)
        return ReadAnswer(
            request.table, pack_bits(tuple(byte != 0 for byte in data)) if request.table.is_bits else data
        )

    def _write(self, table: Table, address: int, data: bytes, count: int) -> None:
        limits = self.device.limits
        if count > (limits.max_write_bits if table.is_bits else limits.max_write_registers):
            raise _Exception(ExceptionCode.ILLEGAL_DATA_VALUE)
        bank = self._banks.get(table)
        if bank is None or not bank.may_write(address, count):
            raise _Exception(ExceptionCode.ILLEGAL_DATA_ADDRESS)
        bank.put(address, data)
        if self.on_write is not None:
            self.on_write(self, table, address, count)


def _mask(low: int, high: int) -> int:
    """Those bits of a word."""
    return ((1 << (high - low + 1)) - 1) << low


def _is_restart(pdu: bytes) -> bool:
    """All that is heard by a device that listens only."""
    try:
        request = parse_request(pdu)
    except PduError:
        return False
    return (
        isinstance(request, Diagnose)
        and request.sub_function == Diagnostic.RESTART_COMMUNICATIONS
        and request.word in RESTART_WORDS
    )


def _bytes_of(words: tuple[int, ...]) -> bytes:
    return b"".join(word.to_bytes(2) for word in words)


def _bank(table: Table, points: list[Point]) -> Bank:
    bank = Bank(
        min(point.address for point in points), max(point.end for point in points) - 1, 1 if table.is_bits else 2
    )
    for point in points:
        bank.add(point.address, point.size, point.access.is_written)
    return bank
