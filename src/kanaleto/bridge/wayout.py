"""One line as masters share it: takes the requests in their turns, sends each once, and gives the answers back.

A target that did not answer its last request is answered for at once (0B); one request in so long is tried. A line that
is down costs nobody anything: 0B at once. A request goes to the line's poller between what is due there.
"""

import asyncio
from collections.abc import Callable
from contextlib import suppress

from msgspec import Struct

from kanaleto.bridge.masterturns import BridgedRequest, Ended, MasterTurns, Waiter, refused
from kanaleto.bridge.passing import is_shared
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.polling.oneoff import Then
from kanaleto.polling.session import Session
from kanaleto.site.bridges import Bridge, BridgeTarget, Route
from kanaleto.supervision.owned import report
from kanaleto.wire.codes import ExceptionCode
from kanaleto.wire.frames import pdu_of
from kanaleto.wire.pdu import PduError, Raw, Request, parse_request
from kanaleto.wire.reach import only_reads

_LATER_S = 0.002  # after the moment at which something has waited too long
_MOST_KEPT = 200  # answers that are kept for whoever asks the same a moment later
MayWrite = Callable[[int, bytes], str]
"""Unit ID and PDU: why that may not be written now, or nothing."""


class Passed(Struct):
    """What came of one request that went out: how long it waited and took, in seconds, and for how many masters."""

    turn: BridgedRequest
    outcome: Outcome
    waited_s: float
    took_s: float
    masters: int


class _Kept(Struct):
    pdu: bytes
    at_s: float
    writes: int


