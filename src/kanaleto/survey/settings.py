"""The settings of a serial line that nobody knows: tried in an order of likelihood, a few units each, until one
answers.

The likeliest units at the likeliest settings go first, and both widen step by step, so that a usual device at a usual
setting is found in seconds and any other in the end. Bytes that came garbled are evidence, and bring their setting
forward; a sound frame of another unit than was asked came late, and is evidence of that unit. A clean answer, an
exception too, ends it, once it has come twice. It only reads.
"""

import asyncio
from collections.abc import Callable, Iterable, Sequence

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.lines.channel import Unreachable
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.lines.serialport import is_pseudo_terminal
from kanaleto.site.link import FramingKind, Parity, SerialLink, SerialSettings
from kanaleto.survey.asking import Never, Opener, first_question, survey_exchanger
from kanaleto.survey.units import LISTEN_S, SurveyStopped

LIKELY_UNITS = (1, 2, 3, 247)
TIMEOUT_S = 0.15
_ROUNDS = (4, 4, 8, 16, 32, 64, 247)
# in later rounds: what comes after its time comes while the next unit is asked, and is seen all the same
_QUICK_S = 0.05
_EVIDENCE = 10.0  # how far garbled answers bring a setting forward
_CONFIRM = 2
_ANSWER_CHARACTERS = 8  # an adapter may hand an answer over only when it is whole
_SETTLE_S = 0.02  # an adapter needs a moment after new settings

_USUAL = (19200, 9600, 38400, 115200, 57600, 4800, 2400, 1200)
_RARE = (230400, 14400, 28800, 76800, 600, 300)
_SHAPES = ((Parity.EVEN, 1), (Parity.NONE, 1), (Parity.NONE, 2), (Parity.ODD, 1))
_ASCII_BAUDS = (9600, 19200, 4800, 38400, 2400, 1200)
_ASCII_SHAPES = ((Parity.EVEN, 1, 7), (Parity.NONE, 2, 7), (Parity.ODD, 1, 7), (Parity.NONE, 1, 8))


class Tried(Struct):
    """One setting and framing: units asked, and how their answers came."""

    settings: SerialSettings
    framing: FramingKind
    asked: int = 0
    garbled: int = 0
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
    for rate_at, baud in enumerate(_USUAL + _RARE):
        for shape_at, (parity, stop) in enumerate(_SHAPES if baud in _USUAL else _SHAPES[:2]):
            ranked.append((rate_at + 1.5 * shape_at, FramingKind.RTU, SerialSettings(baud, parity, stop)))
    for rate_at, baud in enumerate(_ASCII_BAUDS):
        for shape_at, (parity, stop, data) in enumerate(_ASCII_SHAPES):
            ranked.append((6 + rate_at + 1.5 * shape_at, FramingKind.ASCII, SerialSettings(baud, parity, stop, data)))
    ranked.sort(key=lambda entry: entry[0])
    return [(framing, settings) for _, framing, settings in ranked if framing in wanted]


