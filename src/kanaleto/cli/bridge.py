"""`kanaleto bridge`: pass on what masters ask, from the links of a site's bridges to its lines."""

import asyncio
from collections.abc import Iterator, Sequence
from contextlib import suppress
from functools import partial
from pathlib import Path

import click
from msgspec.structs import replace

from kanaleto.bench.masters import Masters
from kanaleto.bridge.bridging import Bridging, MasterAsked, Tested, reading_through, through_places
from kanaleto.cli.completing import bridge_names
from kanaleto.cli.failures import Failed
from kanaleto.cli.foreground import run_until_signal
from kanaleto.cli.health import Health, HealthFigure, HealthLine, parse_place, polled_lines, polled_samples
from kanaleto.cli.keptfiles import begin_keeping
from kanaleto.cli.options import usage
from kanaleto.cli.output import emit, iso, say
from kanaleto.cli.serve import MasterLog
from kanaleto.events.log import EventKind
from kanaleto.files.loading import load_site
from kanaleto.files.origins import Serves, ServingMark
from kanaleto.keeping.kept import Kept
from kanaleto.polling.processlimits import prepare_process
from kanaleto.polling.session import Session
from kanaleto.serving.network import CannotServe
from kanaleto.site.bridges import Bridge
from kanaleto.site.expression import references
from kanaleto.site.filefaults import suggestion
from kanaleto.site.model import Site
from kanaleto.site.origin import Origin
from kanaleto.supervision.owned import owned_task
from kanaleto.supervision.service import ServiceManager
from kanaleto.wire.codes import WRITING

_FLUSH_S = 10.0
_MOST_FIRST = 5000
_CONNECTED_S = 3.0  # that lines have to connect before they are tested


@click.command("bridge")
@click.argument("site", type=click.Path(path_type=Path))
@click.option(
    "--only",
    "names",
    multiple=True,
    metavar="NAME",
    shell_complete=bridge_names,
    help="only this bridge, again and again for more",
)
@click.option("--test", "is_test", is_flag=True, help="one read for each routed unit, and end")
@click.option(
    "--record", "store", is_flag=False, flag_value="", metavar="[FILE|URL]",
    help="poll the site too, and record samples: to its own record, a file, or postgresql://USER@HOST/DATABASE",
)  # fmt: skip
@click.option(
    "--capture", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE.jsonl|FILE.pcapng",
    help="write exchanges on the ways out to a file, too",
)  # fmt: skip
@click.option("--log", type=click.Path(path_type=Path), metavar="FILE.jsonl", help="what masters do, a line a row")
@click.option("--health", metavar="HOST:PORT", help="how it does: GET / and GET /metrics, on loopback by default")
@click.option("--read-only", "is_read_only", is_flag=True, help="no write passes, whatever the routes say")
@click.option("--for", "for_s", type=click.FloatRange(0), metavar="S", help="end after so many seconds")
@click.option("--json", "is_json", is_flag=True, help="where masters are heard, or the tests, as objects")
def command(
    site: Path, names: tuple[str, ...], is_test: bool, store: str | None, capture: Path | None, log: Path | None,
    health: str | None, is_read_only: bool, for_s: float | None, is_json: bool,
) -> int:  # fmt: skip
    """Pass on what masters ask: from the ways in of the bridges of SITE to its lines, by unit ID.

    Many masters share a line in turns; the same read is asked once for all who ask it. Where nobody answers a master on
    a network gets 0B at once, one on a serial line silence. Prints `ready` when all ways in are open.

    \b
    With --test it asks each routed unit one read: 0 all answered, 1 not.

    \b
    Examples:
      kanaleto bridge alder-lock.toml --test
      kanaleto bridge alder-lock.toml --log masters.jsonl --health 9100
    """
    loaded, warnings = load_site(site)
    for warning in warnings:
        say(str(warning), err=True)
    bridges = usage(lambda: chosen(loaded, names))
    place = usage(partial(parse_place, health)) if health is not None else None
    polled = _needed(loaded, bridges, polls_all=store is not None)
    session = Session(polled)
    kept = Kept("kanaleto bridge", session.events, session.clock, lambda _, text: say(text, err=True) if text else None)
    kept.listen_to(session)
    rows = MasterLog(log) if log is not None else None
    masters = Masters(rows.put) if rows is not None else None
    noted = _Noted(masters, session)
    prepare_process()
    tests: list[Tested] = []

    async def work() -> None:
        polling = owned_task("polling", session.run())
        try:
            bridging = Bridging(session, bridges, is_read_only, noted.client, noted.asked)
            if is_test:
                await _connected(session, bridges)
                tests.extend(await bridging.test())
                return
            await bridging.start()
            through = Bridging(session, reading_through(loaded), only_reads=True)
            await through.start()
        except CannotServe as error:
            raise Failed(str(error)) from None
        finally:
            if is_test:
                polling.cancel()
                await asyncio.gather(polling, return_exceptions=True)
        healthy = (
            Health(place, partial(_lines, session, bridging), partial(_samples, session, bridging)) if place else None
        )
        passing = owned_task("passing on", bridging.run())
        beside = [polling, passing, owned_task("rows of masters", noted.run())]
        beside.append(owned_task("reading through", through.run()))
        try:
            if healthy is not None:
                await healthy.start()
            ways_in = [Serves(bridge.name, link, Origin.BRIDGE) for bridge, link in bridging.places]
            mark.say([*ways_in, *through_places(through)])
            if is_json:
                emit(
                    {
                        "at": iso(),
                        "ready": [{"line": bridge.name, "link": str(link)} for bridge, link in bridging.places],
                    }
                )
            else:
                say("ready")
            beside.append(asyncio.create_task(ServiceManager().run()))
            async with asyncio.timeout(for_s):
                await polling
        except TimeoutError:
            return
        finally:
            await bridging.stop()
            await through.stop()
            for task in beside:
                task.cancel()
            await asyncio.gather(*beside, return_exceptions=True)
            if healthy is not None:
                healthy.stop()

    kept.start(loaded.path, loaded)
    mark = ServingMark(loaded.path)
    try:
        begin_keeping(kept, polled, store, capture)
        run_until_signal(work())
    finally:
        mark.leave()
        kept.stop()
        if masters is not None:
            masters.flush()
        if rows is not None:
            rows.close()
    return _say_tests(tests, is_json) if is_test else 0


