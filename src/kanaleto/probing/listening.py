"""Listening on a serial port: at known settings, or at each likely one in turn until frames come out whole."""

import asyncio
from collections.abc import Callable

from kanaleto.lines.adapters import is_pseudo_terminal
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.traffic import LONGEST_PAUSE_S
from kanaleto.probing.overhearing import OnHeard, Overhearing
from kanaleto.probing.portsettings import likely_settings
from kanaleto.probing.question import survey_exchanger
from kanaleto.probing.unitstates import SurveyStopped
from kanaleto.site.links.link import FramingKind, Link, SerialSettings

_ENOUGH_FRAMES = 3
_EACH_S = 1.2
_QUIET_CHARACTERS = 10
_LEAST_QUIET_S = 0.03


class LineListener:
    """`heard`, `link` (its settings once they are known) and `trying` may be read from any thread."""

    def __init__(
        self,
        link: Link,
        knows_settings: bool,
        opener: Callable[[Link], Exchanger] = survey_exchanger,
        each_s: float = _EACH_S,
        on_heard: OnHeard = lambda heard: None,
    ) -> None:
        """`on_heard` receives each exchange, once the settings are known."""
        self.link = link
        self.heard = Overhearing(link.framing, on_heard)
        self._on_heard = on_heard
        self.is_settled = knows_settings
        self.trying: SerialSettings | None = None
        self.tried = 0
        self._open = opener
        self._each_s = each_s

    async def run(self, for_s: float | None = None) -> Overhearing:
        """Listen for `for_s` seconds, or until cancelled. Raises Unreachable, or SurveyStopped when nothing at all
        makes sense."""
        if not self.is_settled:
            await self._settle()
        await self._listen(self.link, self.heard, for_s)
        return self.heard

    async def _settle(self) -> None:
        """Try settings until frames come; bytes with none whole are evidence of the wrong ones, silence of nobody
        talking."""
        has_heard = 0
        seen: set[tuple[FramingKind, int]] = set()
        for framing, settings in likely_settings():
            key = (framing, settings.baud)
            if self.link.local_port and is_pseudo_terminal(self.link.local_port) and key in seen:
                continue  # a pseudo-terminal carries no parity
            seen.add(key)
            link = self.link.with_serial(settings, framing)
            self.trying = settings
            self.tried += 1
            heard = Overhearing(framing)
            await self._listen(link, heard, self._each_s, until_frames=_ENOUGH_FRAMES)
            has_heard += heard.bytes
            if heard.frames >= _ENOUGH_FRAMES:
                self.link, self.is_settled = link, True
                self.heard = Overhearing(framing, self._on_heard)
                return
        if not has_heard:
            raise SurveyStopped(
                "nothing was heard at any setting: no master talks on this line, or the wires are not connected"
            )
        raise SurveyStopped(
            f"{has_heard} bytes were heard and no whole frame at any setting: noise, or another protocol"
        )

    async def _listen(
        self, link: Link, heard: Overhearing, for_s: float | None, until_frames: int | None = None
    ) -> None:
        exchanger = self._open(link)
        channel = exchanger.channel
        loop = asyncio.get_running_loop()
        lost: list[str] = []
        last_at = [loop.time()]
        quiet_s = max(_QUIET_CHARACTERS * link.character_s, _LEAST_QUIET_S)
        if link.framing is FramingKind.ASCII:
            quiet_s = LONGEST_PAUSE_S["ascii"]

        def take(data: bytes, at: float) -> None:
            if at - last_at[0] > quiet_s:
                heard.silence(last_at[0])
            last_at[0] = at
            heard.feed(data, at)

        await channel.open(take, lost.append)
        end = loop.time() + for_s if for_s is not None else None
        try:
            while (end is None or loop.time() < end) and not lost:
                await asyncio.sleep(0.05)
                if until_frames is not None and heard.frames >= until_frames:
                    return
        finally:
            channel.close()
            heard.silence(last_at[0])
            heard.end(loop.time())
        if lost:
            raise SurveyStopped(f"the port was lost: {lost[0]}")
