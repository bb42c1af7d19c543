"""An unknown line, from nothing to what stands on it: its settings, its units, their registers in turns, and samples of
all that reads, within the time that is given.

Each stage takes what it needs, and leaves time for what comes after; what was not looked at is known at the end
(`not_looked_at`), and so is what the next minutes would be spent on. A line on which somebody talks already is not
talked over. It only reads: functions 01 to 04, 11 and 2B/0E.
"""

import asyncio
from collections.abc import Awaitable, Sequence
from enum import Enum
from typing import Any

from msgspec.structs import replace

from kanaleto.lines.identify import Identification, identify
from kanaleto.lines.outcome import Outcome
from kanaleto.probing.gently import PER_S, Gently
from kanaleto.probing.portsettings import SettingsSurvey
from kanaleto.probing.question import MayNotTouch, Never, Opener, survey_exchanger
from kanaleto.probing.units import ALL_UNITS, UnitSurvey
from kanaleto.probing.unitstates import LineLost, SurveyStopped, UnitFound, UnitState
from kanaleto.site.links.link import FramingKind, Link
from kanaleto.unknown.knownmaps import KnownMaps
from kanaleto.unknown.reopened import Reopened
from kanaleto.unknown.sampling import Samples
from kanaleto.unknown.turns import Turns
from kanaleto.wire.identity import Depth, Identify
from kanaleto.wire.pdu import Request

LISTEN_S = 2.0
SAMPLES = 20
_UNIT_TIMEOUT_S, _UNIT_WAIT_S = 0.6, 0.04
_LONGER_S = 0.04  # of pause beside that, for those that were silent: some slaves want a rest between frames
_SETTINGS_SHARE = 0.8  # of the time
# of what is left then: for all units, for the silent ones once more, for those that had no turn yet
_UNITS_SHARE, _SECOND_SHARE, _REST_SHARE = 0.4, 0.25, 0.35
_SAMPLED_SHARE = 0.2
_APART_S = 1.0  # between two samples at the end
_ROUNDS = 20
# of the time that is left, until it is looked what else there is to do
_SLICE, _SLICE_BEFORE_UNITS, _SLICE_BEFORE_SILENT = 0.5, 0.08, 0.06
_SLOW_S = 1.5  # that a gateway takes for each unit that is not there: units have a share of the time, and no more
_SLICE_S = 20.0  # where the time has no end
_FIRST_UNITS_S = 30.0  # then registers of those that answer have a turn, so that there is something to work with
_LOST_SHARE = 0.4  # of the time that is left when registers are looked for: then lost answers are asked for again
_LEAST_LEFT_S, _LEAST_TIMEOUT_S = 0.5, 0.2
_QUICK_SHARE = 0.25  # of the time: units that took no longer are asked a second way on a gateway too
_REOPENED = 5  # times in a row that a line is opened again for its units in vain
_ASKED = (UnitState.GOOD, UnitState.EXCEPTION)


class Stage(Enum):
    """The value is the word for people."""

    WAITING = "waiting"
    SETTINGS = "trying settings"
    UNITS = "asking units"
    REGISTERS = "looking for registers"
    SAMPLES = "reading it all again and again"
    OVER = "over"


