"""A session that only asks: nothing is polled."""

import asyncio
from collections.abc import Awaitable, Callable, Collection

from msgspec.structs import replace

from kanaleto.cli.foreground import run_until_signal
from kanaleto.files.origins import look_around, read_through
from kanaleto.polling.session import Session
from kanaleto.site.model import Line, Site
from kanaleto.site.origin import Origin

_CONNECTED_S = 5.0


class AskingSession:
    """Of all lines, or of those named. A serial port that a service of Kanaleto holds is read through it."""

    def __init__(self, site: Site, lines: Collection[str] = ()) -> None:
        if lines:
            chosen = tuple(line for line in site.lines if line.name in lines)
            site = replace(site, lines=chosen, derived=(), composing=(), bridges=())  # which may name the others
        look_around()
        self.session = Session(replace(site, lines=tuple(_through(line) for line in site.lines)))
        self.session.hold(True)

    def run(self, work: Callable[[Session], Awaitable[None]]) -> None:
        """Do it once every line is connected, or is known to be down. A signal ends it."""

        async def asked() -> None:
            polling = asyncio.create_task(self.session.run())
            try:
                await self._connected()
                await work(self.session)
            finally:
                polling.cancel()
                await asyncio.gather(polling, return_exceptions=True)

        run_until_signal(asked())

    async def _connected(self) -> None:
        end_s = asyncio.get_running_loop().time() + _CONNECTED_S
        while asyncio.get_running_loop().time() < end_s:
            if all(p.exchanger.is_open or p.connection.why_unreachable for p in self.session.pollers):
                return
            await asyncio.sleep(0.02)


def _through(line: Line) -> Line:
    port = line.link.local_port
    place = read_through(port) if port is not None else None
    return replace(line, link=place, led_from=line.link, origin=Origin.BRIDGE.value) if place is not None else line
