"""Which outages there are on one line, each as one event; and what loses answers now and then. Sans I/O: it receives
what came of each request, with its time, and tells a listener.

Rules. A request that nothing came of, after all its tries, is a failure; one that is mended by its retry is only
counted. A device that fails begins an outage. Another that fails with no answer on the line in between waits with its
own until it is known whose the outage is: the line's, where its connection is gone or all polled devices fail with no
answer in between, else each device's own. It begins with the first failure and ends with the first good answer, of
anybody where it is the line's. What follows from an outage (watchdogs, overruns, devices lost) belongs to it and is no
event of its own.

A device that loses answers again and again has one event, "1 in n unanswered": from 3 failures in 30 requests until 60
requests in a row went well. So has each exception that a device refuses with.
"""

from collections import deque
from collections.abc import Callable, Iterable

from msgspec import Struct, field

from kanaleto.board.listener import Listener
from kanaleto.events.log import EventKind, length_text
from kanaleto.lines.outcome import OutcomeKind

LOST, DOWN = "lost", "down"
WINDOW, AGAIN, WELL = 30, 3, 60
"""Requests looked at; failures among them for an event; requests that went well for its end."""
_IN_A_ROW = 3  # failures in a row, of one that loses answers in any case, until it is an outage
_UNDECIDED_S = 10.0
_AFTER_S = 5.0  # what is late so soon after an outage is late for that
_WORDS = {
    OutcomeKind.TIMEOUT: (EventKind.UNANSWERED, "unanswered"),
    OutcomeKind.GARBLED: (EventKind.GARBLED, "garbled"),
    OutcomeKind.UNEXPECTED: (EventKind.STRANGE, "strange"),
    OutcomeKind.EXCEPTION: (EventKind.UNANSWERED, "unanswered, its gateway says"),
}
_NOT_SOUND = {OutcomeKind.GARBLED: EventKind.GARBLED, OutcomeKind.UNEXPECTED: EventKind.STRANGE}


class Loses(Struct, eq=False):
    """What one device loses now and then: the last requests (True: nothing came of it), since when, how many of how
    many since then, how many went well in a row; and its refusals, by code."""

    window: deque[bool] = field(default_factory=lambda: deque(maxlen=WINDOW))
    kind: OutcomeKind = OutcomeKind.TIMEOUT
    since_s: float | None = None
    failures: int = 0
    requests: int = 0
    well: int = 0
    unsettled: int = 0
    first_s: float = 0.0
    refusals: dict[int, "Refusals"] = field(default_factory=dict)


class Refusals(Struct, eq=False):
    """Of one code: how many of how many requests, and how many went well since."""

    what: str
    count: int = 0
    of: int = 0
    well: int = 0


class Failing(Struct, eq=False):
    """A device that fails: since when, why, how often it was asked since; whether it has an event; and whether nobody
    on the line has answered since then."""

    since_s: float
    why: str
    kind: OutcomeKind
    requests: int
    has_event: bool = False
    is_fresh: bool = True
    is_lasting: bool = False


