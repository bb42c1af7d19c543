"""Serves simulated devices on a pseudo-terminal, linked where the site says, at the speed of a real line.

A pseudo-terminal has no speed of its own: a write arrives whole and at once. So the time that the request would have
taken is added, then 3.5 characters of silence, and the answer is sent in small pieces at absolute deadlines, its last
byte exactly when a real line would deliver it. The rate that the master has set can be read here: at another than the
line's, nothing is understood. The far end's copy is kept open here too, else reading fails when the master closes.

More at once than a master may send in one go is noise: it is thrown away, and costs the line no more time than
`_MOST_BACKLOG` characters take. A master that does not read loses what it was sent, and nobody else does.
"""

import asyncio
import os
import select
import threading
import time
from collections.abc import Awaitable
from concurrent.futures import Future
from contextlib import suppress

from kanaleto.serving.answerer import Answer, Answerer, Master, ShapedAnswer, is_later
from kanaleto.serving.hearing import Heard, Hearing
from kanaleto.serving.network import CannotServe
from kanaleto.serving.portlink import PortLink
from kanaleto.serving.pseudoterminal import drop_unread, make_terminal, rate_of
from kanaleto.site.links.serial import SerialLink
from kanaleto.supervision.owned import report
from kanaleto.wire.frames import Frame, Framing, Garbled

_PIECE_S = 0.004  # an answer is sent in pieces of this length, as an adapter would
_SLICE_S = 0.1
_AFTER_FAULT_S = 0.02
_LEAST_QUIET_S = 0.005  # this process may be late
_MOST_BACKLOG = 1200  # characters: two of the longest frames that there are, in ASCII, and some


