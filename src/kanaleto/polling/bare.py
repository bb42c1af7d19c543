"""Registers of a device as bare words, whether points name them or not: read again and again between what is polled,
so that one can see which of them moves. What the device refuses is found by halves and left out; what must never be
read is not read."""

import asyncio
from collections import deque
from collections.abc import Iterator
from contextlib import suppress

from kanaleto.analysis.barewords import BareState, Words
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.polling.session import Session
from kanaleto.site.model import Device
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read, ReadAnswer

MOST_WORDS = 1000
KEPT = 240
_EVERY_S = 0.5
_AFTER_FAILURE_S = 2.0


class BareWatch:
    """Runs until it is stopped. `state` may be read from any thread."""

    def __init__(self, session: Session, device_name: str, table: Table, first: int, last: int) -> None:
        self._session = session
        self._rings: dict[tuple[int, int], deque[tuple[float, bytes]]] = {}
        self._refused: list[tuple[int, int]] = []
        self.state = BareState(device_name, table, first, last)

    async def run(self) -> None:
        """Read until cancelled, or until there is nothing to read."""
        found = self._found()
        if found is None:
            self._say("there is no such device any more")
            return
        _, device = found
        state = self.state
        self._rings = {
            stretch: deque(maxlen=KEPT) for stretch in _stretches(device, state.table, state.first, state.last)
        }
        while self._rings:
            if self._session.is_held:  # then nothing is sent, these neither
                await asyncio.sleep(_EVERY_S)
                continue
            pause_s = _EVERY_S
            for stretch in list(self._rings):
                pause_s = max(pause_s, await self._read(stretch))
            self._say(self.state.text if pause_s > _EVERY_S else "")
            await asyncio.sleep(pause_s)
        self._say("the device refuses all of them")

    def _found(self) -> tuple[str, Device] | None:
        name = self.state.device
        return next(((line.name, device) for line, device in self._session.site.devices() if device.name == name), None)

    async def _read(self, stretch: tuple[int, int]) -> float:
        found = self._found()
        if found is None:
            self._rings.clear()
            self._say("the device is no more")
            return _EVERY_S
        line, device = found
        first, count = stretch
        try:
            asked = self._session.named(line).ask(
                device.unit_id, Read(self.state.table, first, count), device.timeout_s, device
            )
        except (KeyError, OverflowError) as error:
            self._say(str(error.args[0]))
            return _AFTER_FAILURE_S
        outcome = await asked
        content = outcome.content
        if isinstance(content, ReadAnswer):
            self._rings[stretch].append((outcome.done_at, content.data))
        elif outcome.kind is OutcomeKind.EXCEPTION:
            self._split(stretch)
        else:
            self._say(outcome.reason)
            return _AFTER_FAILURE_S
        return _EVERY_S

    def _split(self, stretch: tuple[int, int]) -> None:
        first, count = stretch
        del self._rings[stretch]
        if count == 1:
            self._refused.append((first, first))
            return
        half = count // 2
        for part in ((first, half), (first + half, count - half)):
            self._rings[part] = deque(maxlen=KEPT)

    def _say(self, text: str) -> None:
        state = self.state
        words = tuple(Words(first, count, tuple(ring)) for (first, count), ring in sorted(self._rings.items()))
        self.state = BareState(
            state.device, state.table, state.first, state.last, words, tuple(_joined(self._refused)), text
        )


class Bare:
    """At most one watch at a time, started and stopped from the interface's thread."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._watch: BareWatch | None = None
        self._task: asyncio.Task[None] | None = None

    @property
    def state(self) -> BareState | None:
        return self._watch.state if self._watch is not None else None

    def start(self, device_name: str, table: Table, first: int, last: int) -> None:
        """On the engine's loop. Another one that runs is stopped."""
        self.stop()
        self._watch = BareWatch(self._session, device_name, table, first, last)
        self._task = asyncio.get_running_loop().create_task(self._watch.run(), name="bare words")

    def stop(self) -> None:
        """On the engine's loop."""
        if self._task is not None:
            with suppress(RuntimeError):
                self._task.cancel()
        self._task = self._watch = None


def _stretches(device: Device, table: Table, first: int, last: int) -> Iterator[tuple[int, int]]:
    """First address and count of what one request may read."""
    most = device.limits.most_read(table)
    only_written = [
        range(point.address, point.end) for point in device.points if point.table is table and not point.access.is_read
    ]
    begin: int | None = None
    for address in range(first, last + 2):
        is_free = (
            address <= last
            and not device.limits.forbids_reading(table, address, address)
            and not any(address in span for span in only_written)
        )
        if begin is not None and (not is_free or address - begin >= most):
            yield begin, address - begin
            begin = None
        if is_free and begin is None:
            begin = address


def _joined(refused: list[tuple[int, int]]) -> Iterator[tuple[int, int]]:
    begin: int | None = None
    last = -2
    for first, end in sorted(refused):
        if begin is not None and first == last + 1:
            last = end
            continue
        if begin is not None:
            yield begin, last
        begin, last = first, end
    if begin is not None:
        yield begin, last
