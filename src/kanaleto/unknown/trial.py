"""A drafted site, tried before it is handed over: it is loaded as `check` does, and polled for a few seconds.

What does not fit is mended in it: a line that its devices would fill is asked less often, a device whose answers come
late is waited for longer, and what the poll learned of limits and holes is written down.
"""

import asyncio
from collections.abc import Callable, Mapping
from math import ceil
from pathlib import Path

from msgspec import Struct, field

from kanaleto.files.loading import load_site
from kanaleto.lines.exchange import Exchanger
from kanaleto.polling.session import Session
from kanaleto.site.filefaults import FaultyFile
from kanaleto.site.model import Line

MOST_LOAD = 0.75  # of a line's time that the site may take
_LONGER = 1.5  # times its timeout, for a device whose answers came late
_FEW = 0.01  # of the readings may be late

Changes = dict[str, dict[str, object]]
"""Keys of the site file by device name."""


class Proof(Struct, frozen=True):
    """What came of it: readings that were good, of so many; how much of each line's time they take at their periods
    now; what is to be changed; or why the site cannot be loaded."""

    good: int = 0
    readings: int = 0
    loads: Mapping[str, float] = field(default_factory=dict)
    changes: Changes = field(default_factory=dict)
    faults: str = ""

    def text(self, for_s: float) -> str:
        """In one sentence."""
        if self.faults:
            return f"the site has faults: {self.faults}"
        if not self.readings:
            return "the site was polled, and nothing was due"
        busiest = max(self.loads.values(), default=0.0)
        changed = f"; changed after that: {', '.join(sorted(self.changes))}" if self.changes else ""
        return (
            f"the site was polled for {for_s:.0f} s: {self.good} of {self.readings} readings good, "
            f"the busiest line {100 * busiest:.0f} % full{changed}"
        )


async def prove(path: Path, for_s: float, make_exchanger: Callable[[Line], Exchanger] | None = None) -> Proof:
    """Load the site and poll it for so long. It only reads."""
    try:
        site, _ = load_site(path)
    except FaultyFile as faulty:
        return Proof(faults=str(faulty))
    session = Session(site, make_exchanger)
    try:
        async with asyncio.timeout(for_s):
            await session.run()
    except TimeoutError:
        pass
    session.publish()
    return _proof_of(session)


def _proof_of(session: Session) -> Proof:
    tallies = {name: state.counts.tally() for poller in session.pollers for name, state in poller.states.items()}
    changes: Changes = {name: dict(keys) for name, keys in session.learned().items()}
    loads: dict[str, float] = {}
    for poller in session.pollers:
        devices = [device for device in poller.line.devices if device.points]
        load = session.snapshot.load(poller.line)
        if load > MOST_LOAD:
            for device in devices:
                changes.setdefault(device.name, {})["period_s"] = float(ceil(device.period_s * load / MOST_LOAD))
        loads[poller.line.name] = min(load, MOST_LOAD)
        for device in devices:
            tally = tallies.get(device.name)
            if tally is not None and tally.timeouts > _FEW * tally.exchanges:
                changes.setdefault(device.name, {})["timeout_s"] = round(_LONGER * device.timeout_s, 2)
    good = sum(tally.good for tally in tallies.values())
    return Proof(good, sum(tally.exchanges for tally in tallies.values()), loads, changes)
