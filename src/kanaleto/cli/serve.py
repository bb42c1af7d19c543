"""`kanaleto serve`: the far end of every line of a site."""

import asyncio
import json
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from functools import partial
from ipaddress import ip_network
from pathlib import Path
from queue import Full, Queue
from typing import Any

import click
from msgspec.structs import replace

from kanaleto.bench.bench import Bench
from kanaleto.bench.faults import parse_fault
from kanaleto.bench.free import LEAST_HEAR_S, look_at, needs_hearing
from kanaleto.bench.freeplaces import at_link, elsewhere
from kanaleto.bench.masters import MasterRow, Masters, as_json
from kanaleto.bench.remembered import recall, state_of
from kanaleto.bench.server import StandIn
from kanaleto.cli.completing import device_names, line_names
from kanaleto.cli.failures import Failed
from kanaleto.cli.foreground import run_until_signal
from kanaleto.cli.health import Health, HealthFigure, HealthLine, parse_place
from kanaleto.cli.options import usage
from kanaleto.cli.output import emit, iso, say
from kanaleto.events.clock import Clock
from kanaleto.events.log import EventKind, EventLog
from kanaleto.files.loading import load_site
from kanaleto.files.origins import Serves, ServingMark
from kanaleto.files.texts import read_json
from kanaleto.files.whole import write_whole
from kanaleto.keeping.kept import Kept
from kanaleto.lines.channel import Unreachable
from kanaleto.polling.session import LOOK_S
from kanaleto.probing.unitstates import SurveyStopped
from kanaleto.serving.network import CannotServe
from kanaleto.site.filefaults import suggestion
from kanaleto.site.model import Line, Site
from kanaleto.site.origin import Origin
from kanaleto.supervision.owned import Failure, follow, leave, owned_thread
from kanaleto.supervision.service import ServiceManager

_MOST_WAITING = 20_000  # rows that a slow disk has not taken yet
_CLOSE_S = 5.0
_KEEP_EVERY_S = 60.0


def far_end_options(function: Callable[..., Any]) -> Callable[..., Any]:
    """What `serve` and `rehearse` share: who is served where, and for whom."""
    for option in reversed(
        (
            click.option(
                "--at", "at", metavar="LINK", help="serve the one line that is chosen there, not at its own link"
            ),
            click.option(
                "--listen", metavar="ADDRESS", help="bind network lines here instead of the host of their link"
            ),
            click.option(
                "--clients", metavar="ADDRESSES", help="only these may ask: addresses and networks, with commas"
            ),
            click.option(
                "--line", "lines", multiple=True, metavar="NAME", shell_complete=line_names,
                help="only this line, again and again for more",
            ),
            click.option(
                "--device", "devices", multiple=True, metavar="NAME", shell_complete=device_names,
                help="only this device",
            ),
            click.option(
                "--hear", "hear_s", type=click.FloatRange(LEAST_HEAR_S), default=LEAST_HEAR_S, show_default=True,
                metavar="S", help="how long a serial port that exists is listened to first",
            ),
            click.option(
                "--yes", "is_sure", is_flag=True, help="go on where nobody was heard and nobody could be asked"
            ),
            click.option(
                "--seed", type=int, metavar="N", help="of all that is drawn, in place of the site's bench_seed"
            ),
        )
    ):  # fmt: skip
        function = option(function)
    return function


