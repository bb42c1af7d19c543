"""One exchange: the only place that sends a request and pairs an answer.

Rules. Every request has exactly one outcome. Where the framing has transactions, the answer must carry the request's;
elsewhere it must be the next sound frame of the same unit and function, in full, that cannot have begun before the
request had gone. A sound frame that is not the answer does not end the waiting; when nothing better comes before the
deadline, the outcome is `unexpected`. Bytes that are no frame end the waiting once the line is silent again, if they
begin as the answer would; other noise does not. The deadline is for the answer to begin; an answer that has begun may
take as long as the longest frame takes. After a timeout on a stream without transactions the line listens for a
quarantine, and what comes then is counted late and thrown away. One timer a line serves all deadlines. A far end that
sends a lot and answers nothing is babbling: the channel is lost for that reason, and whoever holds it opens it again.

A broadcast (a write to unit 0 on a serial line) is good after the turnaround, since nobody answers. Where the adapter
repeats what it sends (`has_echo`), the request's own bytes are taken off what comes; where they come unannounced, the
outcome says so.
"""

import asyncio
from collections import deque

from kanaleto.lines.channel import Channel
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.lines.traffic import (
    LONGEST_FRAME,
    LONGEST_PAUSE_S,
    SLOWEST_CHARACTER_S,
    OnDone,
    OnLate,
    OnStray,
    Traffic,
    Waiting,
)
from kanaleto.supervision.owned import fault_sentence, report
from kanaleto.wire.codes import WRITING
from kanaleto.wire.diagnostics import Diagnose
from kanaleto.wire.frames import Event, Frame, Framing, Garbled, Role
from kanaleto.wire.functionfacts import ANSWERED
from kanaleto.wire.pdu import (
    Answer,
    PduError,
    Raw,
    Read,
    ReadAnswer,
    Refused,
    Request,
    WriteCoil,
    WriteRegister,
    mismatch,
    parse_answer,
)
from kanaleto.wire.records import MaskWrite, WriteFile

_RECENT = 512  # transactions remembered, to know a late answer from a stranger's
_QUIET_S = 0.05  # adapters hold bytes back: what is no frame is settled only after this much silence
QUARANTINE_S = 0.25
TURNAROUND_S = 0.1  # after a broadcast, for the slaves to do it (serial line 1.02, 2.4.1: 100 to 200 ms)
_CLOCK_SLACK_S = 0.001
MOST_BABBLE = 16 * 1024
"""Bytes that may come without one answer among them."""
# a deadline seen later than this was missed by us, not by the device: what waits unread is read first
_OVERSLEPT_S = 0.02
_READ_FIRST_S = 0.03
_ANSWERED_ALIKE = (WriteCoil, WriteRegister, MaskWrite, Diagnose, WriteFile, Raw)
_ECHO = (
    "the request itself came back: the adapter repeats what it sends, or nothing "
    "else is on the line; if so add echo=yes to the link"
)

_BEFORE = "an answer to this request was there before it was sent: that is none"
_EARLY = (
    "it is not known whether it was written: the same bytes came back sooner than this line could carry them, as the "
    "device's confirmation or as an echo of the adapter; a read before shows which, or echo=yes or echo=no of the link"
)


