"""A place of the view Find: a port, a host or a range of hosts, and what was found there."""

import asyncio
import concurrent.futures
from threading import Lock

from msgspec.structs import replace

from kanaleto.finding.placestates import (
    PlaceState,
    UnitsState,
    state_of_everything,
    state_of_hosts,
    state_of_listener,
    state_of_registers,
    state_of_roll,
    state_of_searched,
    state_of_settings,
    state_of_units,
)
from kanaleto.probing.draftmap import DraftRow, rows_of_overhearing
from kanaleto.probing.hosts import HostSurvey, parse_range
from kanaleto.probing.listening import LineListener
from kanaleto.probing.portsettings import SettingsSurvey
from kanaleto.probing.registers import RegisterSurvey
from kanaleto.probing.rollcall import RollCall
from kanaleto.probing.units import UnitSurvey
from kanaleto.site.links.link import Link
from kanaleto.site.links.parse import names_settings, parse_link
from kanaleto.site.links.tcp import TcpLink
from kanaleto.unknown.everything import Everything


class FindPlace:
    """A place that is looked at. `state` is replaced whole, and may be read from any thread; the surveys themselves
    belong to the engine's loop, which publishes what they have found."""

    def __init__(self, title: str, link: Link | None, knows_settings: bool = True, range_text: str = "") -> None:
        self.state = PlaceState(title, link, knows_settings, range_text)
        self.task: concurrent.futures.Future[None] | None = None
        self._lock = Lock()
        self._settings: SettingsSurvey | None = None
        self._units: UnitSurvey | None = None
        self._listener: LineListener | None = None
        self._hosts: HostSurvey | None = None
        self._registers: dict[int, RegisterSurvey] = {}
        self.search: Everything | None = None
        self._asked_by: object = None  # what asked the units last
        self.is_agreed = False  # that it may be asked
        self.begun_for: object = None  # the site that was open when everything was begun to be found
        self.has_news = False  # a search for everything came to an end that nobody has seen yet
        self.roll: RollCall | None = None

    @property
    def title(self) -> str:
        return self.state.title

    @property
    def link(self) -> Link | None:
        return self.state.link

    def take_search(self, search: Everything) -> None:
        """What is found from now on is what this search finds."""
        self.search = self._asked_by = search

    def update(self, **changes: object) -> None:
        """Other fields of the state."""
        with self._lock:
            self.state = replace(self.state, **changes)

    def publish(self) -> None:
        """Let others see what was found so far. On the loop."""
        search = self.search
        if search is not None:
            self._settings = search.settings or self._settings
            if search.knows_settings and not self.state.knows_settings:
                self.update(link=search.link, knows_settings=True)
            if search.turns is not None:
                self._registers |= {unit: turn.survey for unit, turn in search.turns.units.items()}
        now_s = asyncio.get_running_loop().time()
        self.update(
            everything=state_of_everything(search, now_s) if search is not None else None,
            roll=state_of_roll(self.roll, now_s) if self.roll is not None else None,
            settings=state_of_settings(self._settings) if self._settings is not None else None,
            units=self._state_of_units(),
            heard=state_of_listener(self._listener) if self._listener is not None else None,
            hosts=state_of_hosts(self._hosts) if self._hosts is not None else None,
            registers={unit: state_of_registers(survey) for unit, survey in self._registers.items()},
        )

    def _state_of_units(self) -> UnitsState | None:
        """As they were asked last, by themselves or in a search for everything."""
        if self.search is not None and self._asked_by is self.search:
            return state_of_searched(self.search)
        return state_of_units(self._units) if self._units is not None else None

    def heard_rows(self, unit_id: int) -> list[DraftRow]:
        """A point a register that was overheard. On the loop."""
        return rows_of_overhearing(self._listener.heard, unit_id) if self._listener is not None else []


def parse_place(text: str) -> FindPlace:
    """A place from what somebody typed: a LINK, a host, a port's path or name, or a range of hosts. Raises
    ValueError."""
    text = text.strip()
    if not text:
        raise ValueError(
            "type a link such as tcp://192.0.2.7, a port such as /dev/ttyUSB0, or a range such as 192.0.2.10-60"
        )
    if "://" in text:
        link = parse_link(text)
        return FindPlace(link.place, link, names_settings(text, link))
    if text.startswith(("/", "./", "~")) or text.upper().startswith("COM"):
        link = parse_link(f"rtu://{text}")
        return FindPlace(link.place, link, knows_settings=False)
    hosts, port = parse_range(text)
    if len(hosts) == 1 and "/" not in text:
        link = TcpLink(hosts[0], port)
        return FindPlace(link.place, link)
    return FindPlace(text, None, range_text=text)
