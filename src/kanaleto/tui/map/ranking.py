"""Other readings of a point's words, and its neighbours: computed away from the screen."""

import asyncio
from collections.abc import Callable
from threading import Thread

from kanaleto.analysis.readings import off_by_one, other_readings, verdict, with_present
from kanaleto.board.snapshot import Snapshot
from kanaleto.planning.plan import Identity, Place
from kanaleto.polling.engine import Engine
from kanaleto.polling.once import read_once
from kanaleto.tui.map.beside import Ranked
from kanaleto.values.codec import NoValue
from kanaleto.values.text import shown

_EVERY_S = 2.0
_NEAR = 10  # addresses between a point and those whose types speak for its own


def key_of(place: Place) -> tuple[Identity, int]:
    """What readings are about: the point at its address."""
    return place.identity, place.point.address


def rank_place(snapshot: Snapshot, place: Place, display: str) -> tuple[Ranked, str]:
    """Ranked readings, and what is wrong with `display` where it is no number."""
    point, wrong = place.point, ""
    beside = [
        other.codec
        for other in snapshot.plan.points_of(place.device.name)
        if other is not point and other.sure is None and abs(other.address - point.address) < _NEAR
    ]
    try:
        others = other_readings(snapshot.board, place, display, beside)
        found = with_present(others, snapshot.board, place, display)
    except ValueError as error:
        wrong, found, display = str(error), [], ""
    return Ranked(key_of(place), display, found, verdict(found, display) if display and found else ""), wrong


class Ranker:
    """Ranks again now and then, on a thread, one point at a time; `take` gets what came of it, on the interface's
    thread."""

    def __init__(self, later: Callable[[Callable[[], None]], None], take: Callable[[Ranked, str], None]) -> None:
        self._later, self._take = later, take
        self._begun_s = 0.0
        self._is_under_way = False

    def look(self, snapshot: Snapshot, place: Place | None, ranked: Ranked) -> None:
        """Rank when the point is another, or its ranking is old."""
        if place is None or self._is_under_way:
            return
        is_new = ranked.key != key_of(place)
        if is_new or snapshot.now_s - self._begun_s >= _EVERY_S:
            self.begin(snapshot, place, ranked.display if not is_new else "")

    def begin(self, snapshot: Snapshot, place: Place, display: str) -> None:
        self._begun_s, self._is_under_way = snapshot.now_s, True
        Thread(target=self._rank, args=(snapshot, place, display), name="rank", daemon=True).start()

    def _rank(self, snapshot: Snapshot, place: Place, display: str) -> None:
        try:
            ranked, wrong = rank_place(snapshot, place, display)
            self._later(lambda: self._take(ranked, wrong))
        finally:
            self._is_under_way = False


async def neighbours(engine: Engine, snapshot: Snapshot, place: Place) -> list[tuple[int, str]]:
    """One address down, the point's own, one up, decoded as the point is. What was read along is taken from there; the
    rest is asked once, unless it must never be touched."""
    point = place.point
    known = dict(off_by_one(snapshot.board, place))
    rows = []
    for step in (-1, 0, 1):
        data = known.get(step)
        why = "not read"
        if data is None:
            data, why = await asyncio.wrap_future(engine.run(read_once(engine.session, place, step)))
        if data is None:
            rows.append((step, why))
            continue
        value = point.codec.decode(data)
        said = shown(value, point.codec, point.decimals, point.labels) if not isinstance(value, NoValue) else ""
        text = value.reason if isinstance(value, NoValue) else f"{said} {point.unit}"
        rows.append((step, f"{data.hex(' ', 2).upper():<20} {text}"))
    return rows