class Everything:
    """`stage`, `link` (with its settings once they are found), `settings`, `units`, `turns` and `notes` may be read
    from any thread while it runs."""

    def __init__(
        self, link: Link, knows_settings: bool = True, within_s: float | None = None, never: Never = (),
        opener: Opener = survey_exchanger, timeout_s: float | None = None, known_maps: KnownMaps | None = None,
        with_every: bool = False, per_s: float = PER_S,
    ) -> None:  # fmt: skip
        self.link = link
        self.knows_settings = knows_settings or not link.is_serial
        self.within_s = within_s
        self.stage = Stage.WAITING
        self.settings: SettingsSurvey | None = None
        self.units: UnitSurvey | None = None
        self.turns: Turns | None = None
        self.found: dict[int, UnitFound] = {}
        self.says: dict[int, str] = {}
        self.settings_turns = 0  # that were asked in vain
        self.asked_units: set[int] = set()
        self._units_s = 0.0  # spent on units
        self._gateway_s = 0.0  # that a gateway takes for a unit that is not there, where answers came late
        self._silent_before: list[int] = []
        self._silent: list[int] = []  # that are asked another way once registers were looked for
        self.states = [UnitState.UNASKED] * 256
        self.notes: list[str] = []
        self.stopped = ""
        self.rest_s = 0.0  # of silence between frames that devices here need, beyond the standard's
        self.never = never
        self._opener = opener
        self._timeout_s = timeout_s
        self._known_maps = known_maps or KnownMaps()
        self._with_every = with_every
        self._began_s = self.took_s = 0.0
        self.gently = Gently(link, per_s)

    # How far it is

    @property
    def began_s(self) -> float:
        """By the loop's time; 0 before it has begun."""
        return self._began_s

    @property
    def is_over(self) -> bool:
        return self.stage is Stage.OVER

    @property
    def asked(self) -> int:
        """Requests so far."""
        of_settings = self.settings.asked if self.settings is not None else 0
        return of_settings + len(self.asked_units) + (self.turns.asked if self.turns is not None else 0)

    @property
    def items(self) -> int:
        return self.turns.items if self.turns is not None else 0

    def left_s(self, now_s: float) -> float:
        """About how long it still takes."""
        whole_s = max(self._began_s + self.within_s - now_s, 0.0) if self.within_s is not None else None
        if self.turns is not None and self.turns.units:
            left_s = self.turns.left_s
            return left_s if whole_s is None else min(whole_s, left_s)
        if whole_s is not None:
            return whole_s
        if self.stage is Stage.SETTINGS and self.settings is not None:
            return self.settings.left_s
        return self.units.left_s if self.units is not None else 0.0

    def share(self, now_s: float) -> float:
        """How much of it is behind, 0…1."""
        if self.is_over:
            return 1.0
        passed_s = now_s - self._began_s
        return passed_s / max(passed_s + self.left_s(now_s), 0.1) if self._began_s else 0.0

    def _until(self, share: float) -> float | None:
        """When so much of the whole time will have passed."""
        return self._began_s + share * self.within_s if self.within_s is not None else None

    def _for(self, share: float) -> float | None:
        """When so much of the time that is left now will have passed."""
        now_s = asyncio.get_running_loop().time()
        return now_s + share * max(self._began_s + self.within_s - now_s, 0.0) if self.within_s is not None else None

    # The stages

    async def run(self) -> None:
        """All of them. Raises Unreachable when there is no such port or host. What else ends it early is `stopped`."""
        self._began_s, self.stopped = asyncio.get_running_loop().time(), ""
        try:
            await self._run()
        except (SurveyStopped, MayNotTouch) as stopped:
            self.stopped = str(stopped)
        finally:
            self.stage = Stage.OVER
            self.took_s += asyncio.get_running_loop().time() - self._began_s

    async def _run(self) -> None:
        if not self.knows_settings and not await self._find_settings():
            return
        line = Reopened(self.link, self._opener, lambda: self._until(1.0), self.gently)
        await line.exchanger.open()
        line.rest.rest_s = self.rest_s
        try:
            await self._ask_units(line)
            await self._search(line)
        finally:
            self.rest_s = line.rest.rest_s
            line.exchanger.close()

    async def _find_settings(self) -> bool:
        self.stage = Stage.SETTINGS
        self.settings = SettingsSurvey(
            self.link, never=self.never, opener=self._opener, listen_s=LISTEN_S,
            turns_done=self.settings_turns,
        )  # fmt: skip
        try:
            link = await _until(self._until(_SETTINGS_SHARE), self.settings.run())
        finally:
            self.settings_turns = self.settings.turns_done
        if link is None:
            self.notes.append(f"no settings answered, {self.settings.asked} questions asked")
            return False
        self.link, self.knows_settings = link, True
        if not self.settings.tells_parity:
            self.notes.append("a pseudo-terminal carries no parity and no stop bits: those are assumed")
        return True

    async def _ask_units(self, line: Reopened) -> None:
        """Every unit ID; those that are silent once more after a longer pause, with another question, which a device
        that is silent where it has no register answers all the same."""
        self.stage = Stage.UNITS
        has_listened = self.settings is not None or not self.link.is_serial
        all_units = [255, 0, *ALL_UNITS] if self.link.framing is FramingKind.TCP else list(ALL_UNITS)
        wanted = [unit for unit in all_units if unit not in self.asked_units]
        silent_before = [unit for unit in all_units if unit in self.asked_units and unit not in self.found]
        if wanted or not self.found:
            listen_s = 0.0 if has_listened else LISTEN_S
            units = wanted + silent_before
            await self._ask_some(line, units, None, listen_s, _UNITS_SHARE, most_s=_FIRST_UNITS_S)
        else:  # an earlier search asked all: once registers were looked for, who was silent is asked again
            self._silent_before = silent_before
        if self.units is not None and self.units.answers_any:
            self.found = {unit: self.found[unit] for unit in _one_of(self.found)}
            await self._ask_who_they_are(line)
            return
        self._silent = [unit for unit in wanted if unit in self.asked_units and unit not in self.found]
        quick_s = self._until(_QUICK_SHARE)
        is_quick = quick_s is None or asyncio.get_running_loop().time() < quick_s
        if not is_quick and not self.link.is_serial:
            self._silent = []
        if not self.found:  # else registers of those that answer come first
            await self._ask_another_way(line)
        self._leave_out_doubles()
        if not self.found and self.settings is None and self.link.is_serial and not self._unasked:
            self.notes.append(
                f"nobody answers at {self.link.settings}: leave the settings out of the link, and they are sought"
            )
        await self._ask_who_they_are(line)

    async def _ask_another_way(self, line: Reopened) -> None:
        """Units that were silent, with another question: some are silent where they have no register."""
        before, self._silent_before = self._silent_before, []
        if before:
            await self._ask_some(line, before, None, 0.0, _UNITS_SHARE)
        silent, self._silent = [unit for unit in self._silent if unit not in self.found], []
        if not silent:
            return
        pause_s = _LONGER_S if self.link.is_serial else 0.0
        left = await self._ask_some(line, silent, Identify(Depth.BASIC), 0.0, _SECOND_SHARE, pause_s)
        self._silent = left if len(left) < len(silent) else []  # those had no turn yet
        if not self.found and self.link.is_serial:
            await self._ask_some(line, silent, None, 0.0, _SECOND_SHARE, pause_s)

    async def _ask_who_they_are(self, line: Reopened) -> None:
        await line.settle()
        for unit, found in list(self.found.items()):
            if found.state in _ASKED and unit not in self.says:
                timeout_s = max(_LEAST_TIMEOUT_S, 4 * found.took_s)
                identification = await identify(line.exchanger, unit, timeout_s, retries=0)
                self.found[unit] = replace(found, identity=identification)
                self.says[unit] = says_of(identification)

    async def _ask_some(
        self, line: Reopened, units: list[int], question: Request | None, listen_s: float, share: float,
        pause_s: float = 0.0, most_s: float | None = None,
    ) -> list[int]:  # fmt: skip
        """As many as there is time for; where the line is lost meanwhile it is opened again, and the rest is asked.
        Gives those that had no turn."""
        until_s, left, vain = self._for(share), list(units), 0
        began_s = asyncio.get_running_loop().time()
        while vain < _REOPENED:
            await line.settle()
            lost = False
            survey = self.units = UnitSurvey(
                line.exchanger, left, self._timeout_s or _UNIT_TIMEOUT_S, self.never, listen_s=listen_s,
                asks_identity=False, question=question, pause_s=max(pause_s, line.rest.rest_s),
                steady_s=_UNIT_WAIT_S if self.link.is_serial else None, gateway_s=self._gateway_s,
                slice_end_s=began_s + most_s if most_s is not None else None,
            )  # fmt: skip
            try:
                await _until(until_s, survey.run())
            except LineLost:
                lost = True
                if not await line.open_again():
                    raise
            finally:
                self.asked_units |= {unit for unit in left if survey.states[unit] is not UnitState.UNASKED}
                self.states = merged(self.states, survey.states)
                self.found |= survey.found
                self._gateway_s = max(self._gateway_s, survey.gateway_s)
            before, left = left, [unit for unit in left if survey.states[unit] is UnitState.UNASKED]
            vain = vain + 1 if len(left) == len(before) else 0
            is_late = until_s is not None and asyncio.get_running_loop().time() >= until_s
            if not left or is_late or survey.answers_any or not lost or survey.has_sliced:
                break
        self._units_s += asyncio.get_running_loop().time() - began_s
        if survey.note and question is None:
            self.notes.append(survey.note)
        return left

    def _leave_out_doubles(self) -> None:
        """Over TCP units 0 and 255 mean the device itself: where others answer, they are one of those."""
        if self.link.is_serial:
            return
        others = [unit for unit in self.found if 1 <= unit <= 247]
        if len(others) == 1 or 255 in self.found:
            self.found.pop(0, None)
        if len(others) == 1:
            self.found.pop(255, None)

    async def _search(self, line: Reopened) -> None:
        self.stage = Stage.REGISTERS
        loop = asyncio.get_running_loop()
        turns = self._turns_made()
        turns.ask_with(line.ask)
        self._take_in(turns)
        left_s = self.within_s - (loop.time() - self._began_s) if self.within_s is not None else None
        every_s = max(left_s / _ROUNDS, _APART_S) if left_s is not None else 10.0
        while True:
            until_s = self._until(1.0)
            sampling_s = min(SAMPLES / 2 * turns.round_s, _SAMPLED_SHARE * left_s) if left_s is not None else 0.0
            search_until_s = until_s - max(sampling_s, _LEAST_LEFT_S) if until_s is not None else None
            self.stage = Stage.REGISTERS
            if search_until_s is not None:  # what is found meanwhile takes longer to read
                share = _SLICE if not (self._unasked and self._units_have_turn) else _SLICE_BEFORE_UNITS
                has_silent = bool(self._silent or self._silent_before) and self._gateway_s <= _SLOW_S
                share = _SLICE_BEFORE_SILENT if has_silent else share
                search_until_s = min(search_until_s, loop.time() + max(share * (search_until_s - loop.time()), 2.0))
            elif self._unasked:
                search_until_s = loop.time() + _SLICE_S
            if turns.units:
                await turns.search(search_until_s, every_s)
            if turns.is_over or (until_s is not None and loop.time() >= until_s - _LOST_SHARE * (left_s or 0.0)):
                turns.ask_lost_again()
            is_late = until_s is not None and loop.time() >= until_s - max(sampling_s, _LEAST_LEFT_S) - 2.0
            is_asked = not (self._unasked or self._silent or self._silent_before)
            has_turn = turns.is_over or self._units_have_turn
            if is_late or (turns.is_over and is_asked):
                break
            is_slow = self._gateway_s > _SLOW_S and self.within_s is not None
            if is_slow and not has_turn and not turns.is_over:
                continue  # whoever was silent is asked another way once all registers were looked for
            has_first = is_slow and bool(self._unasked) and has_turn  # units that were not asked at all
            if (self._silent or self._silent_before) and not has_first:
                self.stage = Stage.UNITS
                await self._ask_another_way(line)
                self._leave_out_doubles()
                await self._ask_who_they_are(line)
                self._take_in(turns)
                continue
            if has_turn and (unasked := self._unasked):  # units that had no turn yet
                self.stage = Stage.UNITS
                most_s = max(_UNITS_SHARE * (self.within_s or 0.0) - self._units_s, 1.0) if is_slow else None
                await self._ask_some(line, unasked, None, 0.0, 1.0 if is_slow else _REST_SHARE, most_s=most_s)
                if self._unasked == unasked:
                    break
                is_quick = self.within_s is None or self._units_s < _QUICK_SHARE * self.within_s
                if is_quick or self.link.is_serial:
                    silent = [unit for unit in unasked if unit in self.asked_units and unit not in self.found]
                    self._silent += [unit for unit in silent if unit not in self._silent]
                self._leave_out_doubles()
                await self._ask_who_they_are(line)
                self._take_in(turns)
        self.stage = Stage.SAMPLES
        await turns.sample(SAMPLES, self._until(1.0), _APART_S)

    def _turns_made(self) -> Turns:
        if self.turns is None:
            self.turns = Turns(
                _nobody, self.never, self._timeout_s or 1.0, self.link.framing is FramingKind.TCP, self._with_every,
                self.gently,
            )  # fmt: skip
        return self.turns

    def go_on_with(self, unit: int, kept: Any, samples: Samples, left_alone: str) -> None:
        """What an earlier search knew of a unit: its registers as `keeping` has them, samples, why it left it alone.
        Raises KeyError, TypeError, ValueError and their like where it is something else."""
        self._turns_made().add(unit, self.says.get(unit, ""), kept, samples, left_alone)

    def _take_in(self, turns: Turns) -> None:
        """Units that were found have their turns from now on."""
        turns.busy_s = self._gateway_s
        for turn in turns.units.values():
            turn.survey.busy_s = self._gateway_s
        for unit, found in sorted(self.found.items()):
            if found.state in _ASKED and unit not in turns.units:
                says = self.says.get(unit, "")
                turn = turns.add(unit, says)
                for table, first, last in self._known_maps.spans(says):
                    turn.suggest(table, first, last)

    @property
    def _units_have_turn(self) -> bool:
        """Whether time is left for units that were not asked: where a gateway is slow with each that is not there, only
        a share of it."""
        is_slow = self._gateway_s > _SLOW_S and self.within_s is not None
        return not is_slow or self._units_s < _UNITS_SHARE * (self.within_s or 0.0)

    @property
    def _unasked(self) -> list[int]:
        answers_any = self.units is not None and self.units.answers_any
        return [] if answers_any else [unit for unit in ALL_UNITS if unit not in self.asked_units]

    # What was not looked at

    def not_looked_at(self) -> list[str]:
        """In sentences; nothing where all that is likely was looked at."""
        texts: list[str] = []
        if not self.knows_settings:
            return ["the settings of the line are not known"]
        left = self._unasked
        if left:
            texts.append(f"{len(left)} unit IDs were not asked: {_in_short(left)}")
        for unit, turn in sorted(self.turns.units.items()) if self.turns is not None else ():
            if turn.trouble:
                texts.append(f"unit {unit}: {turn.trouble}")
            open_tables = [table for table in turn.survey.tables if not table.is_over]
            if open_tables and not turn.is_left_alone:
                share = 100 * sum(table.share for table in open_tables) / len(open_tables)
                titles = ", ".join(table.table.title for table in open_tables)
                texts.append(f"unit {unit}: {share:.0f} % of the likely places of {titles} asked")
        return texts

    def next_minutes(self) -> str:
        """What more time would be spent on."""
        if not self.knows_settings:
            return "settings that were not tried"
        if self.turns is None or not self.turns.units:
            return "unit IDs that were not asked" if self._unasked else "nothing that is likely"
        best = [
            (turn.survey.score_of(table), unit, table)
            for unit, turn in self.turns.units.items() if not turn.is_left_alone
            for table in turn.survey.tables if table.score
        ]  # fmt: skip
        if not best:
            return "nothing that is likely"
        _, unit, table = max(best, key=lambda entry: entry[0])
        return f"{table.table.title} of unit {unit} near {table.next_place}, and {len(best) - 1} more tables in turns"


