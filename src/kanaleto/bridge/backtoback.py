"""Two ends joined back to back: what comes in at one goes out at the other, byte for byte, as it comes.

An end is a pseudo-terminal that is made at its path, a port that exists, or a TCP port at which one listens. With a
rate, bytes are paced as on a wire of that rate, at absolute deadlines; an end whose other side has set another rate
gets, and gives, damaged bytes. Both directions are heard as one line, so that exchanges can be counted and kept.
"""

import asyncio
import os
import random
from collections import deque
from collections.abc import Callable, Sequence

from kanaleto.bench.faults import FaultWanted
from kanaleto.lines.channel import Unreachable
from kanaleto.lines.opening import framing_of
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.lines.serialport import SerialChannel
from kanaleto.lines.traffic import LONGEST_PAUSE_S
from kanaleto.probing.overhearing import HeardExchange, OnHeard, Overhearing
from kanaleto.serving.network import CannotServe, cannot_bind
from kanaleto.serving.portlink import PortLink
from kanaleto.serving.pseudoterminal import drop_unread, make_terminal, rate_of
from kanaleto.site.links.link import FramingKind, Link
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.links.tcp import TcpLink
from kanaleto.supervision.owned import report
from kanaleto.wire.frames import Frame, Role

_PIECE_S = 0.004  # bytes that are paced go out in pieces of so long
_LEAST_QUIET_S, _QUIET_CHARACTERS = 0.005, 5
_REOPEN_S = 1.0
_HEARD_AFTER_S = 0.02
_MOST_DELAYS = 20_000
_MOST_UNSENT = 64 * 1024
_MOST_WAITING = 256  # requests of which the answer is waited for, where they have transactions

OnBytes = Callable[[bytes], None]


class End:
    """One of the two. `rate` is what its other side has set, where that can be known."""

    def __init__(self, link: Link) -> None:
        self.link = link
        self.came = 0
        self.on_bytes: OnBytes = lambda data: None

    async def start(self) -> None:
        """Raises CannotServe."""

    async def stop(self) -> None:
        """Nothing more comes or goes."""

    def write(self, data: bytes) -> None:
        """What nobody takes is lost, as on a wire."""

    def hang_up(self) -> None:
        """Who is connected there is cut off."""

    @property
    def rate(self) -> int | None:
        return None

    def take(self, data: bytes) -> None:
        self.came += len(data)
        try:
            self.on_bytes(data)
        except Exception as error:  # an internal error costs these bytes
            report("a pair of ends", error)


class TerminalEnd(End):
    """A pseudo-terminal, linked at the path of its link."""

    def __init__(self, link: SerialLink, name: str, baud: int) -> None:
        super().__init__(link)
        self._port_link = PortLink(link.port, name, is_joined=True)
        self._name, self._baud = name, baud
        self._near = self._far = -1

    async def start(self) -> None:
        self._near, self._far = make_terminal(self._name, self._baud)
        try:
            self._port_link.make(os.ttyname(self._far))
        except CannotServe:
            self._close()
            raise
        asyncio.get_running_loop().add_reader(self._near, self._read)

    async def stop(self) -> None:
        if self._near >= 0:
            asyncio.get_running_loop().remove_reader(self._near)
            self._port_link.remove()
            self._close()

    def _close(self) -> None:
        os.close(self._near)
        os.close(self._far)
        self._near = self._far = -1

    def _read(self) -> None:
        try:
            data = os.read(self._near, 4096)
        except (BlockingIOError, OSError):
            return
        self.take(data)

    def write(self, data: bytes) -> None:
        if self._near < 0:
            return
        try:
            os.write(self._near, data)
        except BlockingIOError:  # nobody reads there
            drop_unread(self._far)

    @property
    def rate(self) -> int | None:
        return rate_of(self._near) if self._near >= 0 else None