def chosen(site: Site, names: Sequence[str]) -> tuple[Bridge, ...]:
    """The bridges of those names; all where none are named. Raises ValueError."""
    known = [bridge.name for bridge in site.bridges]
    for name in names:
        if name not in known:
            raise ValueError(f"{name!r} is no bridge of this site{suggestion(name, known)}")
    if not known:
        raise ValueError(f"{site.name} has no [[bridge]]: docs/bridge.md shows one")
    return tuple(bridge for bridge in site.bridges if not names or bridge.name in names)


def _needed(site: Site, bridges: Sequence[Bridge], polls_all: bool) -> Site:
    """What of the site is polled: what composed devices are made from, or all of it; with their expressions."""
    sources = {name for bridge in bridges for composed in bridge.devices for name in composed.sources}
    sources |= {one_pass.device for bridge in bridges for one_pass in bridge.passes}
    for formula in site.composing:
        sources |= {name.partition("/")[0] for name in references(formula.formula)}
    lines = tuple(
        replace(
            line,
            devices=tuple(
                device if polls_all or device.name in sources else replace(device, is_enabled=False)
                for device in line.devices
            ),
        )
        for line in site.lines
    )
    return replace(site, lines=lines)


async def _connected(session: Session, bridges: Sequence[Bridge]) -> None:
    """Give the lines a moment to connect."""
    loop = asyncio.get_running_loop()
    end_s, lines = loop.time() + _CONNECTED_S, {name for bridge in bridges for name in bridge.lines}
    while loop.time() < end_s:
        connections = [session.named(name).connection for name in lines]
        if all(one.can_ask or one.why_unreachable for one in connections):
            return
        await asyncio.sleep(0.02)


