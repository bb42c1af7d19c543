"""Serial-line functions: exception status, diagnostics, event counter and log, server ID (1.1b3, 6.7–6.10, 6.13)."""

from collections.abc import Callable
from enum import IntEnum
from struct import pack, unpack

from msgspec import Struct

from kanaleto.wire.base import Message, PduError, require_length, require_words
from kanaleto.wire.codes import ExceptionCode, Function

MOST_EVENTS = 64


class Diagnostic(IntEnum):
    """Sub-functions of 0x08."""

    RETURN_QUERY_DATA = 0x00
    RESTART_COMMUNICATIONS = 0x01
    RETURN_DIAGNOSTIC_REGISTER = 0x02
    CHANGE_ASCII_DELIMITER = 0x03
    FORCE_LISTEN_ONLY = 0x04
    CLEAR_COUNTERS = 0x0A
    BUS_MESSAGES = 0x0B
    BUS_COMMUNICATION_ERRORS = 0x0C
    BUS_EXCEPTION_ERRORS = 0x0D
    SERVER_MESSAGES = 0x0E
    SERVER_NO_RESPONSES = 0x0F
    SERVER_NAKS = 0x10
    SERVER_BUSY = 0x11
    BUS_CHARACTER_OVERRUNS = 0x12
    CLEAR_OVERRUNS = 0x14


DIAGNOSTIC_WORDS = {
    Diagnostic.RETURN_QUERY_DATA: "return query data",
    Diagnostic.RESTART_COMMUNICATIONS: "restart communications",
    Diagnostic.RETURN_DIAGNOSTIC_REGISTER: "return diagnostic register",
    Diagnostic.CHANGE_ASCII_DELIMITER: "change ASCII input delimiter",
    Diagnostic.FORCE_LISTEN_ONLY: "force listen only",
    Diagnostic.CLEAR_COUNTERS: "clear counters and diagnostic register",
    Diagnostic.BUS_MESSAGES: "bus message count",
    Diagnostic.BUS_COMMUNICATION_ERRORS: "bus communication error count",
    Diagnostic.BUS_EXCEPTION_ERRORS: "bus exception error count",
    Diagnostic.SERVER_MESSAGES: "server message count",
    Diagnostic.SERVER_NO_RESPONSES: "server no response count",
    Diagnostic.SERVER_NAKS: "server NAK count",
    Diagnostic.SERVER_BUSY: "server busy count",
    Diagnostic.BUS_CHARACTER_OVERRUNS: "bus character overrun count",
    Diagnostic.CLEAR_OVERRUNS: "clear overrun counter and flag",
}


class Plain(Struct, frozen=True):
    """A request that is nothing but its function: 0x07, 0x0B, 0x0C, 0x11."""

    function: int

    def __post_init__(self) -> None:
        if self.function not in PLAIN_ANSWERS:
            raise ValueError(f"function 0x{self.function:02X} needs more than its code")

    def encode(self) -> bytes:
        return bytes((self.function,))

    def wrong_with(self, answer: Message) -> str | None:
        return None if isinstance(answer, PLAIN_ANSWERS[self.function]) else "the answer is of another kind"


class ExceptionStatus(Struct, frozen=True):
    """The answer to 0x07: eight outputs of the device's own choice."""

    outputs: int
    function: int = Function.READ_EXCEPTION_STATUS

    def encode(self) -> bytes:
        return bytes((self.function, self.outputs))


class Diagnose(Struct, frozen=True):
    """0x08, request and answer: a sub-function and its data, a word for all but the loopback, which takes any bytes."""

    sub_function: int
    data: bytes = b"\0\0"

    def __post_init__(self) -> None:
        require_words(self.sub_function)
        if self.sub_function == Diagnostic.RETURN_QUERY_DATA:
            if len(self.data) > 250 or len(self.data) % 2:
                raise ValueError(f"{len(self.data)} bytes of query data: an even number up to 250 is allowed")
        elif len(self.data) != 2:
            raise ValueError(f"sub-function {self.sub_function} takes one word of data")

    @property
    def function(self) -> int:
        return Function.DIAGNOSTICS

    @property
    def word(self) -> int:
        return int.from_bytes(self.data[:2])

    def encode(self) -> bytes:
        return pack(">BH", Function.DIAGNOSTICS, self.sub_function) + self.data

    def wrong_with(self, answer: Message) -> str | None:
        if not isinstance(answer, Diagnose) or answer.sub_function != self.sub_function:
            return f"not the answer to sub-function {self.sub_function}"
        if self.sub_function == Diagnostic.RETURN_QUERY_DATA and answer.data != self.data:
            return "the loopback brought other bytes back"
        return None