class PortEnd(End):
    """A serial port that exists; when it is pulled out, it is opened again once it is back."""

    def __init__(self, link: SerialLink) -> None:
        super().__init__(link)
        self._channel = SerialChannel(link)
        self._reopening: asyncio.Task[None] | None = None

    async def start(self) -> None:
        try:
            await self._open()
        except Unreachable as error:
            raise CannotServe(str(error)) from None

    async def _open(self) -> None:
        await self._channel.open(lambda data, at: self.take(data), self._lose)

    def _lose(self, why: str) -> None:
        self._reopening = asyncio.get_running_loop().create_task(self._open_again())

    async def _open_again(self) -> None:
        while True:
            await asyncio.sleep(_REOPEN_S)
            try:
                await self._open()
                return
            except Unreachable:
                continue

    async def stop(self) -> None:
        if self._reopening is not None:
            self._reopening.cancel()
        self._channel.close()

    def write(self, data: bytes) -> None:
        if self._channel.is_open:
            self._channel.write(data, 0.0)


class StreamEnd(End):
    """A TCP port at which one listens: who comes last is joined, and who was there before is cut off."""

    def __init__(self, link: TcpLink) -> None:
        super().__init__(link)
        self._host, self._port = link.host, link.port
        self._server: asyncio.Server | None = None
        self._transport: asyncio.Transport | None = None

    async def start(self) -> None:
        try:
            self._server = await asyncio.get_running_loop().create_server(lambda: _Stream(self), self._host, self._port)
        except OSError as error:
            raise cannot_bind("pair", self._host, self._port, error) from None

    async def stop(self) -> None:
        if self._server is not None:
            self._server.close()
        if self._transport is not None:
            self._transport.abort()

    def hang_up(self) -> None:
        if self._transport is not None:
            self._transport.close()

    def join(self, transport: asyncio.Transport) -> None:
        if self._transport is not None:
            self._transport.abort()
        self._transport = transport

    def leave(self, transport: asyncio.Transport) -> None:
        if self._transport is transport:
            self._transport = None

    def write(self, data: bytes) -> None:
        transport = self._transport
        if transport is None or transport.is_closing():
            return
        transport.write(data)
        if transport.get_write_buffer_size() > _MOST_UNSENT:  # it does not read
            transport.abort()


class _Stream(asyncio.Protocol):
    def __init__(self, end: StreamEnd) -> None:
        self._end = end

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        assert isinstance(transport, asyncio.Transport)
        self._transport = transport
        self._end.join(transport)

    def connection_lost(self, exc: Exception | None) -> None:
        self._end.leave(self._transport)

    def data_received(self, data: bytes) -> None:
        self._end.take(data)


def end_of(link: Link, name: str, baud: int = 0) -> End:
    """The end at a link, at that rate where bytes are paced. Raises CannotServe where a link cannot be one."""
    if isinstance(link, SerialLink) and not link.is_remote:
        if "/" not in link.port or PortLink(link.port, name, is_joined=True).is_port_of_others():
            return PortEnd(link)
        return TerminalEnd(link, name, baud)
    if isinstance(link, TcpLink) and link.tls is None:
        return StreamEnd(link)
    raise CannotServe(f"{link}: an end of a pair is a serial port, a path for a pseudo-terminal, or tcp://HOST:PORT")


PAIR_FAULTS = ("silent", "late", "lost", "garbled", "short", "noise", "hang_up")
"""The faults of `bench.faults` that bytes on their way can have; the others are a device's, and a pair has none."""


