"""What the desk does with a line as a whole: find everything that stands on it, and which one of its units is which."""

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager

from kanaleto.finding.place import FindPlace
from kanaleto.lines.exchange import Exchanger
from kanaleto.polling.engine import Engine
from kanaleto.probing.asking import Never, first_question, survey_exchanger
from kanaleto.probing.rollcall import RollCall
from kanaleto.site.links.link import Link
from kanaleto.unknown.everything import Everything

WITHIN_S = 300.0


@asynccontextmanager
async def opened(link: Link) -> AsyncIterator[Exchanger]:
    """A connection of one's own. Raises Unreachable."""
    exchanger = survey_exchanger(link)
    try:
        await exchanger.open()
        yield exchanger
    finally:
        exchanger.close()


class WholeLine:
    """The desk is one of these."""

    _engine: Engine

    def _start(self, place: FindPlace, doing: str, shown: str, work: Callable[[], Awaitable[None]]) -> None:
        raise NotImplementedError

    def never(self, link: Link, unit_id: int | None = None) -> Never:
        raise NotImplementedError

    def find_everything(self, place: FindPlace, within_s: float = WITHIN_S) -> None:
        """Settings, units, registers and types, for so long; where it was begun before it goes on. Raises
        ValueError."""
        link = place.link
        if link is None:
            raise ValueError(f"{place.title} is a range of hosts: choose one of those that answer")

        async def work() -> None:
            search = place.search
            if search is None or search.link.place != link.place:
                search = Everything(
                    link, place.state.knows_settings, within_s, self.never(link), timeout_s=place.state.timing.timeout_s
                )
            search.within_s = within_s
            place.take_search(search)
            try:
                async with self._engine.session.borrowed(link):
                    await search.run()
            finally:
                await asyncio.shield(self._conclude(place, search))

        self._start(place, "finding everything", "everything", work)

    async def _conclude(self, place: FindPlace, search: Everything) -> None:
        from kanaleto.unknown.concluding import drafts_of  # numbers in columns: not before somebody wants them

        drafts = tuple(await asyncio.to_thread(drafts_of, search))
        points = sum(len(draft.rows) for draft in drafts)
        found = f"{len(drafts) or 'no'} unit{'s' if len(drafts) != 1 else ''}, {points} points; "
        left = search.not_looked_at()
        more = f"{search.stopped}; " if search.stopped else ""
        following = f"more time would go to {search.next_minutes()}" if left else "all that is likely was looked at"
        place.update(drafts=drafts, note=more + found + following)
        place.has_news = True
        if search.knows_settings:
            place.update(link=search.link, knows_settings=True)

    def call_roll(self, place: FindPlace) -> None:
        """Ask the units that were found in turn, until stopped. Raises ValueError."""
        link, units = place.link, sorted(place.state.found_units)
        if link is None or not units:
            raise ValueError("no units are known here yet: ask units (g), or find everything (f)")

        async def work() -> None:
            async with self._engine.session.borrowed(link), opened(link) as exchanger:
                question = first_question(self.never(link))
                place.roll = RollCall(exchanger.ask, units, question, place.state.timing.timeout_s or 0.5)
                await place.roll.run()

        self._start(place, "asking which one it is", "roll", work)
