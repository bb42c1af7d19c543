"""Lines whose port another Kanaleto program holds: they can be read through it; offered, begun and ended here."""

import time
from threading import Thread
from typing import Protocol

from kanaleto.board.snapshot import LineStatus, Snapshot
from kanaleto.files.origins import look_around, read_through
from kanaleto.site.links.link import Link
from kanaleto.site.model import Line
from kanaleto.site.origin import Origin
from kanaleto.tui.shared.bench import AppBench

_EACH_S = 2.0
_KIND = "through"


class _ThroughHost(Protocol):
    """What it needs of the application."""

    bench: AppBench

    @property
    def snapshot(self) -> Snapshot: ...

    def tell(self, notice: str) -> None: ...

    def trouble(self, kind: str, text: str) -> None: ...


class AppThrough:
    """For the interface's thread."""

    def __init__(self, context: _ThroughHost) -> None:
        self._context = context
        self.offers: dict[str, Link] = {}
        self._looked_s = 0.0
        self._is_looking = False
        self._message = ""

    def look(self, snapshot: Snapshot) -> None:
        """Whether a line that is down can be read through a service; said as long as it is so. Called at each tick."""
        held = [status for status in snapshot.lines if _is_held(status)]
        self.offers = {
            status.line.name: place for status in held if (place := read_through(status.line.link.local_port or ""))
        }
        if held and not self._is_looking and time.monotonic() - self._looked_s > _EACH_S:
            self._is_looking = True
            Thread(target=self._look_around, name="look around", daemon=True).start()
        self._say(self._words(snapshot))

    def _look_around(self) -> None:
        """It looks at the disk, which may be slow."""
        try:
            look_around()
        finally:
            self._looked_s, self._is_looking = time.monotonic(), False

    def _words(self, snapshot: Snapshot) -> str:
        if self.offers:
            names = ", ".join(self.offers)
            return f"{names}: its port is held by a service of Kanaleto; J reads through it, nothing is written there"
        gone = [line.line.name for line in snapshot.lines if _is_through(line.line) and line.why_unreachable]
        return f"{gone[0]}: the service that it was read through has ended; J leads it back" if gone else ""

    def _say(self, words: str) -> None:
        if words != self._message:
            self._message = words
            self._context.trouble(_KIND, words)

    def turn(self) -> None:
        """Read what can be through services; where nothing more can be, lead what is read so back to its port."""
        lines = {status.line.name: status.line for status in self._context.snapshot.lines}
        if self.offers:
            for name, place in self.offers.items():
                self._context.bench.turn_through(lines[name], place)
            return
        through = [line for line in lines.values() if _is_through(line)]
        for line in through:
            self._context.bench.turn_through(line, None)
        if not through:
            self._context.tell("no line's port is held by a service of Kanaleto")


def _is_held(status: LineStatus) -> bool:
    return bool(status.why_unreachable) and status.line.led_from is None and status.line.link.local_port is not None


def _is_through(line: Line) -> bool:
    return line.led_from is not None and line.origin == Origin.BRIDGE.value