class Outages:
    """Of one line. `polled` gives the devices that are asked by themselves, `watchdog_of` how long one bears to be left
    alone; times are loop times."""

    def __init__(
        self, line: str, listener: Listener, polled: Callable[[], Iterable[str]],
        watchdog_of: Callable[[str], float | None],
    ) -> None:  # fmt: skip
        self.line = line
        self._listener, self._polled, self._watchdog_of = listener, polled, watchdog_of
        self._loses: dict[str, Loses] = {}
        self._failing: dict[str, Failing] = {}
        self._group: list[str] = []
        """Who fails with no answer on the line in between, the first one first."""
        self._down_since_s: float | None = None
        self._connects = self._requests = 0
        self._under: dict[str, None] = {}
        self._left_alone: dict[str, None] = {}
        self._over_s = -1e9
        self.looks = False
        """Whether anything is amiss: while nothing is, answers need not be reported."""

    @property
    def is_line_out(self) -> bool:
        return self._down_since_s is not None

    def is_disturbed(self, now_s: float) -> bool:
        """Whether what is late now is late because of an outage."""
        return self.is_line_out or bool(self._failing) or now_s - self._over_s < _AFTER_S

    def explains(self, name: str, since_s: float) -> bool:
        """Whether an outage is why a device was left alone since then: its own, or that of others, whose timeouts take
        the line."""
        if self.is_line_out or name in self._failing or since_s < self._over_s:
            return True
        if self._failing:
            self._left_alone[name] = None
        return bool(self._failing)

    # What came of requests

    def tried(self, name: str, kind: OutcomeKind, sent_s: float) -> None:
        """Nothing came of one try, which may be mended by the next."""
        if kind is OutcomeKind.UNREACHABLE:
            return
        self.looks = True
        losses = self._loses_of(name)
        losses.first_s = losses.first_s if losses.unsettled else sent_s
        losses.unsettled += 1
        losses.kind = kind
        if self.is_line_out:
            self._requests += 1

    def _loses_of(self, name: str) -> Loses:
        losses = self._loses.get(name)
        if losses is None:
            losses = self._loses[name] = Loses()
        return losses

    def failed(self, name: str, now_s: float, why: str, kind: OutcomeKind) -> None:
        """Nothing came of a request, after all its tries."""
        self.looks = True
        losses = self._loses_of(name)
        failing = self._failing.get(name)
        if failing is None:
            if losses.since_s is not None and losses.unsettled < _IN_A_ROW:
                return  # it loses answers in any case
            failing = self._failing[name] = Failing(losses.first_s, why, kind, losses.unsettled)
        else:
            failing.requests += 1
            failing.is_lasting = True
            if failing.has_event and kind in _NOT_SOUND:
                self._listener.on_event(_NOT_SOUND[kind], self.line, name, why, going_on=LOST)
        self._place(name, failing, now_s)

    def _place(self, name: str, failing: Failing, now_s: float) -> None:
        """Whose outage it is."""
        if self.is_line_out:
            self._under[name] = None
            return
        if failing.has_event:
            pass
        elif not self._group:
            self._group = [name]
            self._begin_device(name, failing)
        elif name not in self._group:
            self._group.append(name)
        elif now_s - failing.since_s > _UNDECIDED_S:
            self._begin_device(name, failing)
        if name not in self._group:
            self._group.append(name)
        polled = set(self._polled())
        if polled and polled <= set(self._group):
            self._begin_line(self._group_since_s(now_s), f"nobody answers: {failing.why}")

    def _group_since_s(self, now_s: float) -> float:
        """Since when nobody answers any more."""
        fresh = [self._failing[name].since_s for name in self._group if self._failing[name].is_fresh]
        return min(fresh, default=now_s)

    def refused(self, name: str, code: int, what: str) -> None:
        """It refused; an answer all the same (`answered` is called too)."""
        self.looks = True
        losses = self._loses_of(name)
        found = losses.refusals.get(code)
        if found is None:
            found = losses.refusals[code] = Refusals(what)
        found.count += 1
        found.of += 1
        found.well = 0
        key = (EventKind.EXCEPTION, code)
        self._listener.on_event(EventKind.EXCEPTION, self.line, name, found.what, going_on=key)
        if found.count > 1:
            self._listener.change_event(self.line, name, key, f"{found.what}; {found.count} of {found.of} requests")

    def answered(self, name: str, at_s: float, is_good: bool, is_refusing: bool = False) -> None:
        """It answered. `is_refusing` while some block of it is refused, which holds its refusals open."""
        losses = self._loses_of(name)
        if self._failing or self._down_since_s is not None or self._group:
            self._settle(name, at_s)
        lost, losses.unsettled, losses.first_s = losses.unsettled, 0, 0.0
        if lost or losses.since_s is not None or True in losses.window:
            self._count(name, losses, lost, at_s)
        for code, found in list(losses.refusals.items()) if losses.refusals and is_good else ():
            found.of += 1
            found.well += 1
            if found.well >= WELL and not is_refusing:
                del losses.refusals[code]
                self._listener.end_event(self.line, name, (EventKind.EXCEPTION, code), is_since_last=True)
        if losses.since_s is None and not losses.refusals and True not in losses.window:
            del self._loses[name]
            self.looks = bool(self._loses or self._failing or self._group or self.is_line_out)

    def _count(self, name: str, losses: Loses, lost: int, at_s: float) -> None:
        """A request was answered, after so many tries that were not."""
        losses.window.extend([True] * min(lost, WINDOW))
        losses.window.append(False)
        losses.well = 0 if lost else losses.well + 1
        losses.requests += 1 + lost
        if losses.since_s is None:
            failures = sum(losses.window)
            if lost and failures >= AGAIN:
                losses.since_s, losses.failures, losses.requests = at_s, failures, len(losses.window)
                self._tell_loses(name, losses, is_new=True)
        elif lost:
            losses.failures += lost
            self._tell_loses(name, losses, is_new=False)
        elif losses.well >= WELL:
            losses.since_s = None
            losses.window.clear()
            self._listener.end_event(self.line, name, "loses", is_since_last=True)

    def _tell_loses(self, name: str, losses: Loses, is_new: bool) -> None:
        kind, word = _WORDS.get(losses.kind, _WORDS[OutcomeKind.TIMEOUT])
        often = max(round(losses.requests / max(losses.failures, 1)), 1)
        text = f"1 in {often} {word}: {losses.failures} of {losses.requests} requests"
        self._listener.on_event(kind, self.line, name, text, going_on="loses")
        if not is_new:
            self._listener.change_event(self.line, name, "loses", text)

    # Beginning and end

    def _begin_device(self, name: str, failing: Failing) -> None:
        failing.has_event = True
        kind = _NOT_SOUND.get(failing.kind, EventKind.DEVICE_LOST)
        text = failing.why if failing.kind in _NOT_SOUND else f"fell silent: {failing.why}"
        self._listener.on_event(kind, self.line, name, text, going_on=LOST, at_s=failing.since_s)

    def _begin_line(self, since_s: float, why: str) -> None:
        """The events of devices that led to it become this one."""
        self._down_since_s = since_s
        self._under = dict.fromkeys(self._group)
        self._connects, self._requests = 0, sum(failing.requests for failing in self._failing.values())
        # who was away before goes on being away
        with_event = [name for name in self._group if self._failing[name].has_event and self._failing[name].is_fresh]
        data: dict[str, object] = {"devices": list(self._under)}
        if with_event:
            self._listener.widen_event(self.line, with_event[0], LOST, DOWN, why, data, since_s)
            for name in with_event[1:]:
                self._listener.end_event(self.line, name, LOST, f"part of the outage of {self.line}")
            for name in with_event:
                self._failing[name].has_event = False
        else:
            self._listener.on_event(EventKind.LINE_DOWN, self.line, "", why, going_on=DOWN, at_s=since_s, data=data)

    def down(self, why: str, now_s: float) -> None:
        """The connection could not be made, or was lost."""
        if self.is_line_out:
            self._connects += 1
            return
        self.looks = True
        self._begin_line(self._group_since_s(now_s), why)
        self._connects = 1

    def connected(self, now_s: float) -> None:
        """A connection alone is no answer; where nobody is polled it is all that can be known."""
        if self.is_line_out and not any(True for _ in self._polled()):
            self._end_line(now_s)

    def _settle(self, name: str, at_s: float) -> None:
        """Somebody answers: the line's outage is over, and who failed with others has an outage of its own."""
        if self.is_line_out:
            self._end_line(at_s)
        if name in self._failing:
            failing = self._failing.pop(name)
            if failing.has_event:
                self._end_device(name, failing, at_s)
            if failing.is_lasting:  # one request alone is counted with those that are lost now and then
                losses = self._loses_of(name)
                losses.unsettled = 0
                losses.window.clear()
        for other in self._group:
            failing_other = self._failing.get(other)
            if failing_other is not None and not failing_other.has_event:
                self._begin_device(other, failing_other)
        for failing in self._failing.values():
            failing.is_fresh = False
        self._group = []
        self._over_s = at_s if not self._failing else self._over_s

    def _end_device(self, name: str, failing: Failing, at_s: float) -> None:
        lasted_s = at_s - failing.since_s
        text = f"for {length_text(lasted_s)}; {failing.requests} requests unanswered{self._watchdogs([name], lasted_s)}"
        self._listener.end_event(self.line, name, LOST, text)

    def _end_line(self, at_s: float) -> None:
        since_s = self._down_since_s or at_s
        under = list(self._under) or list(self._polled())
        names = ", ".join(under[:6]) + (f" and {len(under) - 6} more" if len(under) > 6 else "") or "no device"
        tried = [f"{self._requests} requests"] if self._requests else []
        tried += [f"{self._connects} connects"] if self._connects else []
        lasted_s = max(at_s - since_s, 0.0)
        text = (
            f"for {length_text(lasted_s)}; with it {names}; tried: {', '.join(tried) or 'nothing'}"
            f"{self._watchdogs(self._polled(), lasted_s)}"
        )
        self._listener.end_event(self.line, "", DOWN, text)
        self._down_since_s = None
        self._failing = {name: failing for name, failing in self._failing.items() if failing.has_event}
        self._group = []
        self._under = {}
        self._over_s = at_s
        for losses in self._loses.values():
            losses.unsettled, losses.first_s = 0, 0.0
            losses.window.clear()

    def _watchdogs(self, names: Iterable[str], lasted_s: float) -> str:
        """Whose watchdog it was too long for."""
        alone, self._left_alone = list(self._left_alone), {}
        short = [name for name in names if (self._watchdog_of(name) or lasted_s) < lasted_s]
        short += [name for name in alone if name not in short]
        if not short:
            return ""
        more = f" and {len(short) - 4} more" if len(short) > 4 else ""
        return f"; longer than the watchdog of {', '.join(short[:4])}{more}"

    # Devices that come and go

    def forget(self, name: str) -> None:
        losses = self._loses.pop(name, None)
        failing = self._failing.pop(name, None)
        self._group = [other for other in self._group if other != name]
        self._under.pop(name, None)
        if failing is not None and failing.has_event:
            self._listener.end_event(self.line, name, LOST)
        if losses is not None and losses.since_s is not None:
            self._listener.end_event(self.line, name, "loses")
        for code in losses.refusals if losses is not None else ():
            self._listener.end_event(self.line, name, (EventKind.EXCEPTION, code))

    def rename(self, old: str, new: str) -> None:
        if old in self._loses:
            self._loses[new] = self._loses.pop(old)
        if old in self._failing:
            self._failing[new] = self._failing.pop(old)
        if old in self._under:
            self._under[new] = self._under.pop(old)
        self._group = [new if name == old else name for name in self._group]
