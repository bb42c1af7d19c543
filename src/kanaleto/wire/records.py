"""File records, mask write, write then read, FIFO queue: functions 0x14…0x18 (1.1b3, 6.14–6.18)."""

from collections.abc import Callable
from struct import pack, unpack

from msgspec import Struct

from kanaleto.wire.base import (
    Message,
    PduError,
    require_count,
    require_end,
    require_length,
    require_span,
    require_words,
)
from kanaleto.wire.codes import MOST_READ_WRITE_REGISTERS, ExceptionCode, Function

_REFERENCE_TYPE = 6
LAST_RECORD = 9999
MOST_FIFO = 31


def _require_records(file: int, record: int, count: int) -> None:
    if not 1 <= file <= 0xFFFF:
        raise ValueError(f"file {file} is not in 1…65535")
    if record < 0 or count < 1 or record + count - 1 > LAST_RECORD:
        raise ValueError(f"records {record}…{record + count - 1} are not in 0…{LAST_RECORD}")


class FileSpan(Struct, frozen=True):
    """`count` records of a file from `record`."""

    file: int
    record: int
    count: int

    def __post_init__(self) -> None:
        _require_records(self.file, self.record, self.count)


class FileData(Struct, frozen=True):
    """Records of a file to be written from `record`: their words as bytes."""

    file: int
    record: int
    data: bytes

    def __post_init__(self) -> None:
        if len(self.data) % 2:
            raise ValueError(f"{len(self.data)} bytes are not whole records")
        _require_records(self.file, self.record, len(self.data) // 2)


class ReadFile(Struct, frozen=True):
    """0x14: one or more spans."""

    spans: tuple[FileSpan, ...]

    def __post_init__(self) -> None:
        if not 1 <= len(self.spans) <= 35:
            raise ValueError(f"{len(self.spans)} spans in one request: the standard allows 1…35")
        if sum(2 + 2 * span.count for span in self.spans) > 0xF5:
            raise ValueError("the answer to so many records would not fit one frame")

    @property
    def function(self) -> int:
        return Function.READ_FILE_RECORD

    def encode(self) -> bytes:
        body = b"".join(pack(">BHHH", _REFERENCE_TYPE, span.file, span.record, span.count) for span in self.spans)
        return bytes((self.function, len(body))) + body

    def wrong_with(self, answer: Message) -> str | None:
        due = [2 * span.count for span in self.spans]
        if isinstance(answer, FileRead) and [len(part) for part in answer.parts] == due:
            return None
        return "the answer holds other amounts of records than were asked"


class FileRead(Struct, frozen=True):
    """The answer to 0x14: the words of each span as bytes."""

    parts: tuple[bytes, ...]
    function: int = Function.READ_FILE_RECORD

    def encode(self) -> bytes:
        body = b"".join(bytes((len(part) + 1, _REFERENCE_TYPE)) + part for part in self.parts)
        return bytes((self.function, len(body))) + body


class WriteFile(Struct, frozen=True):
    """0x15; the answer repeats the request."""

    parts: tuple[FileData, ...]

    def __post_init__(self) -> None:
        if not self.parts or sum(7 + len(part.data) for part in self.parts) > 0xFB:
            raise ValueError("so many records do not fit one request")

    @property
    def function(self) -> int:
        return Function.WRITE_FILE_RECORD

    def encode(self) -> bytes:
        body = b"".join(
            pack(">BHHH", _REFERENCE_TYPE, part.file, part.record, len(part.data) // 2) + part.data
            for part in self.parts
        )
        return bytes((self.function, len(body))) + body

    def wrong_with(self, answer: Message) -> str | None:
        return None if answer == self else "the echo of the write differs from what was asked"


class MaskWrite(Struct, frozen=True):
    """0x16: the register becomes (now AND `and_mask`) OR (`or_mask` AND NOT `and_mask`); the answer repeats the
    request."""

    address: int
    and_mask: int
    or_mask: int

    def __post_init__(self) -> None:
        require_span("registers", self.address, 1, 1)
        require_words(self.and_mask, self.or_mask)

    @property
    def function(self) -> int:
        return Function.MASK_WRITE_REGISTER

    def encode(self) -> bytes:
        return pack(">BHHH", self.function, self.address, self.and_mask, self.or_mask)

    def result(self, now: int) -> int:
        return (now & self.and_mask) | (self.or_mask & ~self.and_mask & 0xFFFF)

    def wrong_with(self, answer: Message) -> str | None:
        return None if answer == self else "the echo of the write differs from what was asked"


class WriteThenRead(Struct, frozen=True):
    """0x17: write `words` from `write_address`, then read `count` from `read_address`."""

    read_address: int
    count: int
    write_address: int
    words: tuple[int, ...]

    def __post_init__(self) -> None:
        require_span("registers to read", self.read_address, self.count, 125)
        require_span("registers to write", self.write_address, len(self.words), MOST_READ_WRITE_REGISTERS)
        require_words(*self.words)

    @property
    def function(self) -> int:
        return Function.READ_WRITE_REGISTERS

    def encode(self) -> bytes:
        count = len(self.words)
        head = pack(">BHHHHB", self.function, self.read_address, self.count, self.write_address, count, 2 * count)
        return head + pack(f">{count}H", *self.words)

    def wrong_with(self, answer: Message) -> str | None:
        if isinstance(answer, ReadBack) and len(answer.data) == 2 * self.count:
            return None
        return f"not {2 * self.count} bytes of data, as are due"


class ReadBack(Struct, frozen=True):
    """The answer to 0x17: the registers read, big-endian."""

    data: bytes
    function: int = Function.READ_WRITE_REGISTERS

    def encode(self) -> bytes:
        return bytes((self.function, len(self.data))) + self.data


class ReadFifo(Struct, frozen=True):
    """0x18: the queue at `address`; reading does not empty it."""

    address: int

    def __post_init__(self) -> None:
        require_span("queues", self.address, 1, 1)

    @property
    def function(self) -> int:
        return Function.READ_FIFO_QUEUE

    def encode(self) -> bytes:
        return pack(">BH", self.function, self.address)

    def wrong_with(self, answer: Message) -> str | None:
        return None if isinstance(answer, Fifo) else "the answer is no queue"


class Fifo(Struct, frozen=True):
    """The answer to 0x18: up to 31 words, the oldest first."""

    words: tuple[int, ...]
    function: int = Function.READ_FIFO_QUEUE

    def encode(self) -> bytes:
        count = len(self.words)
        return pack(f">BHH{count}H", self.function, 2 + 2 * count, count, *self.words)


def _sub_requests(pdu: bytes, least: int, most: int) -> bytes:
    if len(pdu) < 2 or pdu[1] != len(pdu) - 2 or not least <= pdu[1] <= most:
        raise PduError(f"function 0x{pdu[0]:02X}: the byte count does not fit (0x{least:02X}…0x{most:02X})")
    return pdu[2:]


def _file_head(body: bytes) -> tuple[int, int, int]:
    if len(body) < 7:
        raise PduError("a sub-request is cut short")
    reference, file, record, count = unpack(">BHHH", body[:7])
    if reference != _REFERENCE_TYPE:
        raise PduError(f"reference type {reference}, 6 is due", ExceptionCode.ILLEGAL_DATA_ADDRESS)
    if file == 0 or count == 0 or record + count - 1 > LAST_RECORD:
        raise PduError(f"file {file}, {count} records from {record}", ExceptionCode.ILLEGAL_DATA_ADDRESS)
    return file, record, count


def _read_file(pdu: bytes) -> ReadFile:
    body = _sub_requests(pdu, 0x07, 0xF5)
    if len(body) % 7:
        raise PduError("a sub-request is cut short")
    spans = tuple(FileSpan(*_file_head(body[at : at + 7])) for at in range(0, len(body), 7))
    try:
        return ReadFile(spans)
    except ValueError as error:
        raise PduError(str(error)) from None


def _write_file(pdu: bytes) -> WriteFile:
    body = _sub_requests(pdu, 0x09, 0xFB)
    parts: list[FileData] = []
    while body:
        file, record, count = _file_head(body)
        data = body[7 : 7 + 2 * count]
        if len(data) != 2 * count:
            raise PduError("the records of a sub-request are cut short")
        parts.append(FileData(file, record, data))
        body = body[7 + 2 * count :]
    return WriteFile(tuple(parts))


def _file_read(pdu: bytes) -> FileRead:
    body = _sub_requests(pdu, 0x02, 0xFB)
    parts: list[bytes] = []
    while body:
        if len(body) < 2 or body[1] != _REFERENCE_TYPE or body[0] % 2 == 0 or len(body) < 1 + body[0]:
            raise PduError("a part of the file answer does not fit its length")
        parts.append(body[2 : 1 + body[0]])
        body = body[1 + body[0] :]
    return FileRead(tuple(parts))


def _mask_write(pdu: bytes) -> MaskWrite:
    require_length(pdu, 7)
    return MaskWrite(*unpack(">HHH", pdu[1:]))


def _write_then_read(pdu: bytes) -> WriteThenRead:
    if len(pdu) < 10:
        raise PduError(f"write then read with {len(pdu)} bytes is cut short")
    read_address, count, write_address, write_count, byte_count = unpack(">HHHHB", pdu[1:10])
    require_count(count, 125)
    require_count(write_count, MOST_READ_WRITE_REGISTERS)
    if byte_count != 2 * write_count or len(pdu) != 10 + byte_count:
        raise PduError(f"byte count {byte_count} with {len(pdu) - 10} bytes, {2 * write_count} are due")
    require_end(read_address, count)
    require_end(write_address, write_count)
    return WriteThenRead(read_address, count, write_address, unpack(f">{write_count}H", pdu[10:]))


def _read_back(pdu: bytes) -> ReadBack:
    if len(pdu) < 4 or pdu[1] != len(pdu) - 2 or pdu[1] % 2:
        raise PduError("the byte count does not fit the registers that follow")
    return ReadBack(pdu[2:])


def _read_fifo(pdu: bytes) -> ReadFifo:
    require_length(pdu, 3)
    return ReadFifo(int.from_bytes(pdu[1:]))


def _fifo(pdu: bytes) -> Fifo:
    if len(pdu) < 5:
        raise PduError("the queue is cut short")
    byte_count, count = unpack(">HH", pdu[1:5])
    if count > MOST_FIFO or byte_count != 2 + 2 * count or len(pdu) != 5 + 2 * count:
        raise PduError(f"byte count {byte_count} and {count} words do not fit {len(pdu)} bytes")
    return Fifo(unpack(f">{count}H", pdu[5:]))


REQUESTS: dict[int, Callable[[bytes], ReadFile | WriteFile | MaskWrite | WriteThenRead | ReadFifo]] = {
    Function.READ_FILE_RECORD: _read_file,
    Function.WRITE_FILE_RECORD: _write_file,
    Function.MASK_WRITE_REGISTER: _mask_write,
    Function.READ_WRITE_REGISTERS: _write_then_read,
    Function.READ_FIFO_QUEUE: _read_fifo,
}
ANSWERS: dict[int, Callable[[bytes], FileRead | WriteFile | MaskWrite | ReadBack | Fifo]] = {
    Function.READ_FILE_RECORD: _file_read,
    Function.WRITE_FILE_RECORD: _write_file,
    Function.MASK_WRITE_REGISTER: _mask_write,
    Function.READ_WRITE_REGISTERS: _read_back,
    Function.READ_FIFO_QUEUE: _fifo,
}
