"""Which units answer on a line: each is asked one read, and what comes back tells whether somebody is there.

An exception is an answer. A garbled answer is asked again, alone and after a silence: when it never comes clean, two
devices probably share the unit ID. A gateway's 0A or 0B says that nobody is there. A frame of another unit than was
asked came late: that one is asked again with the full timeout; where the transaction tells whose it is, it is that
unit's answer. A gateway works through what waits there one by one: once answers come late, its queue is let drain, and
who was silent is asked again alone. Such a gateway may say nothing for whoever is not there: as long as nobody on a
network has answered, four are asked a second. Some slaves want more silence between frames than the standard: who was
silent right behind an answer of another is asked again after a rest. Where every unit ID gets the same answer, the
device does not look at it. On a serial line the survey first listens a moment: whoever talks there already is reported,
and not talked over.
"""

import asyncio
from collections.abc import Callable, Iterable

from msgspec.structs import replace

from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.identify import identify
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.probing.pace import Pace
from kanaleto.probing.question import Never, first_question
from kanaleto.probing.unitstates import LineLost, SurveyStopped, UnitFound, UnitState
from kanaleto.wire.frames import Frame
from kanaleto.wire.pdu import PduError, Refused, Request, mismatch, parse_answer

ALL_UNITS = range(1, 248)
MOST_IN_FLIGHT = 8
_ALONE = 3  # units that are asked one by one before several are
_FIRST_LOOK_S = 3.0  # that an answer to these is waited for, where none came
_AGAIN = 3  # times that a garbled answer is asked again
_NOISE_UNITS, _NOISE_SHARE = 8, 0.5  # so many garbled units, and that share of those asked: it is the line
_ANY_UNITS = 24  # so many units asked, all of them answering alike: the unit ID does not matter
_SILENT_ALONE = 3  # so many of those silent among others are silent alone too: the others need not be asked again
_MORE_BYTES = 4
_BLIND = 16  # questions that nobody answered: it may be a gateway that queues them, and says nothing
_BLIND_EACH_S = 0.25  # from one question to the next then
_LATE_S = 0.5  # a unit that answers after so long is slow
_DRAIN_S, _DRAIN_EACH_S = 10.0, 3.0  # a gateway's queue is waited for so long at most, and for each that waits there
_LONG_S = 3.0  # a wait that is said
_QUEUED_EACH_S = 1.2  # a question for a unit that is not there keeps a gateway no longer
_GRACE_S, _GRACE_EACH_S, _MOST_GRACE_S = 0.4, 0.3, 75.0  # for late answers to the last, and for each asked in vain
LISTEN_S = 0.3
REST_S = 0.08  # of silence before a unit is asked again that was silent right behind another's answer
_MOST_REST_TIMEOUT_S = 0.3