class _Noted:
    """What is written down of masters: rows of the log, and events of refusals, each kind once a minute."""

    def __init__(self, masters: Masters | None, session: Session) -> None:
        self._masters, self._session = masters, session
        self._first: dict[tuple[object, ...], str] = {}

    def client(self, text: str) -> None:
        say(text, err=True)
        self._session.events.note(EventKind.CLIENT, "", "", text)

    def asked(self, asked: MasterAsked) -> None:
        if asked.why and asked.pdu is not None:
            what = f"function {asked.request[0]:02X} of unit {asked.unit_id}"
            text = f"{asked.bridge.name}: {asked.master.name} was refused {what}: {asked.why}"
            key = (asked.bridge.name, asked.master.name, asked.unit_id)
            self._session.events.note(EventKind.CLIENT, "", "", text, going_on=key, is_spell=True)
        if asked.request[0] in WRITING and asked.pdu is not None and not asked.pdu[0] & 0x80:
            self._note_write(asked)
        if self._masters is None:
            return
        target = asked.target
        line, device = (target.line, None) if target is not None else ("", None)
        if target is not None:
            with suppress(KeyError):
                devices = self._session.named(target.line).line.devices
                device = next((one for one in devices if one.unit_id == target.unit_id), None)
        more = {
            "route": f"{asked.bridge.name}/{asked.unit_id}", "waited_ms": round(1000 * asked.waited_s, 1),
            "took_ms": round(1000 * asked.took_s, 1), "shared": asked.is_shared,
        }  # fmt: skip
        self._masters.note(asked.master.name, line, device, asked.unit_id, asked.request, asked.pdu, more=more)

    def _note_write(self, asked: MasterAsked) -> None:
        """One event for all that a master writes to a range, with how often, the first value and the last."""
        target, values = asked.target, asked.request[3:].hex(" ").upper()
        key = (asked.bridge.name, asked.master.name, asked.unit_id, asked.request[:3])
        first = self._first.setdefault(key, values)
        if len(self._first) > _MOST_FIRST:
            self._first.clear()
        where = f"{target.line} unit {target.unit_id}" if target is not None else f"unit {asked.unit_id}"
        place = f"function {asked.request[0]:02X} from {int.from_bytes(asked.request[1:3])}"
        wrote = first if first == values else f"{first}, last {values}"
        text = f"{asked.bridge.name}: {asked.master.name} writes {where}, {place}: {wrote}"
        line = target.line if target is not None else ""
        self._session.events.note(EventKind.BRIDGED, line, "", text, going_on=key, is_spell=True)
        self._session.events.change(line, "", key, text)

    async def run(self) -> None:
        """Rows that are folded for a minute end."""
        while True:
            await asyncio.sleep(_FLUSH_S)
            if self._masters is not None:
                self._masters.end_old()


def _say_tests(tests: Sequence[Tested], is_json: bool) -> int:
    """Each test a line; 0 all answered, 1 not."""
    is_whole = bool(tests)
    for test in tests:
        is_there = test.outcome == "good" or (test.outcome == "exception" and test.code not in (0x0A, 0x0B))
        is_whole = is_whole and is_there
        took_ms = round(1000 * test.took_s, 1)
        if is_json:
            emit(
                {
                    "bridge": test.bridge,
                    "unit_id": test.unit_id,
                    "line": test.target.line,
                    "there": test.target.unit_id,
                    "took_ms": took_ms,
                    "outcome": test.outcome,
                    "code": test.code,
                }
            )
            continue
        verdict = f"answers in {took_ms:g} ms" if is_there else f"does not answer: {test.reason or test.outcome}"
        say(f"{test.bridge}  unit {test.unit_id} -> {test.target.line} unit {test.target.unit_id}  {verdict}")
    return 0 if is_whole else 1


def _lines(session: Session, bridging: Bridging) -> list[HealthLine]:
    """Ways out that are connected, and routes whose last request, if there was one, was answered."""
    session.publish()
    names = set(bridging.ways_out)
    found = [line for line in polled_lines(session.snapshot) if line.name in names]
    for state in bridging.states.values():
        title = f"{state.bridge} unit {state.unit_id} to {state.target.line} unit {state.target.unit_id}"
        text = "not asked yet" if state.last_good is None else f"asked {state.asked} times, {state.failed} failed"
        found.append(HealthLine(title, state.last_good is not False, text))
    return found


def _samples(session: Session, bridging: Bridging) -> Iterator[HealthFigure]:
    session.publish()
    yield from polled_samples(session.snapshot)
    for name, way in bridging.ways_out.items():
        yield HealthFigure("kanaleto_bridge_waiting", (("line", name),), len(way.turns))
    for bridge in bridging.bridges:
        yield HealthFigure("kanaleto_bridge_clients", (("bridge", bridge.name),), bridging.clients_of(bridge))
    for state in bridging.states.values():
        labels = (("bridge", state.bridge), ("line", state.target.line), ("unit", str(state.unit_id)))
        for outcome, count in (("answered", state.asked - state.failed), ("failed", state.failed)):
            yield HealthFigure("kanaleto_bridge_requests_total", (*labels, ("outcome", outcome)), count)