class WayOut:
    """The line `name` of `session`. `may_write` is asked in the instant of sending; `on_passed` hears of each request
    that went out. For the loop's thread."""

    def __init__(
        self, session: Session, name: str, may_write: MayWrite, on_passed: Callable[[Passed], None] = lambda _: None
    ) -> None:
        self.name = name
        self.turns = MasterTurns()
        self.silent: dict[int, float] = {}
        """Units that did not answer last: when they are tried again."""
        self.slowest_s: dict[int, float] = {}
        self._session = session
        self._may_write = may_write
        self._on_passed = on_passed
        self._is_running = False
        self._under_way = 0
        self._connect_due_s = 0.0
        self._kept: dict[tuple[int, bytes], _Kept] = {}
        self._timer: asyncio.TimerHandle | None = None
        self._timer_s = 0.0

    # What is asked

    def ask(
        self, bridge: Bridge, route: Route, target: BridgeTarget, pdu: bytes, master: object, ended: Ended
    ) -> Waiter:
        """A request of a master; `ended` is called once, maybe at once."""
        now_s = asyncio.get_running_loop().time()
        waiter = Waiter(master, now_s + bridge.patience_s, now_s, ended)
        unit_id, reads = target.unit_id, only_reads(pdu)
        is_down = bool(self.why_down)
        if is_down and now_s >= self._connect_due_s:
            self._connect_due_s = now_s + route.probe_s
            self._connect()
        if is_down or self._is_silent(unit_id, now_s, route):
            waiter.end(refused(pdu, ExceptionCode.GATEWAY_TARGET_FAILED))
            return waiter
        shares = is_shared(pdu)
        kept = self._kept.get((unit_id, pdu)) if shares and bridge.share_s else None
        if kept is not None and now_s - kept.at_s <= bridge.share_s and kept.writes == self.turns.writes_to(unit_id):
            waiter.end(kept.pdu, True)
            return waiter
        retries = route.retries if reads else 0
        turn = self.turns.ask(unit_id, pdu, waiter, reads, shares, bridge.waiting, retries, (bridge, route))
        if turn is not None:
            self._pump()
            self._set_timer()
        return waiter

    @property
    def why_down(self) -> str:
        """Why nothing can be asked there now; nothing where it can."""
        try:
            connection = self._session.named(self.name).connection
        except KeyError:
            return f"there is no line {self.name!r} any more"
        return connection.why_unreachable if not connection.can_ask else ""

    def _connect(self) -> None:
        """Somebody asks: the line does not wait for its long pause."""
        with suppress(KeyError):
            self._session.named(self.name).connect_soon()

    def _is_silent(self, unit_id: int, now_s: float, route: Route) -> bool:
        """Whether it is known to be silent and not due to be tried; this request tries it else."""
        due_s = self.silent.get(unit_id)
        if due_s is None:
            return False
        if now_s < due_s:
            return True
        self.silent[unit_id] = now_s + route.probe_s
        return False

    def _set_timer(self) -> None:
        """What waits too long is answered then, whatever the line does meanwhile."""
        end_s = self.turns.next_end_s
        if end_s is None or (self._timer is not None and self._timer_s <= end_s):
            return
        if self._timer is not None:
            self._timer.cancel()
        self._timer_s = end_s
        self._timer = asyncio.get_running_loop().call_at(end_s + _LATER_S, self._expire)

    def _expire(self) -> None:
        self._timer = None
        self.turns.expire(asyncio.get_running_loop().time())
        self._set_timer()

    # What goes out

    async def run(self) -> None:
        """Send what waits until cancelled; then all that waits is answered."""
        self._is_running = True
        self._pump()
        try:
            await asyncio.get_running_loop().create_future()
        finally:
            self._is_running = False
            if self._timer is not None:
                self._timer.cancel()
                self._timer = None
            self.turns.answer_all(None, lambda pdu: refused(pdu, ExceptionCode.GATEWAY_TARGET_FAILED))

    def _pump(self) -> None:
        """As many as the line bears at once; without a task between, since each would cost every exchange a turn of
        the loop."""
        loop = asyncio.get_running_loop()
        while self._is_running and self._under_way < self._at_once:
            turn = self.turns.take(loop.time())
            if turn is None:
                return
            self._under_way += 1
            self._send(turn, loop.time(), turn.retries)

    @property
    def _at_once(self) -> int:
        try:
            return self._session.named(self.name).line.in_flight
        except KeyError:
            return 1

    def _send(self, turn: BridgedRequest, taken_s: float, retries: int) -> None:
        loop, is_asking = asyncio.get_running_loop(), True

        def there(future: "asyncio.Future[Outcome]") -> None:
            """Within the line's own step, which saves each exchange a turn of the loop; but not within its asking."""
            if is_asking:
                loop.call_soon(self._take, turn, taken_s, retries, future)
                return
            try:
                self._take(turn, taken_s, retries, future)
            except Exception as error:  # an internal error costs this request, and never its line
                report(f"bridge to {self.name}", error)

        try:
            self._exchange(turn, there)
            is_asking = False
        except KeyError:  # the line is no more
            self._end(turn, None)
        except Exception as error:  # an internal error, or too many that wait there, costs this request
            report(f"bridge to {self.name}", error)
            self._end(turn, None)

    def _take(self, turn: BridgedRequest, taken_s: float, retries: int, future: "asyncio.Future[Outcome]") -> None:
        """What came of it."""
        answer: bytes | None = None
        try:
            outcome = future.result()
            if outcome.kind is OutcomeKind.TIMEOUT and retries and self._is_running:
                self._send(turn, taken_s, retries - 1)
                return
            answer = self._judge(turn, outcome)
            waited_s = taken_s - turn.waiters[0].came_s
            self._on_passed(Passed(turn, outcome, waited_s, outcome.took_s, len(turn.waiters)))
        except (asyncio.CancelledError, KeyError):  # polling has ended, or the line is no more
            answer = None
        except Exception as error:  # an internal error costs this request
            report(f"bridge to {self.name}", error)
        self._end(turn, answer)

    def _end(self, turn: BridgedRequest, answer: bytes | None) -> None:
        self._under_way -= 1
        self.turns.done(turn, answer or refused(turn.pdu, ExceptionCode.GATEWAY_TARGET_FAILED))
        self._pump()

    def _exchange(self, turn: BridgedRequest, then: Then) -> None:
        poller = self._session.named(self.name)
        device = next((device for device in poller.line.devices if device.unit_id == turn.unit_id), None)
        timeout_s = device.timeout_s if device is not None else poller.line.timeout_s
        request = _request(turn.pdu)
        if only_reads(turn.pdu):
            poller.ask(turn.unit_id, request, timeout_s, device, then=then)
        else:
            poller.order(turn.unit_id, request, timeout_s, device, lambda: self._why_not(turn), then=then)

    def _why_not(self, turn: BridgedRequest) -> str:
        """Asked in the instant in which it would be sent."""
        now_s = asyncio.get_running_loop().time()
        if not any(not waiter.is_over and waiter.until_s > now_s for waiter in turn.waiters):
            return "it waited too long, or nobody waits for it any more"
        return self._may_write(turn.unit_id, turn.pdu)

    def _judge(self, turn: BridgedRequest, outcome: Outcome) -> bytes:
        """The PDU that its masters get."""
        now_s = asyncio.get_running_loop().time()
        if outcome.kind in (OutcomeKind.GOOD, OutcomeKind.EXCEPTION):
            self.silent.pop(turn.unit_id, None)
            self.slowest_s[turn.unit_id] = max(self.slowest_s.get(turn.unit_id, 0.0), outcome.took_s)
            pdu = pdu_of(self._session.named(self.name).exchanger.framing.name, outcome.answer)
            if outcome.is_good and turn.key is not None:
                self._keep(turn, pdu, now_s)
            return pdu
        failed = ExceptionCode.GATEWAY_TARGET_FAILED
        if outcome.kind is OutcomeKind.TIMEOUT:
            self.silent[turn.unit_id] = now_s + turn.data[1].probe_s
            self.turns.answer_all(turn.unit_id, lambda pdu: refused(pdu, failed))
        if outcome.kind is OutcomeKind.UNREACHABLE:
            if not outcome.request and not turn.reads and not self.why_down:  # it was not let out
                return refused(turn.pdu, ExceptionCode.SERVER_DEVICE_BUSY)
            self.turns.answer_all(None, lambda pdu: refused(pdu, failed))
        return refused(turn.pdu, failed)

    def _keep(self, turn: BridgedRequest, pdu: bytes, now_s: float) -> None:
        if turn.data[0].share_s <= 0 or turn.key is None:
            return
        if len(self._kept) >= _MOST_KEPT:
            self._kept.clear()
        self._kept[turn.unit_id, turn.pdu] = _Kept(pdu, now_s, turn.key[2])


def _request(pdu: bytes) -> Request:
    """As it stands: what is no request by the standard goes out all the same."""
    try:
        request = parse_request(pdu)
    except PduError:
        return Raw(pdu[0], pdu[1:])
    return request if request.encode() == pdu else Raw(pdu[0], pdu[1:])
