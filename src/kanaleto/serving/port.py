"""Serves simulated devices on a serial port that exists."""

import asyncio
from collections.abc import Awaitable

from kanaleto.lines.channel import Unreachable
from kanaleto.lines.serialport import SerialChannel
from kanaleto.serving.answerer import Answerer, is_later
from kanaleto.serving.network import CannotServe
from kanaleto.site.link import SerialLink
from kanaleto.wire.frames import Event, Framing, Garbled, Role

_QUIET_S = 0.02
_REOPEN_S = 2.0
_ECHO_S, _MOST_ALIKE = 0.03, 5


class PortServer:
    """The port of `link` for `answerer`; when it is pulled out, it is opened again once it is back."""

    def __init__(self, answerer: Answerer, framing: Framing, link: SerialLink) -> None:
        self.answerer = answerer
        self._later: asyncio.Task[None] | None = None
        self._framing = framing
        self._channel = SerialChannel(link)
        self._decoder = framing.decoder(Role.REQUESTS)
        self._timer: asyncio.TimerHandle | None = None
        self._reopening: asyncio.Task[None] | None = None
        self._sent, self._sent_end_s = b"", 0.0  # of our own, which may come back, and when its last byte has gone
        self._has_echo, self._alike = link.has_echo, 0

    async def start(self) -> None:
        """Open the port. Raises CannotServe."""
        try:
            await self._channel.open(self._receive, self._lose)
        except Unreachable as error:
            raise CannotServe(f"{self.answerer.name}: {error}") from None

    async def stop(self) -> None:
        if self._reopening is not None:
            self._reopening.cancel()
        if self._timer is not None:
            self._timer.cancel()
        self._channel.close()

    def _write(self, frame: bytes, not_before: float) -> None:
        self._sent = frame
        self._sent_end_s = self._channel.write(frame, not_before)

    def _receive(self, data: bytes, at: float) -> None:
        if self._sent:
            data = self._without_own(data, at)
        self._take(self._decoder.feed(data), at)
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        if self._decoder.held:
            quiet_at = at + max(_QUIET_S, 5 * self._channel.character_s)
            self._timer = asyncio.get_running_loop().call_at(quiet_at, self._settle, at)

    def _without_own(self, data: bytes, at: float) -> bytes:
        """What came without our own answer, where the adapter echoes: it is no master's request. Untold, that is known
        by what comes back before the answer has gone, when no master may speak, or again and again right behind it; a
        master may well ask the same as we have just answered."""
        length = min(len(self._sent), len(data))
        if data[:length] != self._sent[:length]:
            self._sent, self._alike = b"", 0
            return data
        if not self._has_echo:
            self._alike = self._alike + 1 if at < self._sent_end_s + _ECHO_S else 0
            self._has_echo = at < self._sent_end_s or self._alike > _MOST_ALIKE
        if not self._has_echo:
            self._sent = b""
            return data
        self._sent = self._sent[length:]
        return data[length:]

    def _settle(self, at: float) -> None:
        self._take(self._decoder.silence(), at)

    def _take(self, events: list[Event], at: float) -> None:
        for event in events:
            if isinstance(event, Garbled):
                self.answerer.note_garbled()
            elif self._channel.is_open:
                pdu = self.answerer.answer(event.unit_id, event.pdu)
                if is_later(pdu):
                    self._later = asyncio.get_running_loop().create_task(self._answer_later(event.unit_id, pdu))
                elif isinstance(pdu, bytes):
                    self._write(self._framing.encode(event.unit_id, pdu), at + self._channel.gap_s)
        self._decoder.end_with(self.answerer.delimiter)

    async def _answer_later(self, unit_id: int, answer: Awaitable[bytes | None]) -> None:
        """A master has one request under way; what comes of it goes out when it is there."""
        pdu = await answer
        if pdu is not None and self._channel.is_open:
            now = asyncio.get_running_loop().time()
            self._write(self._framing.encode(unit_id, pdu), now + self._channel.gap_s)

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