class PairFault:
    """What happens to the bytes that pass, piece by piece. Draws from a seed of its own."""

    def __init__(self, wanted: Sequence[FaultWanted] = (), seed: int = 0) -> None:
        self._numbers = {fault.name: fault.numbers for fault in wanted}
        self._chance = random.Random(f"{seed}/pair")
        self._pieces = 0

    @property
    def noise_a_second(self) -> float:
        return float(self._numbers.get("noise", {}).get("a_second", 0.0))

    def noise(self) -> bytes:
        return bytes(self._chance.randrange(256) for _ in range(self._chance.randint(1, 4)))

    def wait_s(self) -> float:
        """Until the next noise."""
        return self._chance.expovariate(self.noise_a_second)

    def passed(self, data: bytes) -> tuple[bytes, float, bool]:
        """What comes of a piece, how many seconds late, and whether its connection ends with it."""
        self._pieces += 1
        numbers = self._numbers
        if "silent" in numbers or ("lost" in numbers and self._pieces % numbers["lost"]["each"] == 0):
            return b"", 0.0, False
        if "garbled" in numbers and self._pieces % numbers["garbled"].get("each", 1) == 0:
            data = self._garbled(data, numbers["garbled"].get("bits", 1))
        if "short" in numbers:
            data = data[: numbers["short"]["bytes"]]
        ms = numbers.get("late", {}).get("ms", 0)
        low, high = ms if isinstance(ms, list | tuple) else (ms, ms)
        hangs_up = "hang_up" in numbers and self._pieces % numbers["hang_up"]["after"] == 0
        return data, self._chance.uniform(low, high) / 1000, hangs_up

    def _garbled(self, data: bytes, bits: int) -> bytes:
        raw = bytearray(data)
        for bit in self._chance.sample(range(8 * len(raw)), min(bits, 8 * len(raw))):
            raw[bit // 8] ^= 1 << bit % 8
        return bytes(raw)


class JoinedEnds:
    """`on_heard` receives each exchange that passes. For the loop's thread."""

    def __init__(
        self, one: End, other: End, baud: int = 0, fault: PairFault | None = None, seed: int = 0,
        on_heard: OnHeard = lambda heard: None,
    ) -> None:  # fmt: skip
        self.ends = (one, other)
        self.exchanges = self.torn = 0
        self.delays_s: deque[float] = deque(maxlen=_MOST_DELAYS)
        self._baud = baud
        settings = one.link.settings or other.link.settings
        bits = settings.character_bits if settings is not None else 11
        self.character_s = bits / baud if baud else 0.0
        self._fault, self._chance = fault or PairFault(), random.Random(seed)
        self._on_heard = on_heard
        self._free_s = [0.0, 0.0]
        self._noise: asyncio.TimerHandle | None = None
        self._to_hear: list[tuple[int, bytes, float]] = []
        self._hearing = _hearing_of(one.link, self._heard)
        for number, end in enumerate(self.ends):
            end.on_bytes = lambda data, number=number: self._pass(number, data)  # type: ignore[misc]

    async def start(self) -> None:
        """Raises CannotServe; then nothing is left open."""
        await self.ends[0].start()
        try:
            await self.ends[1].start()
        except CannotServe:
            await self.ends[0].stop()
            raise
        if self._fault.noise_a_second:
            self._make_noise()

    def _make_noise(self) -> None:
        """Bytes that nobody sent, to both ends."""
        loop = asyncio.get_running_loop()
        if self._noise is not None:
            data = self._fault.noise()
            for number in (0, 1):
                self._go_out(number, data, loop.time())
        self._noise = loop.call_later(self._fault.wait_s(), self._make_noise)

    async def stop(self) -> None:
        if self._noise is not None:
            self._noise.cancel()
        self._hear()
        self._hearing.settle(asyncio.get_running_loop().time())
        for end in self.ends:
            await end.stop()

    def _heard(self, heard: HeardExchange) -> None:
        if heard.request and heard.answer and heard.kind in (OutcomeKind.GOOD, OutcomeKind.EXCEPTION):
            self.exchanges += 1
        elif heard.kind is OutcomeKind.GARBLED:
            self.torn += 1
        self._on_heard(heard)

    # Bytes

    def _pass(self, number: int, data: bytes) -> None:
        loop = asyncio.get_running_loop()
        now_s = loop.time()
        data, late_s, hangs_up = self._fault.passed(data)
        if hangs_up:
            for end in self.ends:
                end.hang_up()
        if not data:
            return
        if self._baud and any(end.rate not in (None, self._baud) for end in self.ends):
            data = bytes(self._chance.randrange(256) | 0x80 for _ in data)
        if not self.character_s:
            if late_s:
                loop.call_later(late_s, self._go_out, number, data, now_s + late_s)
            else:
                self._go_out(number, data, now_s)
            return
        begin_s = max(now_s + late_s, self._free_s[number])
        piece = max(int(_PIECE_S / self.character_s), 1)
        for at in range(0, len(data), piece):
            part = data[at : at + piece]
            begin_s += len(part) * self.character_s
            loop.call_at(begin_s, self._go_out, number, part, begin_s)
        self._free_s[number] = begin_s

    def _go_out(self, number: int, data: bytes, due_s: float) -> None:
        """`due_s` is when a wire alone would have brought it."""
        loop = asyncio.get_running_loop()
        self.ends[1 - number].write(data)
        now_s = loop.time()
        self.delays_s.append(max(now_s - due_s, 0.0))
        if not self._to_hear:
            loop.call_later(_HEARD_AFTER_S, self._hear)
        self._to_hear.append((number, data, now_s))

    def _hear(self) -> None:
        """What has passed, a little later: no byte waits for it."""
        passed, self._to_hear = self._to_hear, []
        try:
            for number, data, at_s in passed:
                self._hearing.take(number, data, at_s)
        except Exception as error:  # hearing never costs a byte
            report("what passes a pair", error)

    def delays_ms(self) -> tuple[float, float]:
        """What this adds to a piece of bytes, at the median and at 99 %, in milliseconds."""
        delays = sorted(self.delays_s)
        if not delays:
            return 0.0, 0.0
        return 1000 * delays[len(delays) // 2], 1000 * delays[min(len(delays) * 99 // 100, len(delays) - 1)]


class _LineHearing:
    """Both directions as one line, as anybody on its wires hears it."""

    def __init__(self, link: Link, on_heard: OnHeard) -> None:
        self._heard = Overhearing(link.framing, on_heard)
        self._quiet_s = max(_QUIET_CHARACTERS * link.character_s, _LEAST_QUIET_S)
        if link.framing is FramingKind.ASCII:
            self._quiet_s = LONGEST_PAUSE_S["ascii"]
        self._last_s = 0.0

    def take(self, number: int, data: bytes, at_s: float) -> None:
        if at_s - self._last_s > self._quiet_s:
            self._heard.silence(self._last_s)
        self._last_s = at_s
        self._heard.feed(data, at_s)

    def settle(self, now_s: float) -> None:
        self._heard.silence(self._last_s)
        self._heard.end(now_s)


class _StreamHearing:
    """Frames with transactions: an answer is what comes the other way with the transaction of a request."""

    def __init__(self, link: Link, on_heard: OnHeard) -> None:
        framing = framing_of(link)
        self._decoders = (framing.decoder(Role.REQUESTS), framing.decoder(Role.REQUESTS))
        self._waiting: dict[tuple[int, int | None], tuple[Frame, float]] = {}
        self._on_heard = on_heard

    def take(self, number: int, data: bytes, at_s: float) -> None:
        for event in self._decoders[number].feed(data):
            if not isinstance(event, Frame):
                self._on_heard(HeardExchange(0, b"", event.raw, OutcomeKind.GARBLED, event.reason, at_s, at_s))
                if event.fatal:
                    self._decoders[number].reset()
                continue
            asked = self._waiting.pop((1 - number, event.transaction), None)
            if asked is None:
                if len(self._waiting) >= _MOST_WAITING:
                    self._waiting.pop(next(iter(self._waiting)))
                self._waiting[number, event.transaction] = (event, at_s)
                continue
            request, asked_s = asked
            kind = OutcomeKind.EXCEPTION if event.pdu[0] & 0x80 else OutcomeKind.GOOD
            self._on_heard(HeardExchange(request.unit_id, request.raw, event.raw, kind, "", asked_s, at_s))

    def settle(self, now_s: float) -> None:
        return


def _hearing_of(link: Link, on_heard: OnHeard) -> "_LineHearing | _StreamHearing":
    return _StreamHearing(link, on_heard) if link.framing is FramingKind.TCP else _LineHearing(link, on_heard)
