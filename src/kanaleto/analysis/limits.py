"""Limits: what is past one now, since when, and whether somebody has seen it.

A limit is passed once values have been at it or beyond for its delay, and no more once one is back by more than its
hysteresis. A value that is missing or old proves nothing: what was past stays so. Each passing is an event that begins
and ends; that it was seen is one of its own.
"""

from collections.abc import Callable, Mapping, Sequence

from msgspec.structs import replace

from kanaleto.board.board import Quality, Readings, Record
from kanaleto.board.crossing import Acknowledged, Crossing, Rule, is_word_of_bits, rules_of
from kanaleto.board.listener import Sink
from kanaleto.board.world import World
from kanaleto.events.log import Ended, EventKind, EventLog
from kanaleto.planning.plan import AnyPlace, Block, DerivedPlace, DevicePlan, Identity, Place
from kanaleto.values.codec import Value
from kanaleto.values.text import shown

_MOST_OVER = 500  # that nobody has seen
_MOST_NOTE = 2000


class _Standing:
    """How a rule of a point stands; `beyond_s` is the loop time since which values are beyond."""

    __slots__ = ("beyond_s", "crossing", "key", "rule")

    def __init__(self, rule: Rule) -> None:
        self.rule = rule
        self.key: object = None  # of the event that reported it, under the name of then
        self.beyond_s: float | None = None
        self.crossing: Crossing | None = None


class _Watched:
    """A point with limits."""

    __slots__ = ("last", "line", "place", "standing")

    def __init__(self, place: AnyPlace) -> None:
        self.standing = [_Standing(rule) for rule in rules_of(place.point.limits)]
        self.take(place)
        self.last: Value | None = None

    def take(self, place: AnyPlace) -> None:
        self.place = place
        self.line = place.line.name if not isinstance(place, DerivedPlace) else ""
        for standing in self.standing:
            if standing.crossing is not None and standing.crossing.identity != place.identity:
                standing.crossing = replace(standing.crossing, identity=place.identity)


