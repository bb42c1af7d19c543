"""Polling without a screen, for `poll` and `demo --headless`: samples as they come, and the summary at the end."""

import asyncio
from collections.abc import Callable

from kanaleto.board.board import Quality, Readings, Record, times_ten_to
from kanaleto.board.health import Tally
from kanaleto.board.listener import Exchange, Sink
from kanaleto.board.snapshot import Snapshot
from kanaleto.bridge.bridging import Bridging, reading_through, through_places
from kanaleto.cli.failures import outcome_error
from kanaleto.cli.foreground import run_until_signal
from kanaleto.cli.health import Health, polled_lines, polled_samples
from kanaleto.cli.output import emit, iso, say
from kanaleto.cli.progress import Progress
from kanaleto.events.log import EventKind
from kanaleto.files.origins import ServingMark
from kanaleto.keeping.kept import Kept
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.planning.plan import Block
from kanaleto.polling.processlimits import prepare_process
from kanaleto.polling.session import Session
from kanaleto.site.model import Line, Site
from kanaleto.supervision.service import ServiceManager
from kanaleto.values.codec import NoValue
from kanaleto.values.text import plain, shown, words_of


class _Printer(Sink):
    """Prints samples and failures; a failure that goes on is reported once."""

    def __init__(self, is_json: bool) -> None:
        self._is_json = is_json
        self._last_text: dict[str, str] = {}

    def on_record(self, block: Block, record: Record, board: Readings) -> None:
        for number, point in enumerate(block.points):
            value = record.values[number]
            if point.exponent and isinstance(value, int | float):
                power = board.exponent_of(block.device.name, point)
                value = (
                    NoValue(f"its exponent, {point.exponent}, is not known")
                    if power is None
                    else times_ten_to(value, power)
                )
            is_bad = isinstance(value, NoValue)
            data = (
                record.data
                if block.request.table.is_bits
                else record.data[2 * block.offsets[number] :][: 2 * point.size]
            )
            if not self._is_json:
                text = shown(value, point.codec, point.decimals, point.labels)
                why = f"  ({value.reason})" if isinstance(value, NoValue) else ""
                say(
                    f"{iso(record.wall_s)}  {block.device.name} · {point.name}  "
                    f"{text}{' ' + point.unit if point.unit else ''}{why}"
                )
                continue
            emit(
                {
                    "at": iso(record.wall_s),
                    "line": block.line.name,
                    "device": block.device.name,
                    "point": point.name,
                    "value": plain(value, point.codec, point.decimals),
                    "unit": point.unit,
                    "quality": (Quality.BAD if is_bad else Quality.GOOD).value,
                    "reason": value.reason if isinstance(value, NoValue) else "",
                    "words": [value] if block.request.table.is_bits else list(words_of(data)),
                }
            )

    def on_exchange(self, exchange: Exchange) -> None:
        line, device, outcome = exchange.line, exchange.device, exchange.outcome
        name = device.name if device is not None else ""
        if outcome.is_good:
            if self._last_text.pop(name, None) is not None and not self._is_json:
                say(f"{line.name} · {name} answers again", err=True)
            return
        if self._is_json:
            self._fail_json(line.name, name, outcome.kind, outcome.reason, outcome.code)
        elif self._last_text.get(name) != outcome.kind.value:
            say(f"{line.name} · {name}: {outcome.reason}", err=True)
        self._last_text[name] = outcome.kind.value

    def on_unreachable(self, line: Line, why: str) -> None:
        if self._is_json:
            self._fail_json(line.name, None, OutcomeKind.UNREACHABLE, why, None)
        elif self._last_text.get(line.name) != why:
            say(f"{line.name}: {why}", err=True)
        self._last_text[line.name] = why

    def _fail_json(self, line: str, device: str | None, kind: OutcomeKind, text: str, code: int | None) -> None:
        emit({"at": iso(), "line": line, "device": device, "error": outcome_error(kind.value, text, code)})