@click.command("serve")
@click.argument("site", type=click.Path(path_type=Path))
@click.option("--for", "for_s", type=click.FloatRange(0), metavar="S", help="end after so many seconds")
@far_end_options
@click.option("--fault", "faults", multiple=True, metavar="TEXT", help="from the start: 'DEVICE|LINE: NAME key=value'")
@click.option("--log", type=click.Path(path_type=Path), metavar="FILE.jsonl", help="what masters do, a line a row")
@click.option("--log-all", is_flag=True, help="each read a line of its own, not folded")
@click.option(
    "--keep",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="begin with what stands there, and leave there what stands at the end",
)
@click.option(
    "--health", "health", metavar="HOST:PORT", help="how it does: GET / and GET /metrics, on loopback by default"
)
@click.option("--json", "is_json", is_flag=True, help="say where each line is served as an object, instead of ready")
def command(
    site: Path, for_s: float | None, at: str | None, listen: str | None, clients: str | None, lines: tuple[str, ...],
    devices: tuple[str, ...], hear_s: float, is_sure: bool, seed: int | None, faults: tuple[str, ...],
    log: Path | None, log_all: bool, keep: Path | None, health: str | None, is_json: bool,
) -> int:  # fmt: skip
    """Be the far end of every line of SITE: its devices, simulated, on the ports that the site names.

    Their registers move as the site says (moves, quantity, machine). A serial port that does not exist becomes a
    pseudo-terminal, linked at its path; one that exists is listened to first, and where a device answers there under
    one of these unit IDs, nothing is served. Prints `ready` when all listen.

    \b
    Faults: silent, late ms=300, lost each=5, garbled each=1 bits=1, short bytes=3, unit unit=9, exception code=4,
    busy, previous, hang_up after=10, frozen point=P, jump point=P by=2, power; over TCP refuse and cable.

    \b
    Example:
      kanaleto serve alder-lock.toml --for 60
      kanaleto serve alder-lock.toml --line Cabinet --fault 'Weather mast: late ms=300' --log masters.jsonl
    """
    loaded, _ = load_site(site)
    served = usage(lambda: only(loaded, lines, devices, at))
    who = usage(lambda: clients_of(clients))
    kept_state = usage(lambda: read_state(keep)) if keep is not None else None
    tell_open(listen, who)
    place = usage(partial(parse_place, health)) if health is not None else None
    wanted = [usage(partial(parse_fault, text)) for text in faults]
    if log_all and log is None:
        raise click.UsageError("--log-all goes with --log FILE")
    clock = Clock()
    events = EventLog(clock.now)
    kept = Kept("kanaleto serve", events, clock, lambda _, text: say(text, err=True) if text else None)

    def tell(text: str) -> None:
        say(text, err=True)
        events.note(EventKind.CLIENT, "", "", text)  # of one host and one kind only now and then

    async def look_around() -> None:
        while True:
            await asyncio.sleep(LOOK_S)
            message = clock.look()
            if message:
                events.note(EventKind.CLOCK, "", "", message)

    async def work() -> None:
        loop = asyncio.get_running_loop()

        def note(failure: Failure) -> None:  # said it is already, by whoever runs us
            loop.call_soon_threadsafe(events.note, EventKind.FAULT, "", "", failure.text)

        follow(note)
        try:
            bench = Bench(loaded, listen, tell, seed, masters, lambda text: say(text, err=True), stands_of(served), who)
            if kept_state is not None:
                usage(partial(recall, bench, kept_state))
            for fault in wanted:
                usage(partial(bench.begin_fault, fault))
            await asyncio.gather(*(hear(line, hear_s, is_sure) for line in served.lines if needs_hearing(line)))
            await bench.start()
            healthy = Health(place, partial(served_lines, bench), partial(served_samples, bench)) if place else None
            if healthy is not None:
                await healthy.start()
        except CannotServe as error:
            raise Failed(str(error)) from None
        mark.say(Serves(line.name, line.link, Origin.STAND_IN) for line in served.lines)
        beside = [asyncio.create_task(look_around()), asyncio.create_task(bench.run())]
        beside.append(asyncio.create_task(ServiceManager().run()))
        if keep is not None:
            beside.append(asyncio.create_task(keep_now_and_then(keep, bench)))
        try:
            if is_json:
                emit({"at": iso(), "ready": [{"line": line.name, "link": str(line.link)} for line in served.lines]})
            else:
                say("ready")
            await (asyncio.sleep(for_s) if for_s is not None else asyncio.Event().wait())
        finally:
            for task in beside:
                task.cancel()
            if healthy is not None:
                healthy.stop()
            if keep is not None:
                keep_state(keep, bench)
            await bench.stop()
            leave(note)

    rows = MasterLog(log) if log is not None else None
    masters = Masters(rows.put, not log_all) if rows is not None else None
    kept.start(loaded.path, loaded)
    mark = ServingMark(loaded.path)
    try:
        run_until_signal(work())
    finally:
        mark.leave()
        kept.stop()
        if rows is not None:
            rows.close()
    return 0


def served_lines(bench: Bench) -> list[HealthLine]:
    """Each is well as long as it is served."""
    shut = [wanted for wanted, _ in bench.faults if wanted.name in ("refuse", "cable")]
    return [
        HealthLine(
            line.name, not any(bench.is_of_line(wanted, line.name) for wanted in shut),
            f"served at {bench.server.link_of(stand)}, asked {sum(one.requests for one in units.served)} times",
        )
        for units in bench.units
        for line in (units.line,)
        if (stand := bench.server.stand_of(line.name)) is not None
    ]  # fmt: skip


def served_samples(bench: Bench) -> Iterator[HealthFigure]:
    for line in served_lines(bench):
        yield HealthFigure("kanaleto_line_up", (("line", line.name),), float(line.is_well))
    for units in bench.units:
        if bench.server.stand_of(units.line.name) is not None:
            for simulated in units.served:
                labels = (("line", units.line.name), ("device", simulated.device.name), ("outcome", "asked"))
                yield HealthFigure("kanaleto_exchanges_total", labels, simulated.requests)
    yield HealthFigure("kanaleto_moves_late_seconds_total", (), bench.left_out_s)


async def hear(line: Line, hear_s: float, is_sure: bool) -> None:
    """Whether somebody answers already on a port that exists. Raises Failed."""
    say(f"{line.name}: listening on {line.link.place} for {hear_s:g} s before anybody answers there", err=True)
    try:
        place = await look_at(line, hear_s)
    except (Unreachable, SurveyStopped) as error:
        raise Failed(f"{line.name}: {error}") from None
    if place.why_not:
        free = f"--line '{line.name}' --at '{elsewhere(line)}' serves it at a free place"
        raise Failed(f"{line.name}: {place.why_not}; {free}, or unplug what is there")
    if place.unsure and not place.was_heard and not is_sure:
        who = ", ".join(place.unsure[:6])
        raise Failed(f"{line.name}: nobody was heard, and {who} cannot be asked: --yes answers there all the same")