class EventCounter(Struct, frozen=True):
    """The answer to 0x0B: status FFFF while busy, else 0; events counted."""

    status: int
    events: int
    function: int = Function.COMM_EVENT_COUNTER

    def encode(self) -> bytes:
        return pack(">BHH", self.function, self.status, self.events)


class CommEventLog(Struct, frozen=True):
    """The answer to 0x0C: as 0x0B, messages counted, and up to 64 event bytes, the newest first."""

    status: int
    events: int
    messages: int
    log: bytes
    function: int = Function.COMM_EVENT_LOG

    def encode(self) -> bytes:
        return pack(">BBHHH", self.function, 6 + len(self.log), self.status, self.events, self.messages) + self.log


class ServerId(Struct, frozen=True):
    """The answer to 0x11: bytes of the device's own choice, its run indicator, and additional data if it has any
    (6.13)."""

    data: bytes
    function: int = Function.REPORT_SERVER_ID

    def encode(self) -> bytes:
        return bytes((self.function, len(self.data))) + self.data


def server_id_parts(data: bytes) -> tuple[bytes, bool | None, bytes]:
    """The ID, whether the device runs, and additional data (6.13). The standard does not say where the ID ends: the
    first FF behind its first byte is taken for the run indicator, since no text has one; where there is none, the first
    00; where there is neither, all is the ID and the state None."""
    at = data.find(b"\xff", 1)
    at = data.find(b"\0", 1) if at < 0 else at
    return (data, None, b"") if at < 0 else (data[:at], data[at] == 0xFF, data[at + 1 :])


PLAIN_ANSWERS: dict[int, type[ExceptionStatus] | type[EventCounter] | type[CommEventLog] | type[ServerId]] = {
    Function.READ_EXCEPTION_STATUS: ExceptionStatus,
    Function.COMM_EVENT_COUNTER: EventCounter,
    Function.COMM_EVENT_LOG: CommEventLog,
    Function.REPORT_SERVER_ID: ServerId,
}


def _plain(pdu: bytes) -> Plain:
    require_length(pdu, 1)
    return Plain(pdu[0])


def _diagnose(pdu: bytes) -> Diagnose:
    if len(pdu) < 3:
        raise PduError(f"diagnostics with {len(pdu)} bytes is cut short")
    sub_function = int.from_bytes(pdu[1:3])
    if sub_function not in set(Diagnostic):
        raise PduError(f"sub-function {sub_function} is not defined", ExceptionCode.ILLEGAL_FUNCTION)
    try:
        return Diagnose(sub_function, pdu[3:])
    except ValueError as error:
        raise PduError(str(error)) from None


def _exception_status(pdu: bytes) -> ExceptionStatus:
    require_length(pdu, 2)
    return ExceptionStatus(pdu[1])


def _event_counter(pdu: bytes) -> EventCounter:
    require_length(pdu, 5)
    return EventCounter(*unpack(">HH", pdu[1:]))


def _event_log(pdu: bytes) -> CommEventLog:
    if len(pdu) < 8 or pdu[1] != len(pdu) - 2 or pdu[1] > 6 + MOST_EVENTS:
        raise PduError("the byte count of the event log does not fit")
    status, events, messages = unpack(">HHH", pdu[2:8])
    return CommEventLog(status, events, messages, pdu[8:])


def _server_id(pdu: bytes) -> ServerId:
    if len(pdu) < 2 or pdu[1] != len(pdu) - 2:
        raise PduError("the byte count of the server ID does not fit")
    return ServerId(pdu[2:])


REQUESTS: dict[int, Callable[[bytes], Plain | Diagnose]] = {
    **dict.fromkeys(PLAIN_ANSWERS, _plain),
    Function.DIAGNOSTICS: _diagnose,
}
ANSWERS: dict[int, Callable[[bytes], ExceptionStatus | Diagnose | EventCounter | CommEventLog | ServerId]] = {
    Function.READ_EXCEPTION_STATUS: _exception_status,
    Function.DIAGNOSTICS: _diagnose,
    Function.COMM_EVENT_COUNTER: _event_counter,
    Function.COMM_EVENT_LOG: _event_log,
    Function.REPORT_SERVER_ID: _server_id,
}