class UnitSurvey:
    """`states` is indexed by unit ID; `found`, `asked`, `note` and the rest may be read from any thread while it
    runs."""

    def __init__(
        self,
        exchanger: Exchanger,
        units: Iterable[int] = ALL_UNITS,
        timeout_s: float = 0.3,
        never: Never = (),
        listen_s: float = LISTEN_S,
        asks_identity: bool = True,
        pause_s: float = 0.0,
        on_step: Callable[["UnitSurvey"], None] | None = None,
        question: Request | None = None,
        steady_s: float | None = None,
        gateway_s: float = 0.0,
        slice_end_s: float | None = None,
    ) -> None:
        """`gateway_s`: how long a gateway is known to take for a unit that is not there: then one at a time. Where it
        is so, and somebody was found, it ends at loop time `slice_end_s`, and others have no turn yet."""
        self.units = tuple(dict.fromkeys(units))
        self.states = [UnitState.UNASKED] * 256
        self.found: dict[int, UnitFound] = {}
        self.asked = 0
        self.asking = 0
        self.note = ""
        self.answers_any = False
        self.pace = Pace(timeout_s, steady_s=steady_s)
        self._could_be_late = round(_LATE_S / steady_s) if steady_s else 1
        self.outcomes: list[tuple[Outcome, float]] = []  # with the timeout in force
        self._exchanger = exchanger
        self._question: Request = question or first_question(never)
        self._listen_s = listen_s
        self._asks_identity = asks_identity
        self._pause_s = pause_s
        self._on_step = on_step
        self._again: list[int] = []
        self._had_no_turn: list[int] = []
        self._had_no_rest: list[int] = []
        self._has_answered = False
        self.again_left = 0
        self.waits_for = ""
        """What is waited for before there is a verdict, in words."""
        self.waits_s = self.waited_s = 0.0
        self.needs_rest: set[int] = set()  # units that answer only after a rest
        self.gateway_s, self._slice_end_s, self.has_sliced = gateway_s, slice_end_s, False
        if gateway_s:
            self.pace.note_late(gateway_s)
        self._came_late = 0
        self._blind, self._blind_until_s = 0, 0.0
        self._overruns_gateway = False
        self._has_transactions = exchanger.framing.has_transactions
        if not self._has_transactions and not all(1 <= unit <= 247 for unit in self.units):
            raise ValueError("units on a serial line are 1…247; 0 would be a broadcast, and nobody answers one")

    @property
    def left_s(self) -> float:
        """About how long it still takes, when nobody more answers: those that were not asked yet, and those that are
        asked once more."""
        left = len(self.units) - self.asked
        each_s = self.pace.timeout_s + 12 * self._exchanger.channel.character_s
        if not self._has_transactions:
            again = self.again_left or len(set(self._again)) + len(self._had_no_rest)
            return left * each_s + again * (REST_S + self.pace.longest_s)
        if self._came_late:  # its queue is let drain, and each silent one is asked alone
            silent = self.again_left or sum(state is UnitState.SILENT for state in self.states)
            return left * each_s + silent * self.pace.longest_s
        again = self.again_left or min(len(self._had_no_turn), _SILENT_ALONE) + len(set(self._again))
        each_s /= MOST_IN_FLIGHT
        if self._is_blind:
            each_s = max(each_s, _BLIND_EACH_S)
        return left * each_s + again * self.pace.longest_s + self.waits_s

    async def run(self) -> dict[int, UnitFound]:
        """Ask them all. Raises SurveyStopped when the line is lost, or is no place to ask anything."""
        self._exchanger.on_late = self._take_late
        try:
            return await self._run()
        finally:
            self._exchanger.on_late = None

    async def _run(self) -> dict[int, UnitFound]:
        if not self._has_transactions and self._listen_s:
            await self._listen()
        if self._has_transactions:
            await self._ask_at_once()
        else:
            for unit in self.units:
                await self._ask_one(unit)
            await self._hear_the_last()
        again = list(dict.fromkeys(self._again))
        for at, unit in enumerate(again):
            self.again_left = len(again) - at + len(self._had_no_rest)
            await self._ask_again(unit)
        await self._ask_rested()
        self.again_left = 0
        if not self._has_transactions:
            await self._look_for_twins()
        if self.waited_s >= _LONG_S and self._has_transactions:
            self.note = f"waited {self.waited_s:.0f} s until a gateway had worked through what was asked of it"
        if self.answers_any:
            self.note = "every unit ID gets an answer: this device does not look at it"
        elif not self.found and any(state is UnitState.NOBODY for state in self.states):
            self.note = "a gateway answers, and says of every unit asked that nobody is there"
        if self._asks_identity:
            await self._identify()
        return self.found

    async def _listen(self) -> None:
        strays = self._exchanger.traffic
        before = strays.received
        await asyncio.sleep(self._listen_s)
        heard = strays.received - before
        if heard:
            raise SurveyStopped(
                f"somebody talks on this line already: {heard} bytes came in {self._listen_s:g} s without a question;"
                " listen first, or take the other master off"
            )

    async def _ask_at_once(self) -> None:
        """Several at a time, once the first answers have shown that the far end is quick with them."""
        waiting, lost = list(reversed(self.units)), None
        for _ in range(min(_ALONE, len(waiting))):
            await self._ask_one(waiting.pop())
        if not self._came_late and not self.gateway_s:
            await self._wait_for_slow_gateway()
        while waiting and (self.gateway_s or self._came_late):
            await self._ask_one(waiting.pop())
            if waiting and self._ends_here:
                return
        if self.gateway_s:
            self._came_late = 0

        async def work(number: int) -> None:
            while waiting and not self._came_late and not self.answers_any:
                if number and self._overruns_gateway:
                    return
                if self._ends_here:
                    return
                await self._wait_where_blind()
                if not waiting or self._came_late:
                    return
                await self._ask_one(waiting.pop(), is_alone=self._overruns_gateway)

        try:
            async with asyncio.TaskGroup() as group:
                for number in range(1 if self._pause_s else MOST_IN_FLIGHT):
                    group.create_task(work(number))
        except* SurveyStopped as stopped:  # the line is lost to all of them
            lost = stopped.exceptions[0]
        if lost is not None:
            raise lost
        if self.has_sliced:
            return
        if not self._came_late:
            await self._hear_the_last()
        if not self._came_late:
            await self._ask_silent_alone()
        if self._came_late and not self.answers_any:
            await self._drain()
            silent = [unit for unit in self.units if self.states[unit] is UnitState.SILENT]
            for at, unit in enumerate(silent):
                self.again_left = len(silent) - at
                if self._ends_here:  # it had its turn in the queue: it is asked another way later
                    break
                self._judge(unit, await self._ask(unit, self.pace.timeout_s))
            self.again_left = 0
            while waiting:
                if self._ends_here:
                    return
                await self._ask_one(waiting.pop())
            await self._hear_the_last()

    @property
    def _is_blind(self) -> bool:
        return UnitState.NOBODY not in self.states and (not self.found or self._blind >= _BLIND)

    async def _wait_where_blind(self) -> None:
        """As long as nobody has answered, no question goes sooner after another than a gateway works it off; where that
        took long, it may be such a gateway."""
        if not self._is_blind:
            return
        self._blind += 1
        now_s = asyncio.get_running_loop().time()
        begin_s = max(now_s, self._blind_until_s)
        self._blind_until_s = begin_s + _BLIND_EACH_S
        await asyncio.sleep(begin_s - now_s)

    @property
    def _ends_here(self) -> bool:
        """Whether its slice is over, and somebody was found to go on with meanwhile."""
        is_over = self._slice_end_s is not None and asyncio.get_running_loop().time() >= self._slice_end_s
        self.has_sliced = self.has_sliced or (is_over and bool(self.found))
        return self.has_sliced

    async def _wait_for_slow_gateway(self) -> None:
        """The first were asked alone, and nothing came: a gateway may be slow to say that they are not there. Others
        would only wait in its queue."""
        if any(state is not UnitState.SILENT for state in self.states if state is not UnitState.UNASKED):
            return
        loop = asyncio.get_running_loop()
        end_s = loop.time() + _FIRST_LOOK_S
        while not self._came_late and loop.time() < end_s:
            await asyncio.sleep(0.05)

    async def _ask_rested(self) -> None:
        """Who was silent right behind an answer of another, after a silence on the line."""
        silent = [unit for unit in self._had_no_rest if self.states[unit] is UnitState.SILENT]
        for at, unit in enumerate(silent):
            self.again_left = len(silent) - at
            await asyncio.sleep(REST_S)
            outcome = await self._ask(unit, min(self.pace.longest_s, _MOST_REST_TIMEOUT_S))
            if outcome.is_answer:
                self.needs_rest.add(unit)
            self._judge(unit, outcome)

    async def _hear_the_last(self) -> None:
        """Whoever was asked last may be only slow. A gateway may still be busy with what waits there: it is known to be
        through once a unit that answers, asked behind the rest, has answered. Where nothing came at all there is none
        such, and it is waited as long as so many questions may take."""
        silent = sum(state is UnitState.SILENT for state in self.states)
        if not silent:
            return
        if self._has_transactions and (there := self._somebody()) is not None:
            self.waits_for, began_s = "what waits at the gateway", asyncio.get_running_loop().time()
            await self._ask(there, _DRAIN_S + _QUEUED_EACH_S * silent)
            self._note_waited(began_s)
            return
        came = self.found or UnitState.NOBODY in self.states or not self._has_transactions
        grace_s = _GRACE_S if came else min(_GRACE_S + _GRACE_EACH_S * silent, _MOST_GRACE_S)
        loop = asyncio.get_running_loop()
        began_s, before = loop.time(), self._exchanger.traffic.strays.late
        self.waits_for = "" if came else "a gateway that may still be busy with the first"
        while (left_s := began_s + grace_s - loop.time()) > 0:
            self.waits_s = left_s
            if self.waits_for and self._on_step is not None:
                self._on_step(self)
            await asyncio.sleep(0.05)
            if self._exchanger.traffic.strays.late > before:
                if not self._has_transactions:
                    self.pace.note_late()
                    self._again.append(self._exchanger.traffic.strays.late_unit_id or self.asking)
                break
        self._note_waited(began_s)

    def _note_waited(self, began_s: float) -> None:
        self.waited_s += asyncio.get_running_loop().time() - began_s
        self.waits_for, self.waits_s = "", 0.0

    def _somebody(self) -> int | None:
        """A unit that answers."""
        return next((unit for unit, found in self.found.items() if found.state is not UnitState.GARBLED), None)

    async def _drain(self) -> None:
        """Wait until a gateway has worked through what waits there: until a unit that answers does, or nothing comes
        late any more. What it takes alone is learned again."""
        there = self._somebody()
        loop = asyncio.get_running_loop()
        drain_s = _DRAIN_S + _DRAIN_EACH_S * sum(state is UnitState.SILENT for state in self.states)
        self.waits_for, drained_s = "what waits at the gateway", loop.time()
        if there is not None:
            await self._ask(there, drain_s)
            self._note_waited(drained_s)
            alone = await self._ask(there, _DRAIN_S)
            self.pace.begin_again()
            silent = next((unit for unit in self.units if self.states[unit] is UnitState.SILENT), None)
            if silent is not None:  # how long the gateway waits for one that is not there
                began_s = loop.time()
                self._judge(silent, await self._ask(silent, self.pace.timeout_s))
                await self._ask(there, _DRAIN_S)
                self.pace.note_late(loop.time() - began_s - alone.took_s)
        else:
            late, end_s = -1, loop.time() + drain_s
            while late != self._came_late and loop.time() < end_s:
                late = self._came_late
                await asyncio.sleep(2 * self.pace.longest_s)
            self._note_waited(drained_s)
            self.pace.begin_again()

    def _take_late(self, frame: Frame, took_s: float) -> None:
        """An answer that had been given up: its transaction tells whose it is."""
        unit = frame.unit_id
        if self.states[unit] is not UnitState.SILENT:
            return
        self._came_late += 1
        self.pace.note_late(took_s)
        try:
            content = parse_answer(frame.pdu)
            wrong = mismatch(self._question, content)
        except PduError as error:
            wrong = str(error)
        if wrong is not None:
            self._again.append(unit)
            return
        kind = OutcomeKind.EXCEPTION if isinstance(content, Refused) else OutcomeKind.GOOD
        reason = f"exception {content.code}: {content.text}" if isinstance(content, Refused) else ""
        now = asyncio.get_running_loop().time()
        sent = now - took_s
        outcome = Outcome(kind, unit, b"", frame.raw, content, sent, sent, now, now, reason)
        if outcome.is_of_gateway:
            self.states[unit] = UnitState.NOBODY
            self.gateway_s = min(self.gateway_s or took_s, took_s)  # the others waited behind it
        else:
            self._note(unit, outcome)

    async def _ask_silent_alone(self) -> None:
        """A gateway works through what waits one by one: who was silent may only have had no turn. The first few
        tell."""
        if not self._had_no_turn:
            return
        still = 0
        await asyncio.sleep(MOST_IN_FLIGHT * self.pace.longest_s)  # what still waits there has had its turn by then
        for unit in self._had_no_turn:
            outcome = await self._ask(unit, self.pace.longest_s)
            self._judge(unit, outcome)
            still = still + 1 if outcome.kind is OutcomeKind.TIMEOUT else 0
            if still >= _SILENT_ALONE:
                return

    async def _ask(self, unit: int, timeout_s: float) -> Outcome:
        if self._pause_s:
            await asyncio.sleep(self._pause_s)
        outcome = await self._exchanger.ask(unit, self._question, timeout_s)
        if outcome.kind is OutcomeKind.UNREACHABLE:
            raise LineLost(f"the line was lost at unit {unit}: {outcome.reason}")
        self.outcomes.append((outcome, timeout_s))
        return outcome

    async def _ask_one(self, unit: int, is_alone: bool = True) -> None:
        before, late = self.asking, self._exchanger.traffic.strays.late
        self.asking = unit
        outcome = await self._ask(unit, self.pace.timeout_s)
        if not self._has_transactions and self._exchanger.traffic.strays.late > late:  # the one before was only slow
            self.pace.note_late()
            self._again.append(self._exchanger.traffic.strays.late_unit_id or before)
        if outcome.kind is OutcomeKind.TIMEOUT and not is_alone:
            self._had_no_turn.append(unit)
            self._overruns_gateway = self._overruns_gateway or UnitState.NOBODY in self.states
        if outcome.kind is OutcomeKind.TIMEOUT and self._has_answered and not self._has_transactions:
            self._had_no_rest.append(unit)
        self._has_answered = outcome.is_answer
        self.asked += 1
        self._judge(unit, outcome)
        if self._on_step is not None:
            self._on_step(self)

    def _judge(self, unit: int, outcome: Outcome) -> None:
        kind = outcome.kind
        if kind is OutcomeKind.TIMEOUT:
            self.states[unit] = UnitState.SILENT
        elif outcome.is_of_gateway:
            self.states[unit] = UnitState.NOBODY
            self.pace.note_answer(outcome.took_s)  # or what it says of the next would come late
        elif kind in (OutcomeKind.GOOD, OutcomeKind.EXCEPTION):
            self.pace.note_answer(outcome.first_at - outcome.sent_at if outcome.first_at else outcome.took_s)
            self._note(unit, outcome)
        else:
            self._judge_strange(unit, outcome)
        somebody = [state for state in self.states if state is UnitState.GOOD]
        if len(somebody) == self.asked >= _ANY_UNITS and len({found.answer[-2:] for found in self.found.values()}) == 1:
            self.answers_any = True

    def _judge_strange(self, unit: int, outcome: Outcome) -> None:
        """A garbled answer, or a sound frame of somebody else: both are asked again when all have had their turn."""
        self.states[unit] = UnitState.GARBLED
        at = self.units.index(unit)
        could_be = self._could_be_late if outcome.kind is OutcomeKind.GARBLED else 1
        self._again += self.units[max(at + 1 - could_be, 0) : at + 1]
        if outcome.kind is OutcomeKind.UNEXPECTED:
            self.states[unit] = UnitState.SILENT
            if outcome.answer.startswith(outcome.request):
                self.note = outcome.reason
                return
            if not self._has_transactions:
                is_ascii = outcome.answer[:1] == b":"
                self._again.append(int(outcome.answer[1:3], 16) if is_ascii else outcome.answer[0])
            self.pace.note_late()
        garbled = sum(state is UnitState.GARBLED for state in self.states)
        if garbled >= _NOISE_UNITS and garbled > _NOISE_SHARE * self.asked:
            raise SurveyStopped(
                f"the line is full of noise: {garbled} of {self.asked + 1} units gave bytes that are no frame;"
                " check the settings, the bias and termination, and the wires"
            )

    def _note(self, unit: int, outcome: Outcome, text: str = "") -> None:
        took = f"{1000 * outcome.took_s:.1f} ms"
        if outcome.kind is OutcomeKind.GOOD:
            said = text or f"answers in {took}"
            self.states[unit] = UnitState.GOOD
        else:
            said = text or f"answers in {took} with {outcome.reason}"
            self.states[unit] = UnitState.EXCEPTION
        self.found[unit] = UnitFound(unit, self.states[unit], outcome.took_s, outcome.answer, said)

    async def _ask_again(self, unit: int) -> None:
        """Alone, and after a silence in which whatever was late has passed."""
        if unit not in range(256) or (not self._has_transactions and not 1 <= unit <= 247):
            return
        outcomes: list[Outcome] = []
        for _ in range(_AGAIN):
            await asyncio.sleep(self.pace.longest_s if outcomes or not self.pace.is_steady else self.pace.timeout_s)
            outcome = await self._ask(unit, self.pace.longest_s)
            outcomes.append(outcome)
            if outcome.is_of_gateway:
                self.states[unit] = UnitState.NOBODY
                return
            if outcome.kind is OutcomeKind.TIMEOUT and self.pace.is_steady and self.states[unit] is UnitState.SILENT:
                return
            if outcome.kind in (OutcomeKind.GOOD, OutcomeKind.EXCEPTION):
                text = (
                    ""
                    if len(outcomes) == 1
                    else f"answers, {len(outcomes) - 1} of {len(outcomes)} times garbled: the wires or the settings"
                )
                self._note(unit, outcome, text)
                return
        garbled = [outcome for outcome in outcomes if outcome.kind is OutcomeKind.GARBLED]
        if not garbled:
            self.states[unit] = UnitState.SILENT
            self.found.pop(unit, None)
            return
        last = garbled[-1]
        if len(garbled) < len(outcomes):
            self.states[unit] = UnitState.GARBLED
            text = f"garbled {len(garbled)} of {len(outcomes)} times, else silent: noise, or a device at other settings"
        else:
            self.states[unit] = UnitState.SHARED
            text = f"garbled every time ({last.reason}): two devices may share this unit ID; unplug one and ask again"
        self.found[unit] = UnitFound(unit, self.states[unit], last.took_s, last.answer, text)

    async def _look_for_twins(self) -> None:
        """Two devices of one unit ID that answer one after the other: a second sound answer comes, that nobody waits
        for."""
        for unit, found in list(self.found.items()):
            if found.state not in (UnitState.GOOD, UnitState.EXCEPTION):
                continue
            before = self._exchanger.traffic.strays
            late, unasked, stray = before.late, before.unasked, before.bytes
            outcome = await self._ask(unit, self.pace.longest_s)
            await asyncio.sleep(2 * self.pace.slowest_s + 0.02)
            strays = self._exchanger.traffic.strays
            is_twice = strays.late > late or strays.unasked > unasked or strays.bytes >= stray + _MORE_BYTES
            if is_twice or outcome.kind is OutcomeKind.GARBLED:
                text = "more came than one answer: two devices share this unit ID; unplug one and ask again"
                if not is_twice:
                    text = (
                        "answers clean once and garbled once: two devices may share this unit ID, or the wires are bad"
                    )
                self.states[unit] = UnitState.SHARED
                self.found[unit] = replace(found, state=UnitState.SHARED, text=text)

    async def _identify(self) -> None:
        for unit, found in list(self.found.items())[: 1 if self.answers_any else None]:
            if found.state in (UnitState.GOOD, UnitState.EXCEPTION):
                identification = await identify(self._exchanger, unit, self.pace.longest_s, retries=0)
                if identification.objects or identification.server_id:
                    self.found[unit] = replace(found, identity=identification)
