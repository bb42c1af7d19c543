"""The settings of a serial line that nobody knows: tried in an order of likelihood, a few units each, until one
answers.

What is likeliest for the time that it takes goes first, units and settings alike, so that a usual device at a usual
setting is found in seconds and any other in the end. Nobody is waited for long: a slow unit answers while others are
asked, and a sound frame tells whose it is. Bytes that came garbled are evidence, and bring their setting forward. A
clean answer, an exception too, ends it, once it has come twice. Whoever was silent is asked who it is in the end, since
there are devices that are silent where they have no register. It only reads.
"""

import asyncio
from collections.abc import Callable, Iterable, Sequence

from msgspec import Struct

from kanaleto.lines.adapters import is_pseudo_terminal
from kanaleto.lines.channel import Unreachable
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.probing.question import Never, Opener, first_question, survey_exchanger
from kanaleto.probing.units import LISTEN_S
from kanaleto.probing.unitstates import SurveyStopped
from kanaleto.site.links.link import FramingKind, Link, Parity, SerialSettings
from kanaleto.wire.identity import Depth, Identify
from kanaleto.wire.pdu import Request

LIKELY_UNITS = (1, 2, 3, 247)
TIMEOUT_S = 0.35
# units asked in one turn, and how likely the first of them is among those
_CHUNKS = ((4, 0.35), (28, 0.36), (247, 0.29))
# what comes later comes while the next unit is asked, and is seen all the same: likely units wait longer, others hardly
_LIKELY_WAIT_S, _WAIT_S = 0.03, 0.003
_COULD_BE = 12  # units asked before bytes that made no sense, which may have been the answer of one of them
_EVIDENCE = 1000.0  # how far garbled answers bring a setting forward
_MOST_IN_VAIN, _NOISY = 3, 2  # asked again in vain so often, or at so many settings: what is garbled says nothing
_MOST_SUSPECTS, _SUSPECT_S = (
    6,
    0.06,
)  # units that are asked again in a turn all the same, and how long each is waited for
_SILENT_AT_HOLES = 0.02  # how likely it is that a device answers only who it is
_CONFIRM, _CONFIRM_S = 2, 1.0
_ANSWER_CHARACTERS = 8  # an adapter may hand an answer over only when it is whole
_SETTLE_S = 0.02  # an adapter needs a moment after new settings

_USUAL = {19200: 0.3, 9600: 0.3, 38400: 0.1, 115200: 0.1, 57600: 0.06, 4800: 0.1, 2400: 0.11, 1200: 0.012}
_RARE = {230400: 0.002, 14400: 0.0015, 28800: 0.0015, 76800: 0.0015, 600: 0.002, 300: 0.001}
_LIKELY_SHAPES = {(Parity.EVEN, 1): 0.4, (Parity.NONE, 1): 0.38, (Parity.NONE, 2): 0.14, (Parity.ODD, 1): 0.08}
_ASCII_SHARE = 0.06
_SHAPES = ((Parity.EVEN, 1), (Parity.NONE, 1), (Parity.NONE, 2), (Parity.ODD, 1))
_ASCII_BAUDS = (9600, 19200, 4800, 38400, 2400, 1200)
_ASCII_SHAPES = ((Parity.EVEN, 1, 7), (Parity.NONE, 2, 7), (Parity.ODD, 1, 7), (Parity.NONE, 1, 8))


class Tried(Struct):
    """One setting and framing: units asked, and how their answers came."""

    settings: SerialSettings
    framing: FramingKind
    asked: int = 0
    garbled: int = 0
    in_vain: int = 0
    """How often units were asked again for bytes that made no sense, and nobody answered."""
    answered_by: int | None = None
    took_s: float = 0.0
    text: str = ""

    @property
    def title(self) -> str:
        return f"{self.settings}{' ASCII' if self.framing is FramingKind.ASCII else ''}"

    @property
    def verdict(self) -> str:
        """What came of it, in words."""
        if self.text:
            return self.text
        if self.answered_by is not None:
            return f"unit {self.answered_by} answered after {1000 * self.took_s:.1f} ms, check bytes right"
        if self.garbled:
            return f"garbled {self.garbled} of {self.asked} times: bytes came that made no sense"
        return f"silent, {self.asked} unit{'s' if self.asked != 1 else ''} asked" if self.asked else "not tried"