def poll_site(
    site: Site, for_s: float | None, is_quiet: bool, is_json: bool, begin: Callable[[Kept], None] = lambda kept: None,
    health: tuple[str, int] | None = None,
) -> Session:  # fmt: skip
    """Poll until `for_s` is over or a signal comes; gives the session, ended. `begin` asks for what is to be kept
    beside the journal and the tape."""
    session = Session(site)
    kept = Kept("kanaleto poll", session.events, session.clock, lambda _, text: say(text, err=True) if text else None)
    kept.listen_to(session)
    if not is_quiet:
        session.listen(_Printer(is_json))
    if not is_quiet and not is_json:
        kinds = (EventKind.LEARNED, EventKind.DEVICE_SLOW, EventKind.GATEWAY, EventKind.WATCHDOG)
        session.events.listeners.append(
            lambda e: say(f"{e.device or e.line}: {e.text}", err=True) if e.kind in kinds else None
        )

    prepare_process()

    def snapshot() -> Snapshot:
        session.publish()
        return session.snapshot

    async def work() -> None:
        managing = asyncio.create_task(ServiceManager().run())
        through = Bridging(session, reading_through(site), only_reads=True)
        await through.start()
        reading = asyncio.create_task(through.run())
        mark = ServingMark(site.path)
        if through.places:
            mark.say(through_places(through))
        health_server = (
            Health(health, lambda: polled_lines(snapshot()), lambda: polled_samples(snapshot())) if health else None
        )
        try:
            if health_server is not None:
                await health_server.start()
            async with asyncio.timeout(for_s):
                await session.run()
        except TimeoutError:
            return
        finally:
            mark.leave()
            managing.cancel()
            reading.cancel()
            await through.stop()
            if health_server is not None:
                health_server.stop()

    kept.start(site.path, site)
    try:
        begin(kept)
        if is_quiet and for_s:
            with Progress().during(for_s, f"{site.name} is polled"):
                run_until_signal(work())
        else:
            run_until_signal(work())
    finally:
        kept.stop()
    if kept.failure is not None:
        raise kept.failure
    return session


def tell_summary(session: Session, is_json: bool) -> None:
    """Exchanges, good and failed, by line and device."""
    tallies = {name: state.counts.tally() for poller in session.pollers for name, state in poller.states.items()}
    good, failed = sum(tally.good for tally in tallies.values()), sum(tally.failed for tally in tallies.values())
    if is_json:
        devices = {name: _tally_json(tally) for name, tally in tallies.items()}
        lines = {
            poller.line.name: poller.connection.why_unreachable
            for poller in session.pollers
            if poller.connection.why_unreachable
        }
        emit(
            {
                "summary": {
                    "exchanges": good + failed,
                    "good": good,
                    "failed": failed,
                    "devices": devices,
                    "unreachable": lines,
                }
            }
        )
        return
    say(f"{good + failed} exchanges, {good} good, {failed} failed")
    for late in session.lateness():
        asked, reached = 1000 * late.asked_s, 1000 * late.reached_s
        block = late.block
        what = f"{block.request.count} {block.request.table.value} from {block.request.address}"
        say(f"  {block.device.name}, {what}: asked {asked:.0f} ms, reached {reached:.0f} ms")
    for poller in session.pollers:
        line_tallies = [tallies[name] for name in poller.states]
        line_good, line_failed = sum(tally.good for tally in line_tallies), sum(tally.failed for tally in line_tallies)
        why = f"  {poller.connection.why_unreachable}" if poller.connection.why_unreachable else ""
        say(f"  {poller.line.name}: {line_good + line_failed} exchanges, {line_good} good, {line_failed} failed{why}")
        if poller.exchanger.has_found_echo:
            say("    its adapter repeats what it sends: add echo=yes to its link")
        for name in poller.states:
            say(f"    {name}: {_tally_text(tallies[name])}")


def _tally_json(tally: Tally) -> dict[str, object]:
    return {
        "exchanges": tally.exchanges,
        "good": tally.good,
        "failed": tally.failed,
        "exceptions": {str(code): count for code, count in sorted(tally.exceptions.items())},
        "timeouts": tally.timeouts,
        "garbled": tally.garbled,
        "unexpected": tally.unexpected,
        "unreachable": tally.unreachable,
    }


def _tally_text(tally: Tally) -> str:
    parts = [f"{tally.good} good"]
    parts += [f"{count} × exception {code}" for code, count in sorted(tally.exceptions.items())]
    parts += [
        f"{count} {word}"
        for count, word in (
            (tally.timeouts, "silent"),
            (tally.garbled, "garbled"),
            (tally.unexpected, "unexpected"),
            (tally.unreachable, "unreachable"),
        )
        if count
    ]
    if tally.took is not None:
        low, middle, _, high = (1000 * value for value in tally.took)
        parts.append(f"answers in {low:.1f} … {middle:.1f} … {high:.1f} ms")
    return ", ".join(parts)