class TerminalServer:
    """A pseudo-terminal at `link.port` for `answerer`, on a thread of its own. `answer_delay_s` is how long a device
    thinks."""

    def __init__(self, answerer: Answerer, framing: Framing, link: SerialLink, answer_delay_s: float = 0.0) -> None:
        self.answerer = answerer
        self._loop: asyncio.AbstractEventLoop | None = None
        self._framing = framing
        self._link = link
        self._port_link = PortLink(link.port, answerer.name)
        self._answer_delay_s = answer_delay_s
        settings = link.settings
        self._hearing = Hearing(
            answerer, framing, max(settings.gap_s, _LEAST_QUIET_S), settings.character_s, gap_s=settings.gap_s
        )
        self._is_stopping = threading.Event()
        self._thread: threading.Thread | None = None
        self._near = self._far = -1
        self._woken = self._waking = -1  # two ends of a pipe: an answer that was waited for is there
        self._later: tuple[int, Future[Answer]] | None = None
        self._master = Master(link.port, answerer.name)

    async def start(self) -> None:
        """Make the pseudo-terminal and its link. Raises CannotServe."""
        self._loop = asyncio.get_running_loop()
        self._near, self._far = make_terminal(self.answerer.name, self._link.settings.baud)
        self._woken, self._waking = os.pipe()
        for end in (self._woken, self._waking):
            os.set_blocking(end, False)
        try:
            self._port_link.make(os.ttyname(self._far))
        except CannotServe:
            self._close()
            raise
        self._is_stopping.clear()
        self._thread = threading.Thread(target=self._work, name=f"pty {self._link.port}", daemon=True)
        self._thread.start()

    def _is_understood(self) -> bool:
        """Whether the master has set the rate of this line; a rate without a code of its own is taken on trust."""
        return rate_of(self._near) in (None, self._link.settings.baud)

    async def stop(self) -> None:
        self._is_stopping.set()
        if self._thread is None:
            return
        self._thread.join(timeout=2)
        self._thread = None
        self._drop_later()
        self._port_link.remove()
        self._close()

    def noise(self, data: bytes) -> None:
        """Bytes that nobody asked for."""
        if self._thread is not None:
            self._write_out(data)

    def _close(self) -> None:
        for end in (self._near, self._far, self._woken, self._waking):
            os.close(end)
        self._near = self._far = self._woken = self._waking = -1

    def _work(self) -> None:
        line_free_s = 0.0  # when the last byte that came would have left a real line
        while not self._is_stopping.is_set():
            try:
                line_free_s = self._hear(line_free_s)
            except Exception as error:  # an internal error costs what came, and not the line
                report(f"{self.answerer.name}: what came was thrown away", error)
                self._hearing.forget()
                self._is_stopping.wait(_AFTER_FAULT_S)

    def _hear(self, line_free_s: float) -> float:
        """Wait for bytes, or for a silence that says something, and answer; gives when the line is free then."""
        character_s, hearing = self._link.settings.character_s, self._hearing
        patience_s, now_s = hearing.patience_s, time.monotonic()
        wait_s = _SLICE_S
        if patience_s is not None:
            wait_s = min(max(line_free_s + patience_s - now_s, 0.0), _SLICE_S)
        ready, _, _ = select.select([self._near, self._woken], [], [], wait_s)
        if self._woken in ready:
            line_free_s = self._take_later(line_free_s)
        now_s = time.monotonic()
        silence_s = now_s - line_free_s
        if patience_s is not None and silence_s >= patience_s:
            line_free_s = self._take(hearing.settle(), line_free_s)
        if self._near not in ready:
            return line_free_s
        try:
            data = os.read(self._near, 4096)
        except BlockingIOError:
            return line_free_s
        line_free_s = max(now_s, line_free_s) + len(data) * character_s
        if line_free_s - now_s > _MOST_BACKLOG * character_s:
            line_free_s = now_s + _MOST_BACKLOG * character_s
            hearing.forget()
            self.answerer.note_garbled()
        elif not self._is_understood():
            hearing.forget()
            self.answerer.note_garbled()  # at another rate a device hears characters that are none
        else:
            line_free_s = self._take(hearing.take(data, silence_s), line_free_s)
        return line_free_s

    def _take(self, heard: list[Heard], line_free_s: float) -> float:
        """Answer what was asked; gives when the line is free then."""
        while heard:
            for event, is_clean in heard:
                if isinstance(event, Garbled):
                    self.answerer.note_garbled()
                else:
                    line_free_s = self._answer(event, is_clean, line_free_s)
            heard = self._hearing.again()
        return line_free_s

    def _write_out(self, piece: bytes) -> bool:
        """Send it; whether anybody takes it. What a master has not read of former answers is no longer on a line."""
        try:
            return os.write(self._near, piece) == len(piece)
        except BlockingIOError:
            drop_unread(self._far)
            return False

    def _wait_for(self, unit_id: int, answer: Awaitable[Answer]) -> None:
        """Answers that take their time are made on the loop that the server was started on; meanwhile the line is
        heard on."""

        async def work() -> Answer:
            return await answer

        assert self._loop is not None
        later = asyncio.run_coroutine_threadsafe(work(), self._loop)
        self._later = (unit_id, later)
        later.add_done_callback(lambda _: self._wake())

    def _drop_later(self) -> None:
        """A master has spoken again, or nobody is there any more: that answer is nobody's."""
        if self._later is not None:
            self._later[1].cancel()
            self._later = None

    def _wake(self) -> None:
        with suppress(OSError):  # it has ended
            os.write(self._waking, b"!")

    def _take_later(self, line_free_s: float) -> float:
        """What was waited for is there; gives when the line is free then."""
        with suppress(BlockingIOError):
            os.read(self._woken, 64)
        if self._later is None or not self._later[1].done():
            return line_free_s
        (unit_id, later), self._later = self._later, None
        if later.cancelled():
            return line_free_s
        return self._reply(unit_id, later.result(), max(time.monotonic(), line_free_s))

    def _answer(self, frame: Frame, is_clean: bool, came_s: float) -> float:
        self._drop_later()
        asked = self.answerer.answer if is_clean else self.answerer.answer_unclean
        answer = asked(frame.unit_id, frame.pdu, self._master)
        if is_later(answer):
            self._wait_for(frame.unit_id, answer)
            return came_s
        return self._reply(frame.unit_id, answer, came_s)  # type: ignore[arg-type]

    def _reply(self, unit_id: int, reply: Answer, came_s: float) -> float:
        if not isinstance(reply, bytes | ShapedAnswer):
            return came_s
        gap_s = self._link.settings.gap_s
        start_s = came_s + gap_s + self._answer_delay_s
        if isinstance(reply, bytes):
            return self._send(self._framing.encode(unit_id, reply), start_s)
        free_s = came_s
        for after_s, raw in reply.pieces(self._framing.encode):
            free_s = self._send(raw, max(start_s + after_s, free_s))
        return free_s

    def _send(self, raw: bytes, start_s: float) -> float:
        """As a line of this rate lets it go, from that moment on; gives when the line is free then."""
        character_s = self._link.settings.character_s
        piece = max(int(_PIECE_S / character_s), 1)
        for at in range(0, len(raw), piece):
            end = min(at + piece, len(raw))
            delay_s = start_s + end * character_s - time.monotonic()
            if delay_s > 0:
                time.sleep(delay_s)
            if not self._write_out(raw[at:end]):
                break
        self._hearing.drop_rest()
        return start_s + len(raw) * character_s
