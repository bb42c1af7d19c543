"""What is asked for in Wire beside its list: a device's own counters, and when it fails."""

import asyncio
from collections.abc import Callable
from pathlib import Path
from threading import Thread
from typing import TYPE_CHECKING

from kanaleto.polling.session import Session
from kanaleto.site.model import Device, Line
from kanaleto.tui.shared.context import Context
from kanaleto.tui.wire_view.fields import counted_points

if TYPE_CHECKING:
    from kanaleto.evidence.when import WhenLooked
    from kanaleto.polling.owncounters import OwnCounters


class AskedAside:
    """`say` hears sentences, and whether they are the last ones."""

    def __init__(self, context: Context, say: Callable[[list[str], bool], None]) -> None:
        self._context, self._say = context, say
        self._counters: dict[str, OwnCounters] = {}
        self._asking: asyncio.Future[None] | None = None

    def ask_counters(self, place: tuple[Line, Device] | None) -> None:
        """The counters of a device (function 08), asked once; from the second time on how both have grown."""
        snapshot = self._context.snapshot
        found = snapshot.status_of(place[1].name) if place is not None else None
        if place is None or found is None:
            self._context.tell("no device of the open site is under the cursor")
            return
        line, device = place
        ours, before = found[1].tally, self._counters.get(device.name)
        points = counted_points(snapshot, device)

        def came(counted: "OwnCounters") -> None:
            from kanaleto.polling.owncounters import counters_text

            self._counters[device.name] = counted
            self._say([f"{device.name}: {counters_text(counted, before)}."], True)

        async def ask(session: Session) -> None:
            from kanaleto.polling.owncounters import own_counters

            counted = await own_counters(session, line, device, ours, points)
            self._context.later(lambda: came(counted))

        def begin(session: Session) -> None:
            self._asking = asyncio.ensure_future(ask(session))

        self._say([f"{device.name} is asked for its counters …"], False)
        self._context.do(begin)

    def ask_when(self, kept_at: Path | None, site: Path | None) -> None:
        """When it fails, looked for in a process of its own."""
        if kept_at is None:
            self._context.tell("nothing is on tape of this site: it is not on disk yet")
            return
        self._say(["looking …"], False)

        def work() -> None:
            from kanaleto.evidence.when import WhenQuestion, ask_elsewhere

            found = ask_elsewhere(WhenQuestion(str(kept_at), str(site) if site is not None else ""))
            self._context.later(lambda: self._say(_found_texts(found), True))

        Thread(target=work, name="when it fails", daemon=True).start()


def _found_texts(found: "WhenLooked | None") -> list[str]:
    if found is None:
        return ["that could not be looked for"]
    none = f"nothing stands out among {found.causes} causes"
    few = "no device has failed eight times in one way and answered eight times"
    return [one.text for one in found.found] or [none if found.cases else few]
