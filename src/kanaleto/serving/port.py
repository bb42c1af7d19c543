"""Serves simulated devices on a serial port that exists."""

import asyncio
from collections.abc import Awaitable

from kanaleto.lines.channel import Unreachable
from kanaleto.lines.serialport import SerialChannel
from kanaleto.serving.answerer import Answer, Answerer, Master, ShapedAnswer, is_later
from kanaleto.serving.hearing import Heard, Hearing
from kanaleto.serving.network import CannotServe
from kanaleto.serving.twins import TwinWatch
from kanaleto.site.links.serial import SerialLink
from kanaleto.supervision.owned import fault_sentence, report
from kanaleto.wire.frames import Framing, Garbled
from kanaleto.wire.pdu import PduError, parse_request

_QUIET_S = 0.02  # an adapter may hold bytes back for so long
_REOPEN_S = 2.0
_ECHO_S, _MOST_ALIKE = 0.03, 5


class PortServer:
    """The port of `link` for `answerer`; when it is pulled out, it is opened again once it is back."""

    def __init__(self, answerer: Answerer, framing: Framing, link: SerialLink) -> None:
        self.answerer = answerer
        self._later: asyncio.Task[None] | None = None
        self._framing = framing
        self._channel = SerialChannel(link)
        character_s = link.settings.character_s
        self._hearing = Hearing(answerer, framing, max(_QUIET_S, 5 * character_s), character_s, _QUIET_S)
        self._heard_at = 0.0  # when the last byte came
        self._timer: asyncio.TimerHandle | None = None
        self._reopening: asyncio.Task[None] | None = None
        self._sent, self._sent_end_s = b"", 0.0  # of our own, which may come back, and when its last byte has gone
        self._is_no_request = False  # what was sent: when it comes back, no master has asked that
        self._echo, self._own_at = b"", 0.0  # what came of it so far, and since when
        self._has_echo, self._alike = bool(link.has_echo), 0
        self._master = Master(link.port, answerer.name)
        self._twins = TwinWatch(framing)

    async def start(self) -> None:
        """Open the port. Raises CannotServe."""
        try:
            await self._channel.open(self._receive, self._lose)
        except Unreachable as error:
            raise CannotServe(f"{self.answerer.name}: {error}") from None

    async def stop(self) -> None:
        if self._later is not None:
            self._later.cancel()
        if self._reopening is not None:
            self._reopening.cancel()
        if self._timer is not None:
            self._timer.cancel()
        self._channel.close()

    def noise(self, data: bytes) -> None:
        """Bytes that nobody asked for."""
        if self._channel.is_open:
            self._channel.write(data, 0.0)

    def _send(self, unit_id: int, answer: bytes | ShapedAnswer, not_before: float) -> None:
        if isinstance(answer, bytes):
            self._write(self._framing.encode(unit_id, answer), answer, not_before)
            return
        loop, pdu = asyncio.get_running_loop(), answer.pdu or b""
        for after_s, data in answer.pieces(self._framing.encode):
            if after_s <= 0:
                self._write(data, pdu, not_before)
            else:
                loop.call_at(not_before + after_s, self._write_later, data, pdu)

    def _write_later(self, data: bytes, pdu: bytes) -> None:
        if self._channel.is_open:
            self._write(data, pdu, 0.0)

    def _write(self, raw: bytes, pdu: bytes, not_before: float) -> None:
        self._sent, self._echo = raw, b""
        self._twins.note_sent(raw)
        self._sent_end_s = self._channel.write(self._sent, not_before)
        self._hearing.drop_rest()
        try:
            parse_request(pdu)
            self._is_no_request = False
        except PduError:
            self._is_no_request = True

    def _receive(self, data: bytes, at: float) -> None:
        try:
            self._take_in(data, at)
        except Exception as error:  # an internal error costs this opening of the port
            self._break_at(error)

    def _settle(self, at: float) -> None:
        try:
            self._settle_held(at)
        except Exception as error:  # as above
            self._break_at(error)

    def _break_at(self, error: Exception) -> None:
        report(f"{self.answerer.name}: the port is opened again", error)
        self._hearing.forget()
        self._sent = self._echo = b""
        self._channel.close()
        self._lose(fault_sentence(error))

    def _take_in(self, data: bytes, at: float) -> None:
        silence_s = at - len(data) * self._channel.character_s - self._heard_at
        self._heard_at = at
        if self._sent:
            data = self._without_own(data, at)
        twin = self._twins.take(data, at)
        if twin is not None:
            self.answerer.note_twin(twin)
        self._take(self._hearing.take(data, silence_s), at, data)
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        patience_s = _QUIET_S if self._echo else self._hearing.patience_s
        if patience_s is not None:
            self._timer = asyncio.get_running_loop().call_at(at + patience_s, self._settle, at)

    def _without_own(self, data: bytes, at: float) -> bytes:
        """What came without our own answer, where the adapter echoes: it is no master's request. Untold, that is known
        by what comes back before the answer has gone, when no master may speak, by what nobody asks, or by what comes
        again and again right behind it; a master may well ask the same as we have just answered."""
        if not self._echo:
            self._own_at = at
        self._echo += data
        if len(self._echo) < len(self._sent) and self._sent.startswith(self._echo):
            return b""  # it may still become it
        came, self._echo = self._echo, b""
        sent, self._sent = self._sent, b""
        if not came.startswith(sent):
            self._alike = 0
            return came
        if not self._has_echo:
            self._alike = self._alike + 1 if self._own_at < self._sent_end_s + _ECHO_S else 0
            is_early = self._own_at < self._sent_end_s
            self._has_echo = is_early or self._is_no_request or self._alike > _MOST_ALIKE
        return came.removeprefix(sent) if self._has_echo else came

    def _settle_held(self, at: float) -> None:
        if self._echo:
            self._sent, payload, self._echo = b"", self._echo, b""
            self._take(self._hearing.take(payload), at)
        self._take(self._hearing.settle(), at)

    def _take(self, heard: list[Heard], at: float, data: bytes = b"") -> None:
        while heard:
            for event, is_clean in heard:
                if isinstance(event, Garbled):
                    self.answerer.note_garbled()
                elif self._channel.is_open:
                    if self._later is not None:  # its master has spoken again: that answer is nobody's any more
                        self._later.cancel()
                    self._twins.note_request(event.unit_id, event.pdu, at, data)
                    answer = self.answerer.answer if is_clean else self.answerer.answer_unclean
                    came = answer(event.unit_id, event.pdu, self._master)
                    if is_later(came):
                        self._later = asyncio.get_running_loop().create_task(self._answer_later(event.unit_id, came))
                    elif isinstance(came, bytes | ShapedAnswer):
                        self._send(event.unit_id, came, at + self._channel.gap_s)
            heard = self._hearing.again()

    async def _answer_later(self, unit_id: int, answer: Awaitable[Answer]) -> None:
        """A master has one request under way; its answer goes out when it is there, unless he asks again first."""
        try:
            came = await answer
            if came is not None and self._channel.is_open:
                now = asyncio.get_running_loop().time()
                self._send(unit_id, came, now + self._channel.gap_s)
        except Exception as error:  # as in `_receive`
            self._break_at(error)

    def _lose(self, why: str) -> None:
        self._reopening = asyncio.get_running_loop().create_task(self._reopen())

    async def _reopen(self) -> None:
        while True:
            await asyncio.sleep(_REOPEN_S)
            try:
                await self._channel.open(self._receive, self._lose)
                return
            except Unreachable:
                continue
