"""Block after block without a task in between: an answer's bytes lead straight to the next request, as long as
something is due."""

import asyncio
from typing import Protocol

from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.polling.schedule import Job
from kanaleto.site.model import Device
from kanaleto.wire.pdu import Request

SETTLED = (OutcomeKind.GOOD, OutcomeKind.EXCEPTION, OutcomeKind.UNREACHABLE)
"""Outcomes after which the same request is not tried again."""


class Polled(Protocol):
    """What a chain needs of its line's poller."""

    exchanger: Exchanger

    def count(self, device: Device | None, request: Request, outcome: Outcome, attempt: int) -> None: ...

    def next_at_once(self, now: float) -> Job | None: ...

    @property
    def has_urgent(self) -> bool: ...


class Judges(Protocol):
    """What a chain needs of who judges its outcomes."""

    def begin(self, job: Job, now: float) -> int: ...

    def judge(self, job: Job, outcome: Outcome, start_s: float) -> None: ...


class Chain:
    """`ended` is done when nothing more is due at once, or the line is lost; or, with `is_paused`, when something
    urgent goes before the next try."""

    __slots__ = ("_attempt", "_job", "_judgement", "_poller", "_start_s", "_tries", "ended", "is_paused")

    def __init__(self, poller: Polled, judgement: Judges, ended: asyncio.Future[None]) -> None:
        self._poller, self._judgement = poller, judgement
        self.ended = ended
        self.is_paused = False

    def go_on(self, ended: asyncio.Future[None]) -> None:
        """The next try, after a pause."""
        self.ended, self.is_paused = ended, False
        self._ask()

    def begin(self, job: Job, now: float) -> None:
        self._job, self._attempt, self._start_s = job, 0, now
        self._tries = self._judgement.begin(job, now)
        self._ask()

    def _ask(self) -> None:
        block = self._job.block
        device = self._job.state.device
        self._poller.exchanger.start(device.unit_id, block.request, device.timeout_s, block.pdu, self._done)

    def _done(self, outcome: Outcome) -> None:
        try:
            self._go_on(outcome)
        except (
            Exception
        ) as error:  # an internal error: it belongs to the line's task, not to whoever delivered the bytes
            if self.ended.done():
                raise
            self.ended.set_exception(error)

    def _go_on(self, outcome: Outcome) -> None:
        poller, job = self._poller, self._job
        if self.ended.done():  # polling was stopped
            job.is_running = False
            return
        poller.count(job.state.device, job.block.request, outcome, self._attempt)
        self._attempt += 1
        if outcome.kind not in SETTLED and self._attempt < self._tries:
            if poller.has_urgent:
                self.is_paused = True
                self.ended.set_result(None)
            else:
                self._ask()
            return
        self._judgement.judge(job, outcome, self._start_s)
        job.is_running = False
        following = None if outcome.kind is OutcomeKind.UNREACHABLE else poller.next_at_once(outcome.done_at)
        if following is not None:
            self.begin(following, outcome.done_at)
        else:
            self.ended.set_result(None)
