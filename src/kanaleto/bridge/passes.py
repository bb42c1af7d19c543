"""Values that are passed on by themselves: one device's value written into another's point, in its turn on that line.

Never a stale value: while the source is not good nothing is written, or once the number that stands for it. What got no
answer is not repeated before its next turn. When a pass begins, what it wrote is read back once. From its first write
on a pass holds its target: until it is stopped, may not write any more, or a person takes over.
"""

import asyncio
from collections.abc import Awaitable, Callable, Mapping
from math import isfinite

from msgspec import Struct

from kanaleto.board.board import Quality
from kanaleto.board.board import Reading as LastReading
from kanaleto.bridge.composing import reading_of, write_of
from kanaleto.control.holders import Hold, Holders
from kanaleto.polling.session import Session
from kanaleto.site.bridges import Pass
from kanaleto.site.model import Device, Line, Point, Writing
from kanaleto.supervision.owned import report
from kanaleto.values.codec import CannotEncode
from kanaleto.wire.pdu import Read

_LOOK_S = 0.1

SendOfPass = Callable[[str, Line, Device, bytes], Awaitable[bytes | None]]
"""Sends a PDU for the holder of that name, in its turn."""
OnWritten = Callable[["PassState", str], None]
"""Receives each write, and of what was refused, in words."""


class PassState(Struct):
    """One pass as it stands: what it wrote last, when (loop time), how often, and what is wrong with it."""

    pass_: Pass
    value: float | None = None
    written_at: float | None = None
    written: int = 0
    trouble: str = ""
    is_standing_in: bool = False  # the number for a source that is not good was written
    is_stopped: bool = False

    @property
    def owner(self) -> str:
        return f"pass to {self.pass_.title}"


class Passes:
    """Those of one bridge; `run` until cancelled. `send` asks a device in its turn."""

    def __init__(
        self, bridge: str, passes: tuple[Pass, ...], session: Session, send: SendOfPass, on_written: OnWritten,
        may_pass: Callable[[str], bool], holders: Holders, before: Mapping[tuple[str, Pass], PassState],
    ) -> None:  # fmt: skip
        """`may_pass` is asked of the target's device before each write. `before` has those that ran already, as they
        stood."""
        self.bridge = bridge
        self._may_pass, self._holders = may_pass, holders
        self.states = [before.get((bridge, one_pass)) or PassState(one_pass) for one_pass in passes]
        self._session, self._send, self._on_written = session, send, on_written

    async def run(self) -> None:
        try:
            await asyncio.gather(*(self._run(state) for state in self.states))
        finally:
            for state in self.states:
                self._holders.release(state.owner)

    def stop(self, state: PassState, is_stopped: bool) -> None:
        """By hand: it writes nothing any more, and holds nothing; or it goes on."""
        state.is_stopped, state.trouble = is_stopped, ""
        if is_stopped:
            self._holders.release(state.owner)

    def why_not(self, state: PassState) -> str:
        """Why it writes nothing now, where that is as somebody wants it."""
        if state.is_stopped:
            return "stopped"
        return "" if self._may_pass(state.pass_.to_device) else "writing is locked"

    def source_of(self, state: PassState, now_s: float) -> LastReading | None:
        """The last value of its source."""
        return reading_of(self._session, state.pass_.device, state.pass_.point, now_s)

    async def _run(self, state: PassState) -> None:
        loop = asyncio.get_running_loop()
        due_s = loop.time()
        while True:
            pause_s = state.pass_.every_s if state.pass_.every_s is not None else _LOOK_S
            due_s = max(due_s + pause_s, loop.time())
            await asyncio.sleep(due_s - loop.time())
            try:
                await self._turn(state)
            except Exception as error:  # an internal error costs this turn
                report(f"the pass to {state.pass_.title}", error)

    async def _turn(self, state: PassState) -> None:
        pass_, now_s = state.pass_, asyncio.get_running_loop().time()
        if state.is_stopped:
            return
        if not self._may_pass(pass_.to_device):
            self._holders.release(state.owner)
            return
        if pass_.condition and not self._number("", pass_.condition, now_s):
            return
        value = self._number(pass_.device, pass_.point, now_s)
        is_good = value is not None
        if value is None:
            if not isinstance(pass_.stale, int | float) or state.is_standing_in:
                return
            value = float(pass_.stale)
        place = self._session.plan.place_of((pass_.to_device, pass_.to_point))
        part = self._session.plan.part_of(pass_.to_device)
        if place is None or part is None or not isinstance(place.point, Point):
            self._fail(state, "its target is no point of the site any more")
            return
        if part.device.writing is not Writing.UNLOCK or part.line.writing is Writing.NEVER:
            self._holders.release(state.owner)
            self._fail(state, f'{pass_.to_device} is not written by itself: writing = "{part.device.writing.value}"')
            return
        point = place.point
        is_same = state.value is not None and abs(value - state.value) <= point.deadband
        if pass_.every_s is None and is_same and is_good is not state.is_standing_in:
            return
        await self._write(state, part.line, part.device, point, value, is_good)

    async def _write(
        self, state: PassState, line: Line, device: Device, point: Point, value: float, is_good: bool
    ) -> None:
        try:
            pdu = write_of(point, value, device)
        except (CannotEncode, ValueError) as error:
            self._fail(state, str(error))
            return
        if not self._is_held(state, line, device, point):
            return
        answer = await self._send(state.owner, line, device, pdu)
        if state.is_stopped:
            return
        if answer is None or answer[0] & 0x80:
            code = f"exception {answer[1]}" if answer is not None and len(answer) > 1 else "no answer"
            self._fail(state, f"{state.pass_.title} was not written: {code}")
            return
        is_first = not state.written
        state.value, state.written_at = value, asyncio.get_running_loop().time()
        state.written += 1
        state.trouble, state.is_standing_in = "", not is_good
        self._on_written(state, "")
        if is_first:
            await self._read_back(state, line, device, point, pdu)

    def _is_held(self, state: PassState, line: Line, device: Device, point: Point) -> bool:
        """Whether this pass holds its target, from now on at the latest."""
        place = (line.name, device.unit_id, point.table, point.address, point.end)
        other = self._holders.who(*place, state.owner)
        if other is not None:
            self._fail(state, f"{state.pass_.title} is held by {other.name}")
            return False

        def taken() -> None:
            state.is_stopped = True
            self._fail(state, "stopped: a person took over")

        self._holders.release(state.owner)
        self._holders.take(Hold(*place, state.owner, f"the {state.owner}", taken))
        return True

    async def _read_back(self, state: PassState, line: Line, device: Device, point: Point, pdu: bytes) -> None:
        if not point.access.is_read:
            return
        answer = await self._send(state.owner, line, device, Read(point.table, point.address, point.size).encode())
        wrote = pdu[3:5] if pdu[0] in (5, 6) else pdu[6:]
        wanted = bytes((int(wrote == b"\xff\x00"),)) if point.table.is_bits else wrote
        if answer is not None and not answer[0] & 0x80 and answer[2:] != wanted:
            state.trouble = f"{state.pass_.title} reads back otherwise than it was written"
            self._on_written(state, state.trouble)

    def _fail(self, state: PassState, why: str) -> None:
        if state.trouble != why:
            state.trouble = why
            self._on_written(state, why)

    def _number(self, device: str, point: str, now_s: float) -> float | None:
        """A good value; None else."""
        reading = reading_of(self._session, device, point, now_s)
        if reading is None or reading.quality is not Quality.GOOD:
            return None
        value = reading.value
        return float(value) if isinstance(value, int | float) and isfinite(value) else None
