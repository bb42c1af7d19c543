"""Made-up lines with habits of their own, a kind for each seed in turn: half of them (even tens of seeds) may be looked
at while something is built, the other half is run at the end only.

`python -m tests.habits [SEEDS]` prints both halves: what was found, read, drafted, polled and answered for.
"""

import asyncio
import multiprocessing
import os
import random
import sys
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from unittest import mock

from kanaleto.bench.device import SimulatedDevice
from kanaleto.files.loading import load_site
from kanaleto.site.filefaults import FaultyFile
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.model import Site
from kanaleto.unknown.everything import Everything
from kanaleto.unknown.folder import SITE, copy_of, write_folder
from kanaleto.unknown.trial import prove
from kanaleto.values.codec import Codec
from kanaleto.values.types import ByteOrder, Kind, ValueType
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read
from tests.judged import judged
from tests.madeup import MadeDevice, MadeLine, Manners, made_line
from tests.madevalues import MadePoint, range_of_points
from tests.virtual import run_virtual

KINDS = (
    "garbage at wrong rates",
    "a gateway that queues in silence",
    "a gateway that says 0B after 3 s",
    "twelve units: one dies, one has a limit of 8, one restarts",
    "equal extents, other content",
    "counts that are zero once read",
    "answers late by 5 to 30 ms",
    "a gateway that closes after ten requests",
    "restarts when asked above 1000",
)
WITHIN_S, POLLED_S = 300.0, 20.0
_DIES_S, _KEPT_EACH_S = 120.0, 30.0
_PLACES = (0, 1, 100, 200, 300, 400, 1000, 2000, 3000, 4096)


@dataclass
class Outcome:
    """What came of one line. `answered` of `asked` registers that stand still are answered for as the original does."""

    kind: str
    has_settings: bool = False
    units: int = 0
    missing: int = 0
    invented: int = 0
    addresses: int = 0
    found: int = 0
    read: int = 0
    right: int = 0
    most_readings: int = 0
    good: int = 0
    readings: int = 0
    usable_s: float = 1e9
    answered: int = 0
    asked: int = 0
    is_reads_only: bool = True
    faults: list[str] = field(default_factory=list)


def habitual_line(seed: int) -> tuple[str, MadeLine, set[int]]:
    """The kind, the line, and the units of which nobody can ask all: they die, or restart."""
    kind = KINDS[seed % len(KINDS)]
    chance = random.Random(f"habits {seed}")
    if kind == KINDS[0]:
        line = made_line(seed, is_serial=True, tells_parity=False)
        line.garbage_share = 0.3
        return kind, line, set()
    if kind in KINDS[1:3] or kind == KINDS[7]:
        line = made_line(seed, is_serial=False)
        line.absent_s = 3.0 if kind == KINDS[2] else 0.2 if kind == KINDS[1] else 0.05
        line.is_silent_gateway = kind == KINDS[1]
        line.closes_each = 10 if kind == KINDS[7] else 0
        if kind == KINDS[2]:  # or nobody could ask them all in the time
            line.devices = {unit % 40 + 1: device for unit, device in line.devices.items()}
            for unit, device in line.devices.items():
                device.unit_id = unit
        return kind, line, set()
    if kind == KINDS[3]:
        return kind, *_dense(seed, chance)
    if kind == KINDS[4]:
        return kind, _equal(seed, chance), set()
    line = made_line(seed, tells_parity=False)
    device = line.devices[chance.choice(sorted(line.devices))]
    if kind == KINDS[5]:
        first = chance.choice((500, 600, 700, 1500))
        codec = Codec(ValueType(Kind.UINT16), ByteOrder.AB)
        device.points = [
            point for point in device.points
            if point.table is not Table.HOLDING or point.end < first or point.address > first + 7
        ] + [MadePoint(Table.HOLDING, first + at, codec, lambda now: 1) for at in range(6)]  # fmt: skip
        device.manners = replace(
            device.manners, counts_at=(first, first + 5), no_function=frozenset(), hole=2, walls=frozenset()
        )
        device.__post_init__()
    elif kind == KINDS[6]:
        line.jitter_s = (0.005, 0.03)
    else:
        device.manners = replace(device.manners, resets_above=1000)
    return kind, line, {device.unit_id} if kind == KINDS[8] else set()


