"""The desk of the Find view: places that are looked at, what is under way at each, and what was found there. No
interface in it.

Surveys run on the engine's loop, beside the polling. A serial port has one master, so a line of the site on the same
port is closed while its settings or units are sought or it is listened to; registers and scratch readings go through
the line as it is polled.
"""

import asyncio
import concurrent.futures
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager

from msgspec.structs import replace

from kanaleto.editing.adding import device_of, line_of, same_place
from kanaleto.finding.place import FindPlace, parse_place
from kanaleto.finding.scratch import ScratchQuestion, ScratchReader
from kanaleto.lines.channel import Unreachable
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.outcome import Outcome
from kanaleto.polling.engine import Engine
from kanaleto.polling.lending import held_by
from kanaleto.probing.directory import find_directory
from kanaleto.probing.draftmap import DraftRow
from kanaleto.probing.gently import gentle_exchanger
from kanaleto.probing.hosts import HostSurvey, parse_range
from kanaleto.probing.listening import LineListener
from kanaleto.probing.overhearing import HeardExchange
from kanaleto.probing.own_settings import read_own_settings
from kanaleto.probing.portsettings import TIMEOUT_S, SettingsSurvey
from kanaleto.probing.question import Ask, Never, Sparing, first_question, spaced, untouchable
from kanaleto.probing.registers import RegisterSurvey
from kanaleto.probing.rollcall import RollCall
from kanaleto.probing.units import ALL_UNITS, UnitSurvey
from kanaleto.probing.unitstates import SurveyStopped
from kanaleto.site.links.link import FramingKind, Link
from kanaleto.site.model import Line, Site
from kanaleto.site.origin import Origin
from kanaleto.supervision.owned import fault_sentence, report
from kanaleto.unknown.everything import Everything
from kanaleto.wire.pdu import Request

_UNIT_TIMEOUT_S = 0.3
_WATCH_S = 2.0
_PUBLISH_S = 0.2
DRAFT_EACH_S = 30.0
_REGISTER_TIMEOUT_S = 0.5
WITHIN_S = 300.0


__all__ = ["Desk", "FindPlace", "parse_place", "place_of_line"]


@asynccontextmanager
async def opened(link: Link) -> AsyncIterator[Exchanger]:
    """A connection of one's own. Raises Unreachable."""
    exchanger = gentle_exchanger(link)
    try:
        await exchanger.open()
        yield exchanger
    finally:
        exchanger.close()