class Exchanger:
    """Exchanges on one channel, one at a time where the framing has no transactions."""

    def __init__(
        self,
        channel: Channel,
        framing: Framing,
        gap_s: float = 0.0,
        quarantine_s: float = QUARANTINE_S,
        has_echo: bool | None = None,
    ) -> None:
        self.channel = channel
        self.framing = framing
        self.traffic = Traffic()
        self.lost_because = ""
        self.lost_at = 0.0
        """When the channel was lost, by the loop's time; 0 while it is open, or was never."""
        self._is_up = False
        self._unanswering = 0  # bytes since the last answer
        self._is_unanswered = False
        self.has_found_echo = False
        """Whether a read has shown, on this opening, that the adapter repeats what it sends."""
        self._declared_echo = has_echo  # by the link; None where reads are to show it
        self._has_echo = bool(has_echo)
        self._has_shown = has_echo is not None
        # what is still to be taken off, what came and may be the beginning of it, what went out last
        self._echo, self._held_echo, self._last_frame = b"", b"", b""
        self._has_transactions = framing.has_transactions
        self._has_character_time = channel.character_s > 0
        self._longest_s = LONGEST_FRAME[framing.name] * (channel.character_s or SLOWEST_CHARACTER_S)
        self._least_gap_s = self._gap_s = max(gap_s, channel.gap_s)
        self._quarantine_s = 0.0 if framing.has_transactions else quarantine_s
        self._quiet_s = max(_QUIET_S, 5 * channel.character_s)
        self._cut_short_s = max(LONGEST_PAUSE_S[framing.name], 5 * channel.character_s)
        self._decoder = framing.decoder(Role.ANSWERS)
        self._pending: dict[int, Waiting] = {}
        self._opened_on: asyncio.AbstractEventLoop | None = None
        self.on_late: OnLate | None = None
        self.on_stray: OnStray | None = None
        self._settling_s = 0.0
        self._came_before: Frame | None = None
        self._recent: deque[tuple[int, float, int]] = deque(maxlen=_RECENT)  # transaction, when it had gone, unit ID
        self._transaction = 0
        self._apart_s = 0.0
        self._free_at = self._quiet_at = self._last_at = self._head_at = 0.0
        self._timer: asyncio.TimerHandle | None = None

    @property
    def is_open(self) -> bool:
        return self.channel.is_open

    def rest(self, gap_s: float) -> None:
        """From the next outcome on leave so many seconds of silence before a request, and never less than the line
        wants by itself."""
        self._gap_s = max(gap_s, self._least_gap_s)

    def keep_apart(self, apart_s: float) -> None:
        """From now on no request goes sooner than so many seconds behind the one before, however many are on the
        way."""
        self._apart_s = apart_s

    @property
    def under_way_since_s(self) -> float:
        """When the oldest request that has no outcome yet was asked; 0 where there is none. For any thread."""
        settling_s = self._settling_s
        asked = [waiting.asked_at for waiting in list(self._pending.values())]
        return min([*asked, settling_s] if settling_s else asked, default=0.0)

    @property
    def is_busy(self) -> bool:
        """Whether an answer is waited for."""
        return bool(self._pending)

    async def open(self) -> None:
        """Connect. Raises Unreachable."""
        self._loop = self._opened_on = asyncio.get_running_loop()
        self._decoder.reset()
        self._free_at = 0.0
        self.lost_because = ""
        self.lost_at = 0.0
        self._unanswering = 0
        self._is_unanswered = False
        self.has_found_echo = False
        self._has_echo, self._has_shown = bool(self._declared_echo), self._declared_echo is not None
        await self.channel.open(self._receive, self._lose)
        self._is_up = self.channel.is_open  # the far end may have closed it in the same breath

    @property
    def may_hold_bytes(self) -> bool:
        """Whether a write that was sent and not answered may still be on its way, and arrive much later."""
        return self._is_unanswered and not self._has_character_time

    @property
    def free_in_s(self) -> float:
        """How long until a request may go out: after a timeout it is listened first for what may still come."""
        return max(self._free_at - self._loop.time(), 0.0) if self._is_up else 0.0

    def close(self, why: str = "the line was closed") -> None:
        """Close the channel; requests in flight end as unreachable, no write that was not answered arrives later."""
        self._drop_writes()
        self.channel.close()
        self._lose(why)

    def ask(
        self, unit_id: int, request: Request, timeout_s: float, pdu: bytes | None = None
    ) -> asyncio.Future[Outcome]:
        """As `start`, with a future of the outcome."""
        future: asyncio.Future[Outcome] = self._loop.create_future()
        self.start(
            unit_id, request, timeout_s, pdu, lambda outcome: None if future.done() else future.set_result(outcome)
        )
        return future

    def start(self, unit_id: int, request: Request, timeout_s: float, pdu: bytes | None, on_done: OnDone) -> None:
        """Send `request` (already encoded as `pdu`, if the caller has it); `on_done` is called once, with its one
        outcome. Raises ValueError for a read of all units, or a unit ID that none can have."""
        if self._is_up:
            self._came_before = None
            self.channel.empty()  # what was there before a request is not its answer
        now = self._loop.time()
        has_transactions = self._has_transactions
        key = 0
        if has_transactions:
            key = self._transaction = self._transaction % 0xFFFF + 1
        if not 0 <= unit_id <= 0xFF:
            raise ValueError(f"unit IDs are 0…255, not {unit_id}")
        frame = self.framing.encode(unit_id, pdu if pdu is not None else request.encode(), key)
        channel = self.channel
        if not self._is_up:
            reason = self.lost_because or "the line is not open"
            on_done(Outcome(OutcomeKind.UNREACHABLE, unit_id, frame, b"", None, now, now, 0.0, now, reason))
            return
        if key in self._pending:
            raise RuntimeError("a request is in flight already")
        is_broadcast = False
        if not has_transactions:
            is_broadcast = unit_id == 0
            if is_broadcast and type(request) in ANSWERED:
                raise ValueError("unit 0 is a broadcast, and nobody answers one: only writes make sense")
            self._discard_held()
            self._echo, self._held_echo = frame if self._has_echo else b"", b""
            self._last_frame = frame if type(request) in ANSWERED else b""
        starts_at = self._free_at
        if starts_at > now or self._has_character_time:
            starts_at = max(now, starts_at)
            sent_at = channel.write(frame, starts_at)
        else:
            channel.write(frame, 0.0)
            starts_at = sent_at = now
        if self._apart_s:
            self._free_at = starts_at + self._apart_s
        self.traffic.sent += len(frame)
        deadline = sent_at + (TURNAROUND_S if is_broadcast else timeout_s)
        self._pending[key] = Waiting(
            unit_id, request, frame, on_done, now, starts_at, sent_at, deadline, is_broadcast=is_broadcast
        )
        before = self._came_before
        if before is not None and has_transactions and before.transaction == key:
            self._pending[key].strange = (OutcomeKind.UNEXPECTED, b"", _BEFORE, now)  # its bytes are reported already
        timer = self._timer
        if timer is None or timer.when() > deadline:
            self._arm(deadline)

    def _discard_held(self) -> None:
        held = self._decoder.drop()
        if held:
            self.traffic.strays.bytes += len(held)
            self._tell_stray(OutcomeKind.GARBLED, held, f"{len(held)} bytes that made no frame", self._last_at)

    def _tell_stray(self, kind: OutcomeKind, raw: bytes, reason: str, at: float) -> None:
        """Bytes that came and are no request's answer: all of them are reported, each once."""
        if self.on_stray is not None:
            self.on_stray(kind, raw, reason, at)

    def _note_strange(self, waiting: Waiting, kind: OutcomeKind, raw: bytes, reason: str, at: float) -> None:
        """It is the outcome if nothing better comes. What it takes the place of is none then."""
        if waiting.strange is not None:
            self._tell_stray(*waiting.strange)
        waiting.strange = (kind, raw, reason, at)

    # What comes in

    def _receive(self, data: bytes, at: float) -> None:
        try:
            self._take_in(data, at)
        except Exception as error:  # an internal error costs this connection, and nobody who delivers bytes
            self._break_at(error)

    def _ring(self) -> None:
        try:
            self._keep_deadlines()
        except Exception as error:  # as above: a timer that raises would never be set again
            self._break_at(error)

    def _break_at(self, error: Exception) -> None:
        report("an exchange", error)
        self._lose(fault_sentence(error))

    def _take_in(self, data: bytes, at: float) -> None:
        self.traffic.received += len(data)
        self._unanswering += len(data)
        if self._unanswering > MOST_BABBLE:
            self._discard_held()
            self._tell_stray(OutcomeKind.GARBLED, data, "the last of much that was no answer", at)
            self._lose(f"it babbles: {self._unanswering} bytes came with no answer among them")
            return
        if self._echo:
            data = self._without_echo(data)
            if not data:
                return
        for waiting in self._pending.values():
            if not waiting.first_at and at >= waiting.starts_at:
                waiting.first_at = at
        if self._decoder.held and not self._has_transactions:
            self._drop_what_came_before(at)
        self._last_at = at
        if self.channel.is_datagram:
            self._decoder.reset()  # each stands for itself
        began_at = self._head_at if self._decoder.held else at
        for event in self._decoder.feed(data):
            self._take(event, at, began_at)
            began_at = at
        self._head_at = began_at
        if self.channel.is_datagram and self._decoder.held:
            rest = self._decoder.drop()
            self._take(Garbled(rest, f"a datagram of {len(data)} bytes is no frame"), at, at)
        if self._decoder.held:
            self._quiet_at = at + (self._cut_short_s if self._decoder.lacks_bytes else self._quiet_s)
            if self._timer is None or self._timer.when() > self._quiet_at:
                self._arm(self._quiet_at)

    def _drop_what_came_before(self, at: float) -> None:
        """Bytes held from before the request had gone are no part of its answer."""
        for waiting in self._pending.values():
            gone_at = waiting.sent_at - _CLOCK_SLACK_S if self.channel.keeps_time else waiting.starts_at
            if self._last_at < gone_at <= at:
                self._discard_held()

    def _without_echo(self, data: bytes) -> bytes:
        """What came without the request's own bytes at its head; nothing while it may still become them."""
        self._held_echo += data
        if self._echo.startswith(self._held_echo) and len(self._held_echo) < len(self._echo):
            return b""
        came = self._held_echo.removeprefix(self._echo)
        self._echo = self._held_echo = b""
        return came

    def _take(self, event: Event, at: float, began_at: float) -> None:
        """`began_at` is when the first of its bytes came, as far as that is known."""
        if not self._has_transactions and self._is_echo(event, at):
            return
        if isinstance(event, Garbled):
            self._take_garbled(event, at)
            return
        if not self._has_transactions:
            self._unanswering -= len(event.raw)  # others may talk on a line that is shared
        key = event.transaction or 0
        waiting = self._pending.get(key)
        if (
            waiting is None
            or at < waiting.starts_at
            or (self._has_transactions and began_at < waiting.starts_at)
            or (self._has_character_time and self._began_too_early(event, waiting, at))
        ):
            self._take_stray(event, key, at)
            return
        content: Answer | None = None
        pdu, request = event.pdu, waiting.request
        if (
            type(request) is Read
            and pdu[0] == request.table.function
            and len(pdu) == request.answer_bytes + 2
            and pdu[1] == len(pdu) - 2
        ):
            content, wrong = ReadAnswer(request.table, pdu[2:]), None  # by far the most frequent, so the shortest way
        else:
            try:
                content = parse_answer(pdu)
                wrong = mismatch(request, content)
            except PduError as error:
                wrong = str(error)
        if event.unit_id != waiting.unit_id:
            wrong = f"unit {event.unit_id} answered, unit {waiting.unit_id} was asked"
        if wrong is None:
            kind = OutcomeKind.EXCEPTION if isinstance(content, Refused) else OutcomeKind.GOOD
            reason = f"exception {content.code}: {content.text}" if isinstance(content, Refused) else ""
            self._finish(key, kind, event.raw, content, at, reason)
        elif self.framing.has_transactions and not self.channel.is_datagram:
            self._finish(key, OutcomeKind.UNEXPECTED, event.raw, None, at, wrong)
        else:
            self.traffic.strays.unasked += 1
            self._note_strange(waiting, OutcomeKind.UNEXPECTED, event.raw, wrong, at)

    def _began_too_early(self, frame: Frame, waiting: Waiting, at: float) -> bool:
        """Whether a frame must have begun before the request had gone, by the time its bytes take: then it answers
        something else."""
        took_s = len(frame.raw) * self.channel.character_s
        return self.channel.keeps_time and at - took_s < waiting.sent_at - _CLOCK_SLACK_S

    def _is_echo(self, event: Event, at: float) -> bool:
        """Whether these bytes begin with the request itself, and are no answer to it. A read's echo cannot be its
        answer. A write's can: it is none where it comes before the request had gone on a line that keeps its time; on
        another it is not known which it is, until a read has shown that the adapter does not repeat what it sends."""
        if self._has_echo or self._declared_echo is False:
            return False
        for waiting in self._pending.values():
            if not event.raw.startswith(waiting.frame):
                continue
            if not isinstance(waiting.request, _ANSWERED_ALIKE):
                return self._note_echo(waiting, event.raw, at)
            if not self._has_character_time or at >= waiting.sent_at - _CLOCK_SLACK_S:
                continue
            if self.channel.keeps_time:
                return self._note_echo(waiting, event.raw, at)
            if not self._has_shown and waiting.strange is None:  # a second one would be the answer
                self._note_strange(waiting, OutcomeKind.UNEXPECTED, event.raw, _EARLY, at)
                return True
        return False

    def _note_echo(self, waiting: Waiting, raw: bytes, at: float) -> bool:
        """From now on it is taken off, so that no write is taken for confirmed by its own echo."""
        self.has_found_echo = self._has_echo = self._has_shown = True
        self._note_strange(waiting, OutcomeKind.UNEXPECTED, raw, _ECHO, at)
        return True

    def _take_stray(self, frame: Frame, key: int, at: float) -> None:
        strays = self.traffic.strays
        strays.bytes += len(frame.raw)
        self._came_before = frame
        if self._has_transactions and (waiting := self._pending.get(key)) is not None:
            strays.unasked += 1
            self._note_strange(waiting, OutcomeKind.UNEXPECTED, frame.raw, _BEFORE, at)
            return
        if frame.raw == self._last_frame and not self._has_echo and self._declared_echo is None:
            self.has_found_echo = self._has_echo = self._has_shown = True
        asked: tuple[float, int] | None = (0.0, frame.unit_id)
        if self.framing.has_transactions:
            asked = next(((sent, unit) for recent, sent, unit in reversed(self._recent) if recent == key), None)
        if asked is None:
            strays.unasked += 1
            why = f"transaction {key} answered, nobody had asked it"
            waits = next(iter(self._pending.values()), None)
            if waits is not None:
                self._note_strange(waits, OutcomeKind.UNEXPECTED, frame.raw, why, at)
            else:
                self._tell_stray(OutcomeKind.UNEXPECTED, frame.raw, why, at)
            return
        self._tell_stray(OutcomeKind.UNEXPECTED, frame.raw, "an answer to what had been given up, or never asked", at)
        strays.late += 1
        strays.late_unit_id = frame.unit_id
        if not self.framing.has_transactions:
            return
        sent_at, unit_id = asked
        if frame.pdu[0] & 0x80 and frame.pdu[1:] in (b"\x0a", b"\x0b"):
            strays.gateway_late_s = at - sent_at
        if self.on_late is not None and unit_id == frame.unit_id:
            self.on_late(frame, at - sent_at)

    def _take_garbled(self, event: Garbled, at: float) -> None:
        if event.fatal and not self.channel.is_datagram:
            raw = event.raw
            for key in list(self._pending):
                self._finish(key, OutcomeKind.GARBLED, raw, None, at, event.reason)
                raw = b""
            if raw:
                self._tell_stray(OutcomeKind.GARBLED, raw, event.reason, at)
            self.channel.close()
            self._lose(f"the stream cannot be read on: {event.reason}")
            return
        self.traffic.strays.bytes += len(event.raw)
        for key, waiting in list(self._pending.items()):
            if at < waiting.starts_at:
                continue
            if waiting.looks_answered_by(event.raw, self.framing):
                self._finish(key, OutcomeKind.GARBLED, event.raw, None, at, event.reason)
            else:
                self._note_strange(waiting, OutcomeKind.GARBLED, event.raw, event.reason, at)
            return
        self._tell_stray(OutcomeKind.GARBLED, event.raw, event.reason, at)

    def _drop_writes(self) -> None:
        if self._is_unanswered or any(one.request.function in WRITING for one in self._pending.values()):
            self.channel.drop()

    def _lose(self, why: str) -> None:
        self.lost_because = why
        loop = self._opened_on
        if loop is None:  # it was never opened: nothing waits
            return
        self.lost_at = self.lost_at or loop.time()
        self._is_up = False
        self._discard_held()
        self._drop_writes()
        self._is_unanswered = False
        self.channel.close()
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        for key in list(self._pending):
            try:
                self._finish(key, OutcomeKind.UNREACHABLE, b"", None, self._loop.time(), why)
            except Exception as error:  # whoever had asked failed at hearing of it; the others are to hear of it too
                report("an exchange", error)

    # How a request ends

    def _finish(self, key: int, kind: OutcomeKind, raw: bytes, content: Answer | None, at: float, reason: str) -> None:
        settling_s = self._settling_s
        self._settling_s = self._pending[key].asked_at
        waiting = self._pending.pop(key)
        if waiting.strange is not None and waiting.strange[1] is not raw:
            self._tell_stray(*waiting.strange)
        self._recent.append((key, waiting.sent_at, waiting.unit_id))
        free_at = at + self._gap_s
        self._free_at = max(self._free_at, free_at) if self._apart_s else free_at
        if kind is OutcomeKind.GOOD or kind is OutcomeKind.EXCEPTION:
            if not self._has_shown and not isinstance(waiting.request, _ANSWERED_ALIKE):
                self._has_shown = True  # its echo would have come first
            self._unanswering = 0
            self._is_unanswered = False
        elif waiting.request.function in WRITING:
            self._is_unanswered = True
        if kind is not OutcomeKind.GOOD and kind is not OutcomeKind.EXCEPTION:
            self._free_at += self._quarantine_s
        asked_at, sent_at, first_at = waiting.asked_at, waiting.sent_at, waiting.first_at
        waiting.on_done(
            Outcome(kind, waiting.unit_id, waiting.frame, raw, content, asked_at, sent_at, first_at, at, reason)
        )
        self._settling_s = settling_s

    def _arm(self, at: float) -> None:
        if self._timer is not None:
            self._timer.cancel()
        self._timer = self._loop.call_at(at, self._ring)

    def _keep_deadlines(self) -> None:
        self._timer = None
        now = self._loop.time()
        soon = now + 1e-6  # a timer may ring a trifle early
        if self._decoder.held and soon >= self._quiet_at:
            for event in self._decoder.silence():
                # its bytes came then at the latest, whatever it took to know what they are
                self._take(event, self._last_at, self._last_at)
        for key, waiting in list(self._pending.items()):
            is_arriving = self._decoder.held > 0 and soon < min(self._quiet_at, self._cap(waiting))
            if soon < waiting.deadline or is_arriving:
                continue
            if now > waiting.deadline + _OVERSLEPT_S and not waiting.has_grace and not self._decoder.held:
                waiting.has_grace, waiting.deadline = True, now + _READ_FIRST_S
                continue
            self._expire(key, waiting, now)
        ends = [one.deadline if one.deadline > soon else self._cap(one) for one in self._pending.values()]
        if self._decoder.held:
            ends.append(max(self._quiet_at, now))
        if ends and self.channel.is_open:
            self._arm(min(ends))

    def _cap(self, waiting: Waiting) -> float:
        """When an answer that has begun must have come: the beginning of a frame may take as long as the longest frame
        does, on a stream behind which a slow line may be too; what makes no frame is not waited for there."""
        may_grow = self._decoder.lacks_bytes or self._has_character_time
        return waiting.deadline + (self._longest_s if may_grow else self._cut_short_s)

    def _expire(self, key: int, waiting: Waiting, now: float) -> None:
        if waiting.strange is not None and not waiting.is_broadcast:
            kind, raw, reason, _ = waiting.strange
            self._finish(key, kind, raw, None, now, reason)
            return
        if waiting.is_broadcast:
            self._discard_held()
            self._finish(key, OutcomeKind.GOOD, b"", None, now, "")
            return
        if self._decoder.held:  # babbling: it never fell silent
            self._discard_held()
            self._finish(key, OutcomeKind.GARBLED, b"", None, now, "bytes kept coming and made no frame")
            return
        waited = now - waiting.sent_at
        self._finish(key, OutcomeKind.TIMEOUT, b"", None, now, f"nothing came within {waited:.3g} s")