def likely_settings(
    framings: Iterable[FramingKind] = (FramingKind.RTU, FramingKind.ASCII),
) -> list[tuple[FramingKind, SerialSettings]]:
    """Every setting that is met in the field, the likeliest first: RTU at usual rates, then ASCII, then the rare
    rates."""
    wanted = set(framings)
    ranked: list[tuple[float, FramingKind, SerialSettings]] = []
    for rate_at, baud in enumerate((*_USUAL, *_RARE)):
        for shape_at, (parity, stop) in enumerate(_SHAPES if baud in _USUAL else _SHAPES[:2]):
            ranked.append((rate_at + 1.5 * shape_at, FramingKind.RTU, SerialSettings(baud, parity, stop)))
    for rate_at, baud in enumerate(_ASCII_BAUDS):
        for shape_at, (parity, stop, data) in enumerate(_ASCII_SHAPES):
            ranked.append((6 + rate_at + 1.5 * shape_at, FramingKind.ASCII, SerialSettings(baud, parity, stop, data)))
    ranked.sort(key=lambda entry: entry[0])
    return [(framing, settings) for _, framing, settings in ranked if framing in wanted]


class _Turn(Struct, frozen=True):
    """Some units to be asked one question at one setting; the highest score goes first."""

    tried: Tried
    units: tuple[int, ...]
    question: Request
    score: float
    is_first: bool


def _likelihood(framing: FramingKind, settings: SerialSettings) -> float:
    rate = _USUAL.get(settings.baud) or _RARE.get(settings.baud, 0.001)
    shape = _LIKELY_SHAPES.get((settings.parity, settings.stop), 0.1)
    return rate * shape * (_ASCII_SHARE if framing is FramingKind.ASCII else 1.0)


def _answer_s(tried: Tried) -> float:
    """How long an answer, or a question, is on the line."""
    characters = _ANSWER_CHARACTERS * (2 if tried.framing is FramingKind.ASCII else 1)
    return characters * tried.settings.character_s


def _answered_by(outcome: Outcome) -> int | None:
    """The unit that a sound frame came from, if one came."""
    if outcome.kind in (OutcomeKind.GOOD, OutcomeKind.EXCEPTION):
        return outcome.unit_id
    if outcome.kind is not OutcomeKind.UNEXPECTED or outcome.answer.startswith(outcome.request):
        return None
    who = outcome.answer[0] if outcome.answer[:1] != b":" else int(outcome.answer[1:3], 16)
    return who if 1 <= who <= 247 else None