def _dense(seed: int, chance: random.Random) -> tuple[MadeLine, set[int]]:
    line = made_line(seed, is_serial=True, tells_parity=False)
    units, order = sorted(chance.sample(range(1, 40), 12)), chance.choice((ByteOrder.ABCD, ByteOrder.CDAB))
    line.devices = {}
    for unit in units:
        starts = sorted(chance.sample(_PLACES, 2))
        points = [
            point
            for start in starts
            for point in range_of_points(chance, Table.HOLDING, start, (order, 0.3), "measured")
        ]
        line.devices[unit] = MadeDevice(unit, points, Manners(), unit)
    dying, limited, restarting = chance.sample(units, 3)
    line.devices[limited].manners = Manners(most=8)
    line.devices[restarting].manners = Manners(resets_at=(Table.HOLDING, 5000))
    line.unplugged = lambda unit, at: unit == dying and (at > 1000.0 + _DIES_S or line.is_begun_again)
    return line, {dying}


def _equal(seed: int, chance: random.Random) -> MadeLine:
    line = made_line(seed, tells_parity=False)
    units, size = sorted(line.devices)[:2], chance.choice((18, 24, 30))
    for unit in units:
        points: list[MadePoint] = []
        while not points or points[-1].end != size:
            points = []
            made = range_of_points(chance, Table.HOLDING, 0, (ByteOrder.CDAB, 0.5), chance.choice(("float", "counter")))
            for point in made:
                if point.end > size or point.address != (points[-1].end if points else 0):
                    break
                points.append(point)
        line.devices[unit].points = points
        line.devices[unit].manners = Manners()
        line.devices[unit].__post_init__()
    return line


def outcome_of(seed: int) -> Outcome:
    """Find everything on it, within the time; draft, poll and serve what was found."""
    kind, line, hindered = habitual_line(seed)
    link = SerialLink("/virtual") if line.is_serial else line.link
    search = Everything(link, not line.is_serial, WITHIN_S, opener=line.opener)
    came = Outcome(kind, units=len(line.devices))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder)
        with mock.patch("kanaleto.probing.portsettings.is_pseudo_terminal", lambda port: not line.tells_parity):
            run_virtual(_searched(search, path / "so-far", came))
        line.begin_again()
        write_folder(path / "found", [search], "")
        first = run_virtual(prove(path / "found" / SITE, 5.0, lambda reached: line.opener(reached.link)))
        line.begin_again()
        write_folder(path / "found", [search], "", changes=first.changes)
        proof = run_virtual(prove(path / "found" / SITE, POLLED_S, lambda reached: line.opener(reached.link)))
        came.good, came.readings = proof.good, proof.readings
        came.faults += [text for text in (proof.faults, search.stopped) if text]
        if not proof.faults:
            _compare(load_site(path / "found" / SITE)[0], line, search, came)
    _count(line, search, hindered, came)
    return came


async def _searched(search: Everything, folder: Path, came: Outcome) -> None:
    """The search; beside it, when a site that can be used was there first."""

    async def keep() -> None:
        loop = asyncio.get_running_loop()
        began_s = loop.time()
        while came.usable_s > 1e8:
            await asyncio.sleep(_KEPT_EACH_S)
            write_folder(folder, [copy_of(search)], "")
            try:
                site, _ = load_site(folder / SITE)
            except FaultyFile as faulty:
                came.faults.append(str(faulty))
                return
            if any(device.points for _, device in site.devices()):
                came.usable_s = loop.time() - began_s

    beside = asyncio.create_task(keep())
    try:
        await search.run()
    finally:
        beside.cancel()
        await asyncio.gather(beside, return_exceptions=True)