class _Turn(Struct, frozen=True):
    """Some units to be asked at one setting; the lowest score goes first."""

    tried: Tried
    units: tuple[int, ...]
    score: float
    is_first: bool


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
        link: SerialLink,
        units: Sequence[int] | None = None,
        timeout_s: float = TIMEOUT_S,
        never: Never = (),
        opener: Opener = survey_exchanger,
        framings: Iterable[FramingKind] = (FramingKind.RTU, FramingKind.ASCII),
        on_step: Callable[["SettingsSurvey"], None] | None = None,
    ) -> None:
        self.link = link
        self.units = (
            tuple(units) if units else (*LIKELY_UNITS, *(unit for unit in range(1, 248) if unit not in LIKELY_UNITS))
        )
        if not all(1 <= unit <= 247 for unit in self.units):
            raise ValueError("units on a serial line are 1…247; 0 would be a broadcast, and nobody answers one")
        self.tells_parity = link.is_remote or not is_pseudo_terminal(link.port)
        self.tried = [Tried(settings, framing) for framing, settings in self._distinct(list(likely_settings(framings)))]
        self.trying: Tried | None = None
        self.found: Tried | None = None
        self.asked = 0
        self._timeout_s = timeout_s
        self._question = first_question(never)
        self._open = opener
        self._on_step = on_step

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
    def link_found(self) -> SerialLink | None:
        """The link with the settings that answered."""
        if self.found is None:
            return None
        return replace(self.link, settings=self.found.settings, framing=self.found.framing)

    @property
    def left_s(self) -> float:
        """About how long until the last unit at the last setting was asked."""
        each = sum(min(self._timeout_s, _QUICK_S) + 20 * tried.settings.character_s for tried in self.tried)
        asks = len(self.tried) * len(self.units)
        return each * len(self.units) * max(asks - self.asked, 0) / max(asks, 1)

    async def run(self) -> SerialLink | None:
        """Try until somebody answers. Raises Unreachable when there is no port, SurveyStopped when it is lost or not
        free to ask on."""
        await self._listen()
        turns = self._turns()
        while turns:
            turn = min(turns, key=lambda turn: turn.score - (_EVIDENCE if turn.tried.garbled else 0))
            turns.remove(turn)
            if await self._try(turn):
                self.found = turn.tried
                return self.link_found
        return None

    def _turns(self) -> list["_Turn"]:
        """Likely units at all settings come early, all units at the likeliest settings next, the rest at the end."""
        turns = []
        for rank, tried in enumerate(self.tried):
            at = 0
            for number, size in enumerate(_ROUNDS):
                units = self.units[at : at + size]
                at += size
                if units:
                    slow = 0.0 if number == 0 else 2.0 * _RARE.count(tried.settings.baud)
                    turns.append(_Turn(tried, units, rank / 2 + number * (6.0 + slow), number == 0))
        return turns

    async def _listen(self) -> None:
        """At the likeliest setting; at any setting bytes are bytes."""
        exchanger = self._open(replace(self.link, settings=self.tried[0].settings, framing=self.tried[0].framing))
        await exchanger.open()
        try:
            await asyncio.sleep(LISTEN_S)
            heard = exchanger.traffic.received
        finally:
            exchanger.close()
        if heard:
            raise SurveyStopped(
                f"somebody talks on this line already: {heard} bytes came in {LISTEN_S:g} s without a question;"
                " listen to it instead, or take the other master off"
            )

    async def _try(self, turn: "_Turn") -> bool:
        """Ask some units at one setting; whether one answered clean, twice."""
        self.trying = tried = turn.tried
        exchanger = self._open(replace(self.link, settings=tried.settings, framing=tried.framing))
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
            for unit in turn.units:
                outcome = await self._ask(
                    exchanger, tried, unit, self._timeout_s if turn.is_first else min(self._timeout_s, _QUICK_S)
                )
                who = _answered_by(outcome)
                if who is not None and await self._is_confirmed(exchanger, tried, who, outcome):
                    return True
        finally:
            exchanger.close()
        return False

    async def _ask(self, exchanger: Exchanger, tried: Tried, unit: int, timeout_s: float) -> Outcome:
        outcome = await exchanger.ask(unit, self._question, timeout_s + _ANSWER_CHARACTERS * tried.settings.character_s)
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
        return outcome

    async def _is_confirmed(self, exchanger: Exchanger, tried: Tried, unit: int, first: Outcome) -> bool:
        tried.took_s = first.took_s
        for _ in range(_CONFIRM):
            outcome = await exchanger.ask(
                unit, self._question, 2 * (self._timeout_s + _ANSWER_CHARACTERS * tried.settings.character_s)
            )
            if outcome.kind in (OutcomeKind.GOOD, OutcomeKind.EXCEPTION):
                tried.answered_by = unit
                return True
        tried.text = f"unit {unit} answered once and not again"
        return False
