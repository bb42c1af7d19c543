"""What the trend shows: which points, from when to when, where cursor and mark stand, and on which scale. And where its
curves come from: what is remembered since a point is pinned, and what was recorded before, as one."""

from collections.abc import Iterable, Mapping
from typing import cast

from msgspec import Struct

from kanaleto.board.memory import Memory
from kanaleto.history.askingthread import Answer, HistoryQuery
from kanaleto.history.curves import EMPTY, At, FromMemory, TrendCurve, filled, joined, value_at
from kanaleto.history.storedcurve import StoredRows, definition_of
from kanaleto.planning.plan import AnyPlace, Identity
from kanaleto.values.turning import Turning

MOST_PINS = 8
TONES = ("verdigris", "ochre", "sky", "violet", "ink", "terracotta", "muted", "dim")
LETTERS = "abcdefgh"
LEAST_SPAN_S, MOST_SPAN_S = 5.0, 400 * 86400.0
SPAN_S = 600.0
_FITTING_S = (30.0, 60.0, 120.0, 300.0, SPAN_S)
_ZOOM = 2.0


class AxisScale(Turning):
    """How values become heights. The value is how it is shown."""

    ONE = "one scale"
    SEVERAL = "each on its own scale"
    PER_CENT = "in per cent of range"


class TrendState:
    """`end` is None while it is live; times are wall seconds."""

    def __init__(self) -> None:
        self.pins: list[Identity] = []
        self.span_s = SPAN_S
        self.end: float | None = None
        self.cursor: float | None = None
        self.mark: float | None = None
        self.own_scale: AxisScale | None = None
        self.has_several_units = False
        self.chosen = 0
        self.reads_today = False
        self.fits = True
        """Whether it shows as much time as there is, since nobody has said how much."""

    @property
    def scale(self) -> AxisScale:
        """As it was chosen; else what has one unit is on one scale."""
        return self.own_scale or (AxisScale.SEVERAL if self.has_several_units else AxisScale.ONE)

    @property
    def key(self) -> object:
        """All that a picture depends on, beside the time and the curves."""
        seen = (self.span_s, self.end, self.cursor, self.mark, self.scale, self.chosen, self.reads_today)
        return (tuple(self.pins), seen)

    def range(self, now: float) -> tuple[float, float]:
        """Begin and end of what is shown. A live one ends at a whole piece of its span, so that its columns stand
        still while time goes on inside them."""
        if self.end is not None:
            return self.end - self.span_s, self.end
        piece = self.span_s / 120
        end = (now // piece + 1) * piece
        return end - self.span_s, end

    def fit(self, there_s: float) -> None:
        """So many seconds are known of what is pinned: no more is shown, up to ten minutes."""
        if self.fits:
            self.span_s = next((span_s for span_s in _FITTING_S if span_s >= there_s), SPAN_S)
            self.fits = self.span_s < SPAN_S  # else there is nothing left to look for

    @property
    def is_live(self) -> bool:
        return self.end is None

    def hold(self, now: float) -> None:
        self.fits = False
        if self.end is None:
            self.end = self.range(now)[1]

    def go_live(self) -> None:
        self.end = self.cursor = None

    def pan(self, parts: float, now: float) -> None:
        """By so many times its span; not into the future."""
        self.hold(now)
        assert self.end is not None
        latest = now + self.span_s / 120
        self.end = max(min(self.end + parts * self.span_s, latest), 0.0)
        if self.cursor is not None:
            begin, end = self.range(now)
            self.cursor = max(begin, min(self.cursor, end))

    def zoom(self, inwards: bool, now: float) -> bool:
        """Half or twice the span, with the cursor (or the end) where it is; whether there was any way to go."""
        span_s = self.span_s / _ZOOM if inwards else self.span_s * _ZOOM
        if not LEAST_SPAN_S <= span_s <= MOST_SPAN_S:
            return False
        if self.cursor is not None:
            begin, end = self.range(now)
            share = (self.cursor - begin) / (end - begin)
            self.end = min(self.cursor + (1 - share) * span_s, now + span_s / 120)
        self.span_s, self.fits = span_s, False
        return True

    def move_cursor(self, steps: int, columns: int, now: float) -> None:
        """By columns; at the edge what is shown moves along."""
        self.hold(now)
        begin, end = self.range(now)
        each = (end - begin) / max(columns, 1)
        at = (self.cursor if self.cursor is not None else min(end, now)) + steps * each
        if at < begin or at > end:
            self.pan(-0.25 if at < begin else 0.25, now)
            begin, end = self.range(now)
        self.cursor = max(begin, min(at, end))

    def look_at(self, moment: float, now: float) -> None:
        """Put the cursor there, with what came before and after around it."""
        self.span_s, self.fits = SPAN_S if self.fits else self.span_s, False
        self.end = min(moment + self.span_s / 2, now + self.span_s / 120)
        self.cursor = moment


class Stored(Struct):
    """What was recorded of a point between two moments."""

    rows: StoredRows
    begin: float
    end: float


class Curves:
    """Gives the curve of each pinned point; asks for what lies before memory when it is wanted."""

    def __init__(self, memory: Memory) -> None:
        self._memory = memory
        self._from_memory: dict[Identity, FromMemory] = {}
        self._stored: dict[Identity, Stored] = {}
        self._taped: dict[Identity, TrendCurve] = {}
        self._is_waiting = False
        self.changes = 0
        """Counts when what was recorded is known otherwise."""
        self.trouble = ""

    def forget_stored(self) -> None:
        """What was recorded is to be read otherwise."""
        self._stored.clear()
        self.changes += 1

    def forget(self) -> None:
        """Another site is open."""
        self._taped.clear()
        self.forget_stored()

    def curve(self, identity: Identity) -> TrendCurve:
        newer = self._remembered(identity)
        stored, taped = self._stored.get(identity), self._taped.get(identity, EMPTY)
        older = filled(stored.rows.curve, taped) if stored is not None else taped
        return joined(older, newer)

    def _remembered(self, identity: Identity) -> TrendCurve:
        remembered = self._memory.of(identity)
        if remembered is None:
            return EMPTY
        from_memory = self._from_memory.get(identity)
        if from_memory is None or from_memory.remembered is not remembered:
            from_memory = self._from_memory[identity] = FromMemory(remembered)
        return from_memory.curve()

    def since(self, identities: Iterable[Identity]) -> float | None:
        """When what is known of them begins; None where nothing is."""
        begins = [float(curve.at[0]) for identity in identities if len(curve := self.curve(identity))]
        return min(begins, default=None)

    def value_at(self, identity: Identity, moment: float) -> At:
        return value_at(self.curve(identity), moment)

    @property
    def sources(self) -> str:
        """Where they come from, in words."""
        taped = any(len(curve) for curve in self._taped.values())
        stored = any(len(stored.rows.curve) for stored in self._stored.values())
        parts = ["memory", *(["tape"] if taped else []), *(["record"] if stored else [])]
        return " and ".join((", ".join(parts[:-1]), parts[-1])) if len(parts) > 1 else parts[0]

    def take_taped(self, found: Mapping[Identity, TrendCurve]) -> None:
        """What the tape says of the hours before."""
        self._taped.update(found)
        self.changes += 1

    def wanted(
        self, store: str, site: str, places: Mapping[Identity, AnyPlace], begin: float, end: float, reads_today: bool
    ) -> HistoryQuery | None:
        """What is to be asked of the record so that `begin` to `end` can be drawn; None where all is there, or on its
        way."""
        if self._is_waiting or not places:
            return None
        span_s = end - begin
        lacking = [identity for identity in places if self._lacks(identity, begin, end, span_s)]
        if not lacking:
            return None
        today = {identity: definition_of(place) for identity, place in places.items()} if reads_today else None
        question = HistoryQuery(store, site, begin - span_s, end + span_s, tuple(places), today)
        self._is_waiting = True
        return question

    def _lacks(self, identity: Identity, begin: float, end: float, span_s: float) -> bool:
        newer = self._remembered(identity)
        begun = float(newer.at[0]) if len(newer) else end
        if begun <= begin:
            return False
        stored = self._stored.get(identity)
        if stored is None or stored.begin > begin or min(stored.end, begun) < min(end, begun) - 1e-6:
            return True
        return stored.rows.is_sliced and span_s < (stored.end - stored.begin) / 12

    def take(self, answer: Answer) -> None:
        """What was asked has come."""
        self._is_waiting = False
        self.changes += 1
        self.trouble = answer.trouble
        question = answer.question
        for identity in question.wanted:
            stored_rows = cast(StoredRows, answer.found.get(identity, StoredRows(EMPTY)))
            self._stored[identity] = Stored(stored_rows, question.begin, question.end)

    def rename(self, called: Mapping[Identity, Identity]) -> None:
        """Points that are called otherwise, and are the same."""
        self._from_memory = {
            called.get(identity, identity): from_memory for identity, from_memory in self._from_memory.items()
        }
        self._stored = {called.get(identity, identity): stored for identity, stored in self._stored.items()}
        self._taped = {called.get(identity, identity): trend_curve for identity, trend_curve in self._taped.items()}

    def keep(self, identities: list[Identity]) -> None:
        """Forget all but these."""
        for held in (self._from_memory, self._stored, self._taped):
            for identity in [identity for identity in held if identity not in identities]:
                del held[identity]