async def _nobody(unit_id: int, request: Request, timeout_s: float) -> Outcome:
    raise SurveyStopped("the line is not open yet")


async def _until(until_s: float | None, work: Awaitable[Any]) -> Any:
    """What comes of it, or None at that loop time."""
    if until_s is None:
        return await work
    try:
        async with asyncio.timeout_at(max(until_s, asyncio.get_running_loop().time() + _LEAST_LEFT_S)):
            return await work
    except TimeoutError:
        return None


def _one_of(found: dict[int, UnitFound]) -> list[int]:
    """Where every unit ID gets the same answer, one speaks for all."""
    return sorted(found, key=lambda unit: (unit != 1, unit == 0, unit))[:1]


def merged(known: Sequence[UnitState], now: Sequence[UnitState]) -> list[UnitState]:
    """How units stand after they were asked once more: whoever answered either time is there."""
    return [new if new.is_somebody or old is UnitState.UNASKED else old for old, new in zip(known, now, strict=True)]


def says_of(identity: Identification | None) -> str:
    """What a device says of itself, in one line."""
    if identity is None:
        return ""
    texts = [text for text in list(identity.objects.values())[:3] if text]
    if identity.server_id and identity.server_id not in texts:
        texts.append(identity.server_id)
    return ", ".join(texts)


def _in_short(numbers: list[int]) -> str:
    spans: list[tuple[int, int]] = []
    for number in numbers:
        if spans and spans[-1][1] == number - 1:
            spans[-1] = (spans[-1][0], number)
        else:
            spans.append((number, number))
    return ", ".join(str(low) if low == high else f"{low}–{high}" for low, high in spans[:6])