class LimitWatch(Sink):
    """See the head of this file. For the engine's loop."""

    def __init__(self, events: EventLog) -> None:
        self._events = events
        self._parts: dict[str, DevicePlan] = {}
        self._watched: dict[Identity, _Watched] = {}
        self._by_block: dict[int, list[_Watched]] = {}
        self._derived: list[_Watched] = []
        self._waiting: dict[tuple[Identity, str], tuple[_Watched, _Standing]] = {}
        self._past: dict[_Watched, None] = {}
        """Those that are past a limit, in that order."""
        self._worst: tuple[Crossing, ...] | None = ()
        self._unseen: dict[tuple[Identity, str], Crossing] = {}
        """What is over and nobody has seen, by point and rule, the oldest first."""
        self.over: tuple[Crossing, ...] = ()
        """The worst of each point, the newest first."""

    # What is polled

    def on_plan(self, world: World) -> None:
        """Only what differs from the plan before is looked at: a line may wait for it."""
        before, self._parts = self._parts, {part.device.name: part for part in world.plan.parts}
        left = {formula.place.identity: formula for formula in self._derived}
        places: list[AnyPlace] = [formula for formula in world.plan.derived if formula.point.limits.can_be_passed]
        for name in before.keys() | self._parts.keys():
            old, new = before.get(name), self._parts.get(name)
            if old is not new:
                gone, fresh = _differing(old.limited if old is not None else (), new.limited if new is not None else ())
                keys = [(name, place.point.name) for place in gone]  # by what the device is called by now
                left |= {key: watched for key in keys if (watched := self._watched.get(key)) is not None}
                places += fresh
        self._derived = []
        self._replace(left, places)

    def _replace(self, before: dict[Identity, _Watched], places: Sequence[AnyPlace]) -> None:
        """Watch these in place of those; what is the same but for its name goes on as it stands."""
        for identity, watched in before.items():
            del self._watched[identity]
            self._leave(watched)
        renamed = _renamed(before, places)
        for place in places:
            key = renamed.get(place.identity, place.identity)
            old = before.get(key)
            if old is not None and old.place.point.limits == place.point.limits:
                watched = before.pop(key)
                watched.take(place)
            else:
                watched = _Watched(place)
            self._watched[place.identity] = watched
            if isinstance(place, DerivedPlace):
                self._derived.append(watched)
            elif place.block is not None:
                self._by_block.setdefault(place.block.index, []).append(watched)
            for standing in watched.standing:
                if standing.beyond_s is not None and standing.crossing is None:
                    self._waiting[place.identity, standing.rule.name] = (watched, standing)
            self._note_past(watched)
        for gone in before.values():
            self._drop_watched(gone)

    def _leave(self, watched: _Watched) -> None:
        """It does not stand where it stood, for now or for ever."""
        place = watched.place
        if not isinstance(place, DerivedPlace) and place.block is not None:
            of_block = self._by_block.get(place.block.index, [])
            of_block[:] = [other for other in of_block if other is not watched]
        for standing in watched.standing:
            self._waiting.pop((place.identity, standing.rule.name), None)
        if watched in self._past:
            del self._past[watched]
            self._worst = None

    def on_record(self, block: Block, record: Record, board: Readings) -> None:
        for watched in self._by_block.get(block.index, ()):
            place = watched.place
            assert not isinstance(place, DerivedPlace)
            value = record.values[place.number]
            if place.point.exponent:
                value = board.reading(place, record.at_s).value  # type: ignore[assignment]
            self._judge(watched, value, record.at_s)

    def on_derived(self, world: World, now_s: float) -> None:
        """Formulas were evaluated."""
        for watched in self._derived:
            reading = world.board.reading(watched.place, now_s)
            if reading.quality is Quality.GOOD:
                self._judge(watched, reading.value, now_s)

    def on_second(self, world: World, now_s: float, wall_s: float) -> None:
        for watched, standing in list(self._waiting.values()):
            reading = world.board.reading(watched.place, now_s)
            if reading.quality is Quality.GOOD:
                self._look(watched, standing, now_s)

    def _judge(self, watched: _Watched, value: Value | None, at_s: float) -> None:
        if not isinstance(value, int | float):
            return
        watched.last = value
        point = watched.place.point
        for standing in watched.standing:
            was_past = standing.crossing is not None
            if standing.rule.is_past(value, was_past, point.limits.hysteresis, point):
                if not was_past:
                    if standing.beyond_s is None:
                        standing.beyond_s = at_s
                    self._look(watched, standing, at_s)
            elif standing.beyond_s is not None:
                self._back(watched, standing)

    def _look(self, watched: _Watched, standing: _Standing, at_s: float) -> None:
        """Whether it has been beyond for long enough."""
        place, rule = watched.place, standing.rule
        key = (place.identity, rule.name)
        delay_s = place.point.limits.delay_s
        if standing.beyond_s is None or at_s - standing.beyond_s < delay_s - 1e-6:
            self._waiting[key] = (watched, standing)
            return
        self._waiting.pop(key, None)
        point = place.point
        value = watched.last
        message = shown(value, point.codec, point.decimals, point.labels) if value is not None else ""
        unit = f" {point.unit}" if point.unit and not rule.states else ""
        if not rule.states:
            text = f"{message}{unit} {rule.words(point)}"
        elif is_word_of_bits(point) and isinstance(value, int | float):
            text = "has " + " · ".join(
                point.labels.get(bit, f"bit {bit}") for bit in rule.states if int(value) >> bit & 1
            )
        else:
            text = f"is {message}"
        device, name = place.identity
        standing.key = ("limit", name, rule.name)
        data: dict[str, object] = {"limit": rule.name, "value": value if isinstance(value, int | float) else None}
        event = self._events.note(
            EventKind.LIMIT, watched.line, device, f"{name}: {text} ({rule.word})", going_on=standing.key,
            point=name, data=data,
        )  # fmt: skip
        standing.crossing = Crossing(watched.line, place.identity, rule, text, event.wall_s)
        self._note_over({key: None})
        self._note_past(watched)

    def _back(self, watched: _Watched, standing: _Standing) -> None:
        standing.beyond_s = None
        self._waiting.pop((watched.place.identity, standing.rule.name), None)
        crossing, standing.crossing = standing.crossing, None
        if crossing is not None:
            event = self._events.end(watched.line, watched.place.identity[0], standing.key)
            if crossing.seen is None and event is not None:
                over = replace(crossing, ended_wall_s=event.ended_wall_s)
                self._note_over({(watched.place.identity, standing.rule.name): over})
            self._note_past(watched)

    def _note_over(self, changes: Mapping[tuple[Identity, str], Crossing | None]) -> None:
        """Some are over and unseen; those that are None are seen, or stand again, or are no more."""
        if not self._unseen and not any(changes.values()):
            return
        for key, crossing in changes.items():
            self._unseen.pop(key, None)
            if crossing is not None:
                self._unseen[key] = crossing
        while len(self._unseen) > _MOST_OVER:
            del self._unseen[next(iter(self._unseen))]
        worst: dict[Identity, Crossing] = {}
        for crossing in reversed(self._unseen.values()):
            before = worst.setdefault(crossing.identity, crossing)
            if crossing.rule.level > before.rule.level:
                worst[crossing.identity] = crossing
        self.over = tuple(worst.values())

    def _drop_watched(self, watched: _Watched) -> None:
        """Its point is no more, or has other limits."""
        for standing in watched.standing:
            if standing.crossing is not None:
                self._events.end(watched.line, watched.place.identity[0], standing.key, Ended.NO_MORE)
            self._note_over({(watched.place.identity, standing.rule.name): None})

    def rename(self, line: str, old: str, new: str) -> None:
        """A device is called otherwise: what is past of it stays so."""
        for identity in [identity for identity in self._watched if identity[0] == old]:
            watched = self._watched.pop(identity)
            self._watched[new, identity[1]] = watched
        if old in self._parts:
            self._parts[new] = self._parts.pop(old)
        for (device, point), rule in [key for key in self._unseen if key[0][0] == old]:
            crossing = self._unseen.pop(((device, point), rule))
            self._note_over({((new, point), rule): replace(crossing, identity=(new, point))})

    # What a person does

    def acknowledge(self, identity: Identity, who: str, note: str, now: Callable[[], float]) -> int:
        """It was seen, all that is past of that point or was so unseen; how much that was."""
        watched = self._watched.get(identity)
        seen = Acknowledged(who, note.strip()[:_MOST_NOTE], now())
        count = 0
        for standing in watched.standing if watched is not None else ():
            crossing = standing.crossing
            if watched is None or crossing is None:
                continue
            count += 1
            standing.crossing = replace(crossing, seen=seen)
            self._tell_seen(crossing, seen)
        if watched is not None and count:
            self._note_past(watched)
        over = [crossing for key, crossing in self._unseen.items() if key[0] == identity]
        for crossing in over:
            self._tell_seen(crossing, seen)
        self._note_over({(identity, crossing.rule.name): None for crossing in over})
        return count + len(over)

    def _tell_seen(self, crossing: Crossing, seen: Acknowledged) -> None:
        said = f": {seen.note}" if seen.note else ""
        device, name = crossing.identity
        is_over = ", over by then," if crossing.ended_wall_s is not None else ""
        self._events.note(
            EventKind.SEEN, crossing.line, device, f"{name}: {crossing.text}{is_over} was seen by {seen.who}{said}",
            point=name, data={"limit": crossing.rule.name, "note": seen.note, "by": seen.who},
        )  # fmt: skip

    def _note_past(self, watched: _Watched) -> None:
        """What is past of a point has changed, or may have."""
        if any(standing.crossing is not None for standing in watched.standing):
            self._past[watched] = None
            self._worst = None
        elif watched in self._past:
            del self._past[watched]
            self._worst = None

    @property
    def past(self) -> tuple[Crossing, ...]:
        """The worst of each point; those that nobody has seen first, then the worst, then the newest."""
        if self._worst is None:
            crossings = (
                [standing.crossing for standing in watched.standing if standing.crossing] for watched in self._past
            )
            worst = [max(found, key=lambda crossing: (crossing.rule.level, -crossing.wall_s)) for found in crossings]
            worst.sort(key=lambda crossing: (crossing.seen is not None, -crossing.rule.level, -crossing.wall_s))
            self._worst = tuple(worst)
        return self._worst


def _differing(old: Sequence[Place], new: Sequence[Place]) -> tuple[Sequence[Place], Sequence[Place]]:
    """What of the places of a device is not the same point in the same block any more, and what is instead."""
    if len(old) != len(new):
        return old, new
    changed = [
        (old_place, now)
        for old_place, now in zip(old, new, strict=True)
        if old_place.point is not now.point or old_place.block is not now.block
    ]
    return [old_place for old_place, _ in changed], [now for _, now in changed]


def _renamed(before: dict[Identity, _Watched], places: Sequence[AnyPlace]) -> dict[Identity, Identity]:
    """Points that are only called otherwise: what they were called, by what they are called now."""
    gone = dict(before)
    for place in places:
        gone.pop(place.identity, None)
    old = {_without_name(watched.place): identity for identity, watched in gone.items()}
    found = {}
    for place in places if old else ():
        old_identity = old.get(_without_name(place))
        if place.identity not in before and old_identity is not None:
            found[place.identity] = old_identity
    return found


def _without_name(place: AnyPlace) -> object:
    """What a point is, but for its name."""
    if isinstance(place, DerivedPlace):
        return place.derived.formula
    point = place.point
    return place.device.name, point.table, point.address, point.codec, point.unit