class SettingsSurvey:
    """`tried` (one entry a setting, in the order of their trying), `found` and `left_s` may be read from any thread."""

    def __init__(
        self,
        link: Link,
        units: Sequence[int] | None = None,
        timeout_s: float = TIMEOUT_S,
        never: Never = (),
        opener: Opener = survey_exchanger,
        framings: Iterable[FramingKind] = (FramingKind.RTU, FramingKind.ASCII),
        on_step: Callable[["SettingsSurvey"], None] | None = None,
        listen_s: float = LISTEN_S,
        turns_done: int = 0,
    ) -> None:
        """`turns_done`: so many were asked in vain by an earlier survey, and are left out."""
        self.link = link
        self.units = (
            tuple(units) if units else (*LIKELY_UNITS, *(unit for unit in range(1, 248) if unit not in LIKELY_UNITS))
        )
        if not all(1 <= unit <= 247 for unit in self.units):
            raise ValueError("units on a serial line are 1…247; 0 would be a broadcast, and nobody answers one")
        self.tells_parity = link.local_port is None or not is_pseudo_terminal(link.local_port)
        self.tried = [Tried(settings, framing) for framing, settings in self._distinct(list(likely_settings(framings)))]
        self.trying: Tried | None = None
        self.found: Tried | None = None
        self.asked = 0
        self._timeout_s = timeout_s
        self._question = first_question(never)
        self._open = opener
        self._on_step = on_step
        self._listen_s = listen_s
        self.turns_done = turns_done

    def _distinct(
        self, candidates: list[tuple[FramingKind, SerialSettings]]
    ) -> list[tuple[FramingKind, SerialSettings]]:
        """A pseudo-terminal carries no parity and no stop bits: there only the rate and the framing tell settings
        apart."""
        if self.tells_parity:
            return candidates
        seen: dict[tuple[FramingKind, int], tuple[FramingKind, SerialSettings]] = {}
        for framing, settings in candidates:
            seen.setdefault((framing, settings.baud), (framing, settings))
        return list(seen.values())

    @property
    def link_found(self) -> Link | None:
        """The link with the settings that answered."""
        if self.found is None:
            return None
        return self.link.with_serial(self.found.settings, self.found.framing)

    @property
    def left_s(self) -> float:
        """About how long until the last unit at the last setting was asked."""
        each = sum(_WAIT_S + 20 * tried.settings.character_s for tried in self.tried) / max(len(self.tried), 1)
        return each * max(self.total - self.asked, 0)

    @property
    def total(self) -> int:
        """How many questions there are at most: each unit is asked two, at each setting."""
        return 2 * len(self.tried) * len(self.units)

    async def run(self) -> Link | None:
        """Try until somebody answers. Raises Unreachable when there is no port, SurveyStopped when it is lost or not
        free to ask on."""
        await self._listen()
        turns = sorted(self._turns(), key=lambda turn: -turn.score)
        self.turns_done %= len(turns)
        turns = turns[self.turns_done :]
        while turns:
            turn = max(turns, key=lambda turn: turn.score * self._evidence(turn.tried))
            turns.remove(turn)
            if await self._try(turn):
                self.found = turn.tried
                return self.link_found
            self.turns_done += 1
        return None

    def _evidence(self, tried: Tried) -> float:
        """How far what came garbled brings a setting forward. Where garbage comes at several settings it is the one
        without any that stands out: there somebody understands, who has no answer to what was asked."""
        if not self._is_noise:
            is_evidence = tried.garbled and tried.in_vain < _MOST_IN_VAIN
            return _EVIDENCE ** (1 - tried.in_vain / _MOST_IN_VAIN) if is_evidence else 1.0
        noisy = [tried for tried in self.tried if tried.garbled]
        share = sum(tried.garbled for tried in noisy) / sum(tried.asked for tried in noisy)
        return 1.0 if tried.garbled else min((1.0 - min(share, 0.9)) ** -tried.asked, _EVIDENCE)

    @property
    def _is_noise(self) -> bool:
        """Whether bytes that make no sense say nothing of a setting: they come at several."""
        return sum(tried.in_vain > 0 for tried in self.tried) >= _NOISY

    def _turns(self) -> list["_Turn"]:
        """Each chunk of units at each setting, with how likely an answer is for the time that it takes."""
        turns = []
        for tried in self.tried:
            likely = _likelihood(tried.framing, tried.settings) * (1.0 if self.tells_parity else 2.5)
            at = 0
            for number, (size, share) in enumerate(_CHUNKS):
                units = self.units[at : at + size]
                at += size
                if not units:
                    continue
                for question, weight in ((self._question, 1.0), (Identify(Depth.BASIC), _SILENT_AT_HOLES)):
                    each_s = (_WAIT_S if number else _LIKELY_WAIT_S) + _answer_s(tried)
                    takes_s = len(units) * each_s + TIMEOUT_S + _SETTLE_S
                    first = 2.0 if not number else 1.0  # whoever is there is most often among the first
                    turns.append(_Turn(tried, units, question, first * weight * likely * share / takes_s, number == 0))
        return turns

    async def _listen(self) -> None:
        """At the likeliest setting; at any setting bytes are bytes."""
        exchanger = self._open(self.link.with_serial(self.tried[0].settings, self.tried[0].framing))
        await exchanger.open()
        try:
            await asyncio.sleep(self._listen_s)
            heard = exchanger.traffic.received
        finally:
            exchanger.close()
        if heard:
            raise SurveyStopped(
                f"somebody talks on this line already: {heard} bytes came in {self._listen_s:g} s without a question;"
                " listen to it instead, or take the other master off"
            )

    async def _try(self, turn: "_Turn") -> bool:
        """Ask some units at one setting; whether one answered clean, twice."""
        self.trying = tried = turn.tried
        exchanger = self._open(self.link.with_serial(tried.settings, tried.framing))
        try:
            await exchanger.open()
        except Unreachable as error:
            if self.asked:  # the port was there: it does not take this rate, or it is gone
                tried.text = str(error)
                if "does not take" in tried.text:
                    return False
                raise SurveyStopped(f"the port was lost: {error}") from None
            raise
        try:
            await asyncio.sleep(_SETTLE_S)
            suspects: list[int] = []
            for at, unit in enumerate(turn.units):
                wait_s = self._timeout_s if unit == turn.units[-1] else _LIKELY_WAIT_S if turn.is_first else _WAIT_S
                strays, outcome = await self._ask(exchanger, tried, unit, turn.question, min(wait_s, self._timeout_s))
                who = _answered_by(outcome) or strays
                if who and await self._is_confirmed(exchanger, tried, who, turn.question, outcome):
                    return True
                if who is None and outcome.kind in (OutcomeKind.GARBLED, OutcomeKind.UNEXPECTED):
                    if tried.in_vain < _MOST_IN_VAIN and not self._is_noise:
                        before = turn.units[max(at - _COULD_BE, 0) : at + 1]
                        if await self._ask_again(exchanger, tried, before, turn.question, self._timeout_s):
                            return True
                    else:
                        suspects += turn.units[max(at - 1, 0) : at + 1]
            suspects = list(dict.fromkeys(suspects))[:_MOST_SUSPECTS]
            if await self._ask_again(exchanger, tried, suspects, turn.question, min(_SUSPECT_S, self._timeout_s)):
                return True
        finally:
            exchanger.close()
        return False

    async def _ask_again(
        self, exchanger: Exchanger, tried: Tried, units: Sequence[int], question: Request, timeout_s: float
    ) -> bool:
        """One by one, with time for each: whether one of them was it."""
        if not units:
            return False
        garbled = 0
        for unit in units:
            _, outcome = await self._ask(exchanger, tried, unit, question, timeout_s)
            if _answered_by(outcome) and await self._is_confirmed(exchanger, tried, unit, question, outcome):
                return True
            garbled += outcome.kind in (OutcomeKind.GARBLED, OutcomeKind.UNEXPECTED)
            if garbled > 1:  # who answers one question alone garbles no two
                break
        tried.in_vain += 2 if garbled else 1
        return False

    async def _ask(
        self, exchanger: Exchanger, tried: Tried, unit: int, question: Request, timeout_s: float
    ) -> tuple[int | None, Outcome]:
        """What came of it, and whose answer came while it went out, if one did."""
        strays = exchanger.traffic.strays
        late = strays.late
        more_s = _answer_s(tried) if timeout_s > _WAIT_S else 0.0
        outcome = await exchanger.ask(unit, question, timeout_s + more_s)
        if outcome.kind is OutcomeKind.UNREACHABLE:
            raise SurveyStopped(f"the port was lost: {outcome.reason}")
        tried.asked += 1
        self.asked += 1
        if outcome.kind in (OutcomeKind.GARBLED, OutcomeKind.UNEXPECTED) and not outcome.answer.startswith(
            outcome.request
        ):
            tried.garbled += 1
        if self._on_step is not None:
            self._on_step(self)
        return strays.late_unit_id if strays.late > late and 1 <= strays.late_unit_id <= 247 else None, outcome

    async def _is_confirmed(
        self, exchanger: Exchanger, tried: Tried, unit: int, question: Request, first: Outcome
    ) -> bool:
        for _ in range(_CONFIRM):
            outcome = await exchanger.ask(unit, question, _CONFIRM_S + _answer_s(tried))
            if outcome.kind in (OutcomeKind.GOOD, OutcomeKind.EXCEPTION):
                tried.answered_by, tried.took_s = unit, outcome.took_s
                return True
        tried.text = f"unit {unit} answered once and not again"
        return False
