"""Communication counters and event log of one simulated device on a serial line (1.1b3, 6.8–6.10)."""

from collections import deque

from kanaleto.wire.codes import ExceptionCode
from kanaleto.wire.diagnostics import MOST_EVENTS, Diagnose, Diagnostic, EventCounter, EventLog

_RECEIVED, _SENT = 0x80, 0x40
_RECEIVED_COMM_ERROR, _LISTENING, _RECEIVED_BROADCAST = 0x02, 0x20, 0x40
_SENT_READ_EXCEPTION, _SENT_ABORT, _SENT_BUSY = 0x01, 0x02, 0x04
_ENTERED_LISTEN_ONLY, _RESTARTED = 0x04, 0x00


class Communication:
    """What one device counts of its line. All counters are 16 bits and roll over."""

    def __init__(self) -> None:
        self.is_listening_only = False
        self.delimiter = ord("\n")
        self._events: deque[int] = deque(maxlen=MOST_EVENTS)
        self._clear()

    def _clear(self) -> None:
        self._counts = dict.fromkeys(Diagnostic, 0)
        self._completed = 0

    def _count(self, which: Diagnostic) -> None:
        self._counts[which] = (self._counts[which] + 1) & 0xFFFF

    def note_frame(self) -> None:
        """A sound frame passed, whoever it was for."""
        self._count(Diagnostic.BUS_MESSAGES)

    def note_garbled(self) -> None:
        """Bytes passed that were no frame."""
        self._count(Diagnostic.BUS_COMMUNICATION_ERRORS)
        self._events.appendleft(_RECEIVED | _RECEIVED_COMM_ERROR | (_LISTENING if self.is_listening_only else 0))

    def note_request(self, is_broadcast: bool) -> None:
        """A request came for this device, or for all."""
        self._count(Diagnostic.SERVER_MESSAGES)
        listening = _LISTENING if self.is_listening_only else 0
        self._events.appendleft(_RECEIVED | listening | (_RECEIVED_BROADCAST if is_broadcast else 0))
        if is_broadcast or self.is_listening_only:
            self._count(Diagnostic.SERVER_NO_RESPONSES)

    def note_done(self, exception: int | None, counts_as_event: bool) -> None:
        """A request was answered, with `exception` or without."""
        if exception is None:
            self._events.appendleft(_SENT)
            if counts_as_event:
                self._completed = (self._completed + 1) & 0xFFFF
            return
        self._count(Diagnostic.BUS_EXCEPTION_ERRORS)
        kind = _SENT_READ_EXCEPTION if exception <= ExceptionCode.ILLEGAL_DATA_VALUE else _SENT_ABORT
        if exception in (ExceptionCode.ACKNOWLEDGE, ExceptionCode.SERVER_DEVICE_BUSY):
            kind = _SENT_BUSY
            self._count(Diagnostic.SERVER_BUSY)
        self._events.appendleft(_SENT | kind)

    def counter(self) -> EventCounter:
        return EventCounter(0, self._completed)

    def log(self) -> EventLog:
        return EventLog(0, self._completed, self._counts[Diagnostic.BUS_MESSAGES], bytes(self._events))

    def do(self, request: Diagnose) -> Diagnose | ExceptionCode | None:
        """Carry out a sub-function: the answer, an exception, or None for silence."""
        which = Diagnostic(request.sub_function)
        if which is Diagnostic.RETURN_QUERY_DATA:
            return request
        if which is Diagnostic.RESTART_COMMUNICATIONS:
            if request.word not in (0x0000, 0xFF00):
                return ExceptionCode.ILLEGAL_DATA_VALUE
            was_listening, self.is_listening_only = self.is_listening_only, False
            self._clear()
            if request.word:
                self._events.clear()
            self._events.appendleft(_RESTARTED)
            return None if was_listening else request
        if which is Diagnostic.CHANGE_ASCII_DELIMITER:
            if request.word & 0xFF:
                return ExceptionCode.ILLEGAL_DATA_VALUE
            self.delimiter = request.word >> 8
            return request
        if request.word:
            return ExceptionCode.ILLEGAL_DATA_VALUE
        if which is Diagnostic.FORCE_LISTEN_ONLY:
            self.is_listening_only = True
            self._events.appendleft(_ENTERED_LISTEN_ONLY)
            return None
        if which is Diagnostic.CLEAR_COUNTERS:
            self._clear()
            return request
        if which is Diagnostic.CLEAR_OVERRUNS:
            self._counts[Diagnostic.BUS_CHARACTER_OVERRUNS] = 0
            return request
        value = 0 if which is Diagnostic.RETURN_DIAGNOSTIC_REGISTER else self._counts[which]
        return Diagnose(request.sub_function, value.to_bytes(2))