class Desk:
    """Places by their title, in the order of their coming. All methods are for the interface's thread."""

    def __init__(self, engine: Engine) -> None:
        self.places: list[FindPlace] = []
        self.scratch: ScratchReader | None = None
        self._engine = engine
        self._scratch_task: concurrent.futures.Future[None] | None = None
        self._is_paused = False

    @property
    def _site(self) -> Site:
        return self._engine.snapshot.site

    def named(self, title: str) -> FindPlace | None:
        return next((place for place in self.places if place.title == title), None)

    def take(self, place: FindPlace) -> FindPlace:
        """Put a place on the desk, or give the one that is there already, with its link renewed where that was typed in
        full."""
        for known in self.places:
            if known.title == place.title:
                if (
                    place.link is not None
                    and place.state.knows_settings
                    and (known.link, known.state.knows_settings) != (place.link, True)
                ):
                    known.update(link=place.link, knows_settings=True)
                return known
        self.places.append(place)
        return place

    def never(self, link: Link, unit_id: int | None = None) -> Never:
        """What devices of the site at that place must never be asked for; of all units, or of one."""
        line = line_of(self._site, link)
        devices = [device for device in line.devices if unit_id in (None, device.unit_id)] if line is not None else []
        return tuple(span for device in devices for span in untouchable(device))

    # What can be started

    def try_settings(self, place: FindPlace) -> None:
        """Find the settings of a serial line. Raises ValueError."""
        link = place.link
        if link is None or not link.is_serial:
            raise ValueError(f"{place.title} is no serial line, and has no settings to try")

        async def work() -> None:
            timeout_s = place.state.timing.timeout_s or TIMEOUT_S
            place._settings = survey = SettingsSurvey(link, timeout_s=timeout_s, never=self.never(link))
            async with self._engine.session.borrowed(link, "trying settings"):
                found = await survey.run()
            if found is None:
                place.update(note=f"no settings answered, {survey.asked} questions asked")
                return
            place.update(link=found, knows_settings=True, note=f"{survey.found.title if survey.found else ''} answers")

        self._start(place, "trying settings", "settings", work)

    def ask_units(self, place: FindPlace) -> None:
        """Ask every unit ID. Raises ValueError."""
        link = self._need_link(place)

        async def work() -> None:
            async with self._engine.session.borrowed(link, "asking units"):
                await self._ask_units(place, link)

        self._start(place, "asking units", "units", work)

    async def _ask_units(self, place: FindPlace, link: Link) -> None:
        timing = place.state.timing
        units = [255, 0, *ALL_UNITS] if link.framing is FramingKind.TCP else list(ALL_UNITS)
        async with opened(link) as exchanger:
            place._asked_by = place._units = survey = UnitSurvey(
                exchanger, units, timing.timeout_s or _UNIT_TIMEOUT_S, self.never(link), pause_s=timing.pause_s
            )
            await survey.run()
        place.update(
            note=survey.note or f"{len(survey.found) or 'no'} unit{'s' if len(survey.found) != 1 else ''} found"
        )

    def look_for_registers(self, place: FindPlace, unit_id: int) -> None:
        """Find what reads, or go on where it stopped; with it a directory, and what the map marks as the device's own
        settings."""
        link = self._need_link(place)
        never = self.never(link, unit_id)
        timing = place.state.timing
        timeout_s = timing.timeout_s or _REGISTER_TIMEOUT_S

        async def look(ask: Ask) -> None:
            ask = spaced(ask, timing.pause_s)
            survey = place._registers.get(unit_id)
            if survey is None or survey.is_over:
                survey = place._registers[unit_id] = RegisterSurvey(ask, unit_id, never=never, timeout_s=timeout_s)
            survey.ask_with(ask)
            await self._read_own(place, link, unit_id, ask)
            is_over = await survey.run()
            if not survey.functions:
                await survey.ask_functions()
            await survey.watch(_WATCH_S)
            if unit_id not in place.state.directories:
                found = await find_directory(ask, unit_id, timeout_s, never=never)
                place.update(directories={**place.state.directories, unit_id: found})
            if not is_over:
                share = f"{100 * survey.share:.0f} % of what is likely"
                place.update(note=f"{share} was asked, in {survey.asked} requests: the same key goes on")

        self._start(place, f"looking for registers of unit {unit_id}", "registers", lambda: self._on(link, look))
        place.update(unit_id=unit_id)

    async def _read_own(self, place: FindPlace, link: Link, unit_id: int, ask: Ask) -> None:
        line, device = line_of(self._site, link), device_of(self._site, link, unit_id)
        if line is not None and device is not None and any(point.setting for point in device.points):
            own_settings = tuple(await read_own_settings(ask, line, device))
            place.update(settings_by_unit={**place.state.settings_by_unit, unit_id: own_settings})

    def listen(self, place: FindPlace) -> None:
        """Listen without sending a byte, until stopped. Raises ValueError."""
        link = place.link
        if link is None or not link.is_serial:
            raise ValueError("listening is for serial lines: on a network nobody hears what others say")

        session = self._engine.session
        in_site = line_of(session.site, link)
        known = in_site or Line(place.title, link, ())
        lines: list[Line] = []

        def keep(heard: HeardExchange) -> None:
            """What another master asks is kept as exchanges, of the line at the settings that were found."""
            if not lines:
                there = place._listener.link if place._listener is not None else link
                lines.append(replace(known, link=there, origin=Origin.OVERHEARD.value))
            line = lines[0]
            device = next((one for one in line.devices if one.unit_id == heard.unit_id), None)
            session.overhear(line, device, heard.asked, heard.outcome(link.character_s))

        async def work() -> None:
            place._listener = listener = LineListener(link, place.state.knows_settings, on_heard=keep)
            try:
                async with self._engine.session.borrowed(link, "listening"):
                    await listener.run()
            finally:
                if listener.is_settled:
                    place.update(link=listener.link, knows_settings=True)

        self._start(place, "listening", "listening", work)

    def ask_hosts(self, place: FindPlace) -> None:
        """Ask every host of a range that was typed."""
        hosts, port = parse_range(place.state.range)

        async def work() -> None:
            place._hosts = survey = HostSurvey(
                hosts, port, timeout_s=place.state.timing.timeout_s or _REGISTER_TIMEOUT_S
            )
            await survey.run()
            answering = sum(found.unit_id is not None or "gateway" in found.text for found in survey.found.values())
            place.update(note=f"{answering or 'none'} of {len(hosts)} answer{'' if answering > 1 else 's'}")

        self._start(place, "asking hosts", "hosts", work)

    def stop(self, place: FindPlace) -> bool:
        """End what is under way; whether there was something."""
        if place.task is None or place.task.done():
            return False
        place.task.cancel()
        return True

    def close(self) -> None:
        """End everything."""
        for place in self.places:
            self.stop(place)
        self.stop_scratch()

    # The scratch reading

    def read(self, link: Link, question: ScratchQuestion) -> ScratchReader:
        """Read again and again; whatever was read before is left."""
        self.stop_scratch()
        reader = self.scratch = ScratchReader(
            link, question, never=self.never(link, question.unit_id), polled=lambda: self._engine.session.asks_on(link),
            lent_to=lambda: self._engine.session.lending.lent_to(link),
        )  # fmt: skip
        self._scratch_task = self._engine.run(reader.run())
        return reader

    def pause_scratch(self) -> None:
        """Nobody looks: a reading that repeats asks no more until somebody does."""
        if self.is_reading and self._scratch_task is not None:
            self._scratch_task.cancel()
            self._scratch_task, self._is_paused = None, True

    def go_on_reading(self) -> None:
        if self._is_paused and self.scratch is not None:
            self._scratch_task = self._engine.run(self.scratch.run())
        self._is_paused = False

    def stop_scratch(self) -> None:
        self._is_paused = False
        if self._scratch_task is not None:
            self._scratch_task.cancel()
            self._scratch_task = None
        if self.scratch is not None:
            link = self.scratch.link
            self._engine.do(lambda session: session.lending.end_guest(link))

    @property
    def is_reading(self) -> bool:
        return self._scratch_task is not None and not self._scratch_task.done()

    # How it runs

    def _need_link(self, place: FindPlace) -> Link:
        if place.link is None:
            raise ValueError(f"{place.title} is a range of hosts: choose one of those that answer")
        return place.link

    def heard_rows(self, place: FindPlace, unit_id: int) -> "concurrent.futures.Future[list[DraftRow]]":
        """A point a register that a master was heard to read from a unit."""

        async def work() -> list[DraftRow]:
            return place.heard_rows(unit_id)

        return self._engine.run(work())

    async def _on(self, link: Link, use: Callable[[Ask], Awaitable[None]]) -> None:
        """On the line as it is polled, or on a connection of its own."""
        session = self._engine.session

        async def ask_there(unit_id: int, request: Request, timeout_s: float) -> Outcome:
            ask = session.asks_on(link)
            if ask is None:
                raise SurveyStopped(f"{link.place} is not polled as it was any more: begin again")
            return await ask(unit_id, request, timeout_s)

        if session.asks_on(link) is not None:
            await use(Sparing(ask_there))
            return
        if doing := session.lending.lent_to(link):
            raise SurveyStopped(held_by(doing, link))
        async with opened(link) as exchanger:
            await use(exchanger.ask)

    def _start(self, place: FindPlace, doing: str, shown: str, work: Callable[[], Awaitable[None]]) -> None:
        if place.task is not None and not place.task.done():
            raise ValueError(f"{place.title}: {place.state.doing} is under way; escape stops it")

        async def publish() -> None:
            while True:
                await asyncio.sleep(_PUBLISH_S)
                place.publish()

        async def guarded() -> None:
            publishing = asyncio.create_task(publish())
            try:
                await work()
            except (SurveyStopped, Unreachable, ValueError) as error:
                place.update(note=str(error))
            except Exception as error:  # an internal error ends this survey, and is reported
                report(doing, error)
                place.update(note=fault_sentence(error))
            except asyncio.CancelledError:
                if not place.has_news:  # which is reported in its own words
                    place.update(note=f"{doing}: stopped")
            finally:
                publishing.cancel()
                place.publish()
                place.update(doing="")

        place.update(doing=doing, note="", shown=shown)
        place.task = self._engine.run(guarded())

    # A line as a whole

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
            drafting = asyncio.create_task(self._draft_so_far(place, search))
            try:
                async with self._engine.session.borrowed(link, "finding everything"):
                    await search.run()
            finally:
                drafting.cancel()
                await asyncio.gather(drafting, return_exceptions=True)
                await asyncio.shield(self._conclude(place, search))

        self._start(place, "finding everything", "everything", work)

    async def _draft_so_far(self, place: FindPlace, search: Everything) -> None:
        """Now and then what is known can be added already."""
        from kanaleto.unknown.concluding import drafts_of
        from kanaleto.unknown.folder import copy_of

        while True:
            await asyncio.sleep(DRAFT_EACH_S)
            if not search.knows_settings or not search.items:
                continue
            try:
                drafts = tuple(await asyncio.to_thread(drafts_of, copy_of(search)))
            except Exception as error:  # the search goes on, and so do later drafts
                report("drafts so far", error)
                continue
            place.update(drafts=drafts, link=search.link, knows_settings=True)

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
            async with self._engine.session.borrowed(link, "asking which one it is"), opened(link) as exchanger:
                question = first_question(self.never(link))
                place.roll = RollCall(exchanger.ask, units, question, place.state.timing.timeout_s or 0.5)
                await place.roll.run()

        self._start(place, "asking which one it is", "roll", work)


def place_of_line(site: Site, place: FindPlace) -> str:
    """The name of the site's line that leads there, or nothing."""
    if place.link is None:
        return ""
    return next((line.name for line in site.lines if same_place(line.link, place.link)), "")