class MasterLog:
    """A file of rows, each a line of JSON, written by a thread: a slow disk holds up no answer. A disk that takes
    nothing is reported once, and so are rows that it was too slow for."""

    def __init__(self, path: Path) -> None:
        try:
            self._file = path.open("a", encoding="utf-8")
        except OSError as error:
            raise Failed(f"{path} cannot be written: {error.strerror}") from None
        self._path, self._reported = path, set[str]()
        self._rows: Queue[MasterRow | None] = Queue(_MOST_WAITING)
        self._thread = owned_thread("log of masters", self._work)
        self._thread.daemon = True
        self._thread.start()

    def put(self, row: MasterRow) -> None:
        try:
            self._rows.put_nowait(row)
        except Full:
            self._tell_once(f"{self._path}: the disk is too slow for all rows, some are left out")

    def _work(self) -> None:
        while (row := self._rows.get()) is not None:
            try:
                self._file.write(json.dumps(as_json(row, iso), ensure_ascii=False) + "\n")
                if self._rows.empty():
                    self._file.flush()
            except OSError as error:
                self._tell_once(f"{self._path} takes nothing more: {error.strerror}")

    def _tell_once(self, text: str) -> None:
        if text not in self._reported:
            self._reported.add(text)
            say(text, err=True)

    def close(self) -> None:
        """All that waits is written, where the disk takes it within some seconds."""
        with suppress(Full):
            self._rows.put(None, timeout=_CLOSE_S)
        self._thread.join(_CLOSE_S)
        if self._thread.is_alive():
            self._tell_once(f"{self._path}: the disk is too slow, the last rows are not there")
            return
        with suppress(OSError):
            self._file.close()


def clients_of(text: str | None) -> tuple[str, ...]:
    """Addresses and networks, with commas between. Raises ValueError with one sentence."""
    found = tuple(one.strip() for one in text.split(",") if one.strip()) if text is not None else ()
    if text is not None and not found:
        raise ValueError("--clients names nobody: write addresses, as in 192.0.2.7,198.51.100.0/24")
    for one in found:
        try:
            ip_network(one, strict=False)
        except ValueError:
            raise ValueError(f"{one!r} is no address and no network, as 192.0.2.7 or 198.51.100.0/24") from None
    return found


def tell_open(listen: str | None, clients: Sequence[str]) -> None:
    """On all interfaces it says so."""
    if listen in ("0.0.0.0", "::"):
        who = f"only {', '.join(clients)}" if clients else "every machine that reaches this one"
        say(f"listening on all interfaces: {who} may ask", err=True)


def read_state(path: Path) -> dict[str, Any] | None:
    """What a bench has left there; None where nothing is yet. Raises ValueError."""
    if not path.exists():
        if not path.parent.is_dir():
            raise ValueError(f"there is no folder {path.parent}")
        return None
    try:
        state = read_json(path)
    except (OSError, ValueError) as error:
        raise ValueError(f"{path} cannot be read: {error}") from None
    if not isinstance(state, dict) or "kanaleto_bench" not in state:
        raise ValueError(f"{path} is no state that a bench has left; it stays as it is")
    return state


def keep_state(path: Path, bench: Bench) -> None:
    """A disk that takes nothing is reported."""
    try:
        write_whole(path, json.dumps(state_of(bench)) + "\n")
    except OSError as error:
        say(f"{path} cannot be written: {error.strerror or error}", err=True)


async def keep_now_and_then(path: Path, bench: Bench) -> None:
    """So that a kill costs a minute at most."""
    while True:
        await asyncio.sleep(_KEEP_EVERY_S)
        await asyncio.to_thread(keep_state, path, bench)


def stands_of(served: Site) -> list[StandIn]:
    """Where the devices of a site that was narrowed by `only` stand in."""
    return [StandIn(line.name, line.link, tuple(device.name for device in line.devices)) for line in served.lines]


def only(site: Site, lines: Sequence[str], devices: Sequence[str], at: str | None = None) -> Site:
    """The site with these lines or devices alone, where any are named; the one line at another link. Raises
    ValueError."""
    known = [line.name for line in site.lines] + [device.name for _, device in site.devices()]
    for name in (*lines, *devices):
        if name not in known:
            raise ValueError(f"{name!r} is no line and no device of this site{suggestion(name, known)}")
    if not lines and not devices and at is None:
        return site
    kept = [
        replace(line, devices=tuple(one for one in line.devices if not devices or one.name in devices))
        for line in site.lines
        if not lines or line.name in lines
    ]
    kept = [line for line in kept if line.devices]
    if not kept:
        raise ValueError("none of these devices is on these lines")
    if at is not None:
        if len(kept) != 1:
            raise ValueError(f"--at is the place of one line, and {len(kept)} are served: choose it with --line")
        kept = [replace(kept[0], link=at_link(kept[0], at))]
    return replace(site, lines=tuple(kept))
