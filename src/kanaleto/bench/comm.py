"""Communication counters and event log of one simulated device on a serial line (1.1b3, 6.8–6.10)."""

from collections import deque

from kanaleto.wire.ascii import LINE_FEED, may_end
from kanaleto.wire.codes import ExceptionCode
from kanaleto.wire.diagnostics import MOST_EVENTS, CommEventLog, Diagnose, Diagnostic, EventCounter

_RECEIVED, _SENT = 0x80, 0x40
_LISTENING = 0x20  # in both
_RECEIVED_COMM_ERROR, _RECEIVED_BROADCAST = 0x02, 0x40
_SENT_READ_EXCEPTION, _SENT_ABORT, _SENT_BUSY = 0x01, 0x02, 0x04
_ENTERED_LISTEN_ONLY, _RESTARTED = 0x04, 0x00
RESTART_WORDS = (0x0000, 0xFF00)
"""What may stand in the data field of a restart: keep the log, or clear it (1.1b3, 6.8.1, 01)."""
_BUSY = (ExceptionCode.ACKNOWLEDGE, ExceptionCode.SERVER_DEVICE_BUSY)


class RequestEnd:
    """The character that ends ASCII requests on a line: one for all of its devices, `usual` after a restart of any."""

    def __init__(self, usual: int = LINE_FEED) -> None:
        self.usual = self.now = usual


class Communication:
    """What one device counts of its line. All counters are 16 bits and roll over. An event is stored when a request has
    come, before it is carried out, and another when it has been, whether or not an answer is sent; a request that is
    only listened to has none of the second kind, since nothing is carried out."""

    def __init__(self, end: RequestEnd) -> None:
        self.is_listening_only = False
        self._end = end
        self._events: deque[int] = deque(maxlen=MOST_EVENTS)
        self._restart_due: int | None = None
        self._clear()

    def _clear(self) -> None:
        self._counts = dict.fromkeys(Diagnostic, 0)
        self._completed = 0

    def _count(self, which: Diagnostic) -> None:
        self._counts[which] = (self._counts[which] + 1) & 0xFFFF

    def _note(self, event: int) -> None:
        self._events.appendleft(event | (_LISTENING if self.is_listening_only else 0))

    def note_frame(self) -> None:
        """A sound frame passed, whoever it was for."""
        self._count(Diagnostic.BUS_MESSAGES)

    def note_garbled(self) -> None:
        """Bytes passed that were no frame."""
        self._count(Diagnostic.BUS_COMMUNICATION_ERRORS)
        self._note(_RECEIVED | _RECEIVED_COMM_ERROR)

    def note_request(self, is_broadcast: bool, is_heeded: bool) -> None:
        """A request came for this device, or for all; it will be carried out, or was only listened to."""
        self._note(_RECEIVED | (_RECEIVED_BROADCAST if is_broadcast else 0))
        self._count(Diagnostic.SERVER_MESSAGES if is_heeded else Diagnostic.SERVER_NO_RESPONSES)

    def note_done(self, exception: int | None, is_answered: bool, counts_as_event: bool) -> None:
        """A request was carried out, with `exception` or without; a restart that it asked for follows."""
        kind = 0
        if not is_answered:
            self._count(Diagnostic.SERVER_NO_RESPONSES)
        if exception is not None:
            self._count(Diagnostic.BUS_EXCEPTION_ERRORS)  # of a broadcast too, though no exception is sent
            if is_answered:
                kind = _SENT_READ_EXCEPTION if exception <= ExceptionCode.ILLEGAL_DATA_VALUE else _SENT_ABORT
                kind = _SENT_BUSY if exception in _BUSY else kind
                if exception == ExceptionCode.SERVER_DEVICE_BUSY:
                    self._count(Diagnostic.SERVER_BUSY)
        elif counts_as_event:
            self._completed = (self._completed + 1) & 0xFFFF
        self._note(_SENT | kind)
        if self._restart_due is not None:
            self._restart(self._restart_due)

    def _restart(self, word: int) -> None:
        self._restart_due, self.is_listening_only = None, False
        self._end.now = self._end.usual
        self._clear()
        if word:
            self._events.clear()
        self._note(_RESTARTED)

    def counter(self) -> EventCounter:
        return EventCounter(0, self._completed)

    def log(self) -> CommEventLog:
        return CommEventLog(0, self._completed, self._counts[Diagnostic.BUS_MESSAGES], bytes(self._events))

    def do(self, request: Diagnose) -> Diagnose | ExceptionCode | None:
        """Carry out a sub-function: the answer, an exception, or None for silence."""
        which = Diagnostic(request.sub_function)
        if which is Diagnostic.RETURN_QUERY_DATA:
            return request
        if which is Diagnostic.RESTART_COMMUNICATIONS:
            if request.word not in RESTART_WORDS:
                return ExceptionCode.ILLEGAL_DATA_VALUE
            self._restart_due = request.word  # once it is answered
            return None if self.is_listening_only else request
        if which is Diagnostic.CHANGE_ASCII_DELIMITER:
            if request.word & 0xFF or not may_end(request.word >> 8):
                return ExceptionCode.ILLEGAL_DATA_VALUE
            self._end.now = request.word >> 8
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
