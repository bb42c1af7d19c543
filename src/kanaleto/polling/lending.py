"""Who else uses the lines of a session: ports that are lent to a survey, and guests, lines that the site does not have
and that are only there while somebody asks on them (a scratch reading that writes)."""

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator, Sequence
from contextlib import asynccontextmanager

from kanaleto.lines.outcome import Outcome
from kanaleto.polling.line import LinePoller
from kanaleto.site.links.link import Link
from kanaleto.site.model import Line, Site
from kanaleto.wire.pdu import Request

# how long a line is left alone when it changes hands: a device thinks, then answers
_LAST_ANSWER_S, _LONGEST_FRAME = 0.2, 256
_OPENING, _OPENING_S = 250, 0.02

AskThere = Callable[[int, Request, float], Awaitable[Outcome]]


def held_by(doing: str, link: Link) -> str:
    """What to say of a port that something of ours has."""
    return f"{doing} has {link.place} now: wait for its end, or end it with escape in Find"


class Lending:
    """For the loop's thread. `switch` closes and opens the site's lines as `is_lent` says."""

    def __init__(self, make: Callable[[Line], LinePoller], switch: Callable[[], None]) -> None:
        self._make, self._switch = make, switch
        self._lent: dict[str, list[str]] = {}  # what has a port, as the screen says it
        self._guests: dict[str, tuple[LinePoller, asyncio.Task[None]]] = {}

    @property
    def guests(self) -> Iterator[LinePoller]:
        return (poller for poller, _ in self._guests.values())

    def lent_to(self, link: Link) -> str:
        """What has the port of a link now, in words; nothing where nothing of ours has it."""
        to = self._lent.get(link.serial_port) if link.serial_port is not None else None
        return to[-1] if to else ""

    def asks_on(self, link: Link, pollers: Sequence[LinePoller]) -> AskThere | None:
        """Where a line leads to the same place with the same settings: asks there, between what is polled."""
        for poller in (*pollers, *self.guests):
            if poller.line.link == link and not poller.is_off:
                return poller.ask
        return None

    @asynccontextmanager
    async def borrowed(self, link: Link, pollers: Sequence[LinePoller], to: str) -> AsyncIterator[None]:
        """The lines on the serial port of `link` are closed meanwhile, also such as an edit brings: a port has one
        master. They go on afterwards. A network has room for both. `to` says what has the port now."""
        port = link.serial_port
        if port is None:
            yield
            return
        there = [poller for poller in pollers if poller.line.link.serial_port == port]
        taken = [poller for poller in there if not poller.is_off]
        self._lent.setdefault(port, []).append(to)
        self._end(lambda line: line.link.serial_port == port)
        try:
            self._switch()
            if taken:  # an answer under way would be taken for somebody else's
                character_s = max(poller.exchanger.channel.character_s for poller in taken)
                await asyncio.sleep(_LAST_ANSWER_S + _LONGEST_FRAME * character_s)
                for _ in range(_OPENING):  # a port that was being opened just then is closed once it is open
                    if not any(poller.is_opening or poller.exchanger.is_open for poller in taken):
                        break
                    await asyncio.sleep(_OPENING_S)
            yield
        finally:
            self._lent[port].remove(to)
            self._switch()

    def host(self, link: Link, pollers: Sequence[LinePoller]) -> Line:
        """A line that leads there: one of the site, or a guest. Raises ValueError where its port is lent."""
        for poller in (*pollers, *self.guests):
            if poller.line.link == link:
                return poller.line
        line = Line(f"{link.place}, not in the site", link, ())
        if lent_to := self.lent_to(link):
            raise ValueError(held_by(lent_to, link))
        poller = self._make(line)
        task = asyncio.get_running_loop().create_task(poller.run(), name=line.name)
        self._guests[line.name] = (poller, task)
        return line

    def end_guest(self, link: Link) -> None:
        self._end(lambda line: line.link == link)

    def give_way(self, site: Site) -> None:
        """Guests end where a line of the site leads now."""
        places = {line.link.place for line in site.lines}
        self._end(lambda line: line.link.place in places)

    def end_all(self) -> list[asyncio.Task[None]]:
        """What is to be waited for."""
        tasks = [task for _, task in self._guests.values()]
        self._end(lambda line: True)
        return tasks

    def _end(self, which: Callable[[Line], bool]) -> None:
        for name, (poller, task) in list(self._guests.items()):
            if which(poller.line):
                del self._guests[name]
                poller.end("it is not in the site")
                task.cancel()