def _compare(site: Site, line: MadeLine, search: Everything, came: Outcome) -> None:
    """What a stand-in that serves the site answers beside the original, where that stands still."""
    for _, device in site.devices():
        original = line.devices.get(device.unit_id)
        turn = search.turns.units.get(device.unit_id) if search.turns is not None else None
        if original is None or turn is None:
            continue
        stand_in = SimulatedDevice(device)
        for table in turn.survey.tables:
            for first, last in table.runs:
                for address in range(first, last + 1):
                    point = original.point_at(table.table, address)
                    if point is None or len({point.data(3000 + 7.3 * number) for number in range(20)}) > 1:
                        continue
                    question = Read(table.table, address, 1).encode()
                    came.asked += 1
                    came.answered += stand_in.answer(question) == original.undisturbed(question)


def _count(line: MadeLine, search: Everything, hindered: set[int], came: Outcome) -> None:
    result = judged(line, search)
    came.has_settings, came.missing = result.has_settings, len(result.missing_units)
    came.invented = len(result.invented_units)
    came.addresses, came.found, came.read, came.right = result.addresses, result.found, result.read, result.right
    for unit in hindered:  # of whom nobody can have all
        device = line.devices[unit]
        turn = search.turns.units.get(unit) if search.turns is not None else None
        reads = {
            (table.table, at)
            for table in (turn.survey.tables if turn is not None else ())
            for first, last in table.runs
            for at in range(first, last + 1)
        }
        readable = {(table, at) for table in Table for at in device.addresses(table)}
        came.addresses -= len(readable)
        came.found -= len(readable & reads)
    for device in line.devices.values():
        came.most_readings = max([came.most_readings, *device.readings.values()])
        if device.manners.counts_at is not None and device.readings:  # found, and left alone
            came.found += len(device.readings)
    came.is_reads_only = not line.outside


def outcomes(seeds: Sequence[int]) -> list[Outcome]:
    with multiprocessing.get_context("spawn").Pool(os.cpu_count() or 1) as pool:
        return pool.map(outcome_of, seeds, chunksize=1)


def halves(count: int) -> tuple[list[int], list[int]]:
    """So many seeds that may be looked at, and as many that are run at the end only."""
    block = len(KINDS)
    rounds = -(-count // block)
    looked = [2 * block * number + at for number in range(rounds) for at in range(block)]
    return looked[:count], [seed + block for seed in looked[:count]]


def told(came: Sequence[Outcome]) -> str:
    def share(part: float, whole: float) -> str:
        return f"{part / whole:.3f}" if whole else "    -"

    return (
        f"settings {share(sum(one.has_settings for one in came), len(came))}  "
        f"units {share(sum(one.units - one.missing for one in came), sum(one.units for one in came))} "
        f"+{sum(one.invented for one in came)}  "
        f"found {share(sum(one.found for one in came), sum(one.addresses for one in came))}  "
        f"right {share(sum(one.right for one in came), sum(one.read for one in came))}  "
        f"polled {share(sum(one.good for one in came), sum(one.readings for one in came))} "
        f"(least {min((one.good / max(one.readings, 1) for one in came), default=1):.3f})  "
        f"stand-in {share(sum(one.answered for one in came), sum(one.asked for one in came))}  "
        f"usable after {max(one.usable_s for one in came):.0f} s  readings {max(one.most_readings for one in came)}"
    )


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 2 * len(KINDS)
    looked, judging = halves(count)
    for title, seeds in (("to look at", looked), ("to judge by", judging)):
        came = outcomes(seeds)
        print(f"{title}\n  {'all':58} {told(came)}", flush=True)
        for kind in KINDS:
            alike = [one for one in came if one.kind == kind]
            if alike:
                print(f"  {kind:58} {told(alike)}")
            for one in alike:
                for fault in one.faults:
                    print(f"      {fault}")


if __name__ == "__main__":
    main()
