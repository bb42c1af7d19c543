"""What `kanaleto find` does, and how it tells what it found."""

import asyncio
from collections.abc import Callable, Coroutine
from pathlib import Path
from typing import Any

import click

from kanaleto.cli.failures import Failed, outcome_error
from kanaleto.cli.options import require_unit, usage
from kanaleto.cli.output import emit, iso
from kanaleto.cli.progress import Progress
from kanaleto.cli.running import run_until_signal
from kanaleto.lines.channel import Unreachable
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.spans import ask_again
from kanaleto.site.edit import write_whole
from kanaleto.site.link import FramingKind, Link, SerialLink, parse_link
from kanaleto.survey.adapters import adapters
from kanaleto.survey.asking import MayNotTouch, Never, survey_exchanger
from kanaleto.survey.directory import Directory, find_directory
from kanaleto.survey.draft import DraftRow, draft_text, rows_of_directory, rows_of_overhearing, rows_of_runs
from kanaleto.survey.hosts import HostState, HostSurvey, parse_range
from kanaleto.survey.keeping import load_survey, save_survey
from kanaleto.survey.listening import Listener
from kanaleto.survey.ports import list_serial_ports
from kanaleto.survey.registers import RegisterSurvey, words_of_runs
from kanaleto.survey.settings import TIMEOUT_S, SettingsSurvey
from kanaleto.survey.units import ALL_UNITS, SurveyStopped, UnitFound, UnitSurvey
from kanaleto.wire.codes import Function, Table
from kanaleto.wire.identity import OBJECT_NAMES
from kanaleto.wire.pdu import Read, Request

_UNIT_TIMEOUT_S = 0.3
_REGISTER_TIMEOUT_S = 0.5


def tell_ports(is_json: bool) -> int:
    """Exit code 1 when there is none."""
    ports = list_serial_ports()
    for port in ports:
        if is_json:
            emit(
                {
                    "port": port.path, "description": port.description, "maker": port.maker, "serial_number": port.serial_number,
                    "stable_name": port.stable_name, "holder": port.holder or None, "trouble": port.trouble or None,
                }
            )  # fmt: skip
            continue
        about = ", ".join(
            text for text in (port.description, port.maker, port.serial_number and f"serial number {port.serial_number}") if text
        )
        click.echo(f"{port.path:<16} {about or 'built in'}\n{'':<16} {port.state}")
        if port.stable_name:
            click.echo(f"{'':<16} always {port.stable_name}")
    if not ports:
        raise Failed("this machine names no serial port; is the adapter plugged in?")
    return 0


def tell_adapters(is_json: bool) -> int:
    for adapter in adapters():
        if is_json:
            emit({"adapter": adapter.name, "address": str(adapter.interface), "up": adapter.is_up})
        else:
            click.echo(f"{adapter.name:<12} {adapter.interface!s:<32} {'up' if adapter.is_up else 'down'}")
    return 0


def _run(work: Coroutine[Any, Any, None], place: str, progress: Progress, is_json: bool) -> str:
    """Run it; gives the sentence with which it stopped early, or "". Unreachable is told with exit code 1."""
    stopped: list[str] = []

    async def guarded() -> None:
        try:
            await work
        except SurveyStopped as error:
            stopped.append(str(error))

    try:
        if not run_until_signal(guarded()):
            stopped.append("stopped")
    except Unreachable as error:
        progress.done()
        if is_json:
            emit({"at": iso(), "line": place, "error": outcome_error("unreachable", str(error))})
        raise Failed(f"{place}: {error}" if place not in str(error) else str(error)) from None
    finally:
        progress.done()
    return stopped[0] if stopped else ""


def _tell_stop(stopped: str, place: str, is_json: bool) -> None:
    if stopped and is_json:
        emit({"at": iso(), "line": place, "stopped": stopped})
    if stopped:
        click.echo(f"{place}: {stopped}", err=True)


def find_hosts(text: str, timeout_s: float | None, never: Never, is_json: bool) -> int:
    hosts, port = usage(lambda: parse_range(text))
    progress = Progress()
    survey = HostSurvey(
        hosts, port, timeout_s=timeout_s or 0.5, never=never,
        on_step=lambda now: progress(now.asked / len(hosts), now.left_s, f"{now.asked} of {len(hosts)} asked"),
    )  # fmt: skip

    async def work() -> None:
        await survey.run()

    stopped = _run(work(), text, progress, is_json)
    counts = dict.fromkeys(HostState, 0)
    for found in survey.found.values():
        counts[found.state] += 1
        if is_json:
            emit({"host": found.host, "port": found.port, "state": found.state.value, "unit_id": found.unit_id, "text": found.text})
        elif found.state in (HostState.ANSWERS, HostState.ACCEPTS) or len(hosts) <= 16:
            click.echo(f"{found.host:<16} {found.text}")
    _tell_stop(stopped, text, is_json)
    click.echo(f"{len(survey.found)} asked: " + ", ".join(f"{count} {state.value}" for state, count in counts.items() if count), err=True)
    return 0 if counts[HostState.ANSWERS] or stopped == "stopped" else 1


def find_units(link_text: str, asks_settings: bool, units: list[int] | None, timeout_s: float | None, never: Never, is_json: bool) -> int:
    """The settings first, where they are not known; then every unit. Exit code 1 when nobody answers."""
    link = usage(lambda: parse_link(link_text))
    if asks_settings and not isinstance(link, SerialLink):
        raise click.UsageError("--settings is for serial lines: rtu://PORT or ascii://PORT")
    progress = Progress()
    if asks_settings:
        assert isinstance(link, SerialLink)
        found_link, stopped = _find_settings(link, units, timeout_s, never, progress, is_json)
        if found_link is None:
            return 0 if stopped == "stopped" else 1
        link = found_link
    asked = units or ([255, 0, *ALL_UNITS] if link.framing is FramingKind.TCP else list(ALL_UNITS))
    for unit in asked:
        require_unit(link, unit)
    exchanger = survey_exchanger(link)
    try:
        survey = UnitSurvey(
            exchanger, asked, timeout_s or _UNIT_TIMEOUT_S, never,
            on_step=lambda now: progress(now.asked / len(asked), now.left_s, f"unit {now.asking}, {len(now.found)} found"),
        )  # fmt: skip
    except MayNotTouch as error:
        raise click.UsageError(str(error)) from None

    async def work() -> None:
        await exchanger.open()
        try:
            await survey.run()
        finally:
            exchanger.close()

    stopped = _run(work(), link.place, progress, is_json)
    for found in sorted(survey.found.values(), key=lambda found: found.unit_id):
        _tell_unit(found, is_json)
    _tell_stop(stopped, link.place, is_json)
    if survey.note:
        click.echo(survey.note, err=True)
    click.echo(f"{survey.asked} of {len(asked)} units asked on {link}: {len(survey.found) or 'none'} found", err=True)
    return 0 if survey.found or stopped == "stopped" else 1


def _find_settings(
    link: SerialLink, units: list[int] | None, timeout_s: float | None, never: Never, progress: Progress, is_json: bool
) -> tuple[SerialLink | None, str]:
    try:
        survey = SettingsSurvey(
            link, units, timeout_s or TIMEOUT_S, never,
            on_step=lambda now: progress(
                now.asked / max(len(now.tried) * len(now.units), 1), now.left_s, f"{now.trying.title if now.trying else ''}"
            ),
        )  # fmt: skip
    except ValueError as error:
        raise click.UsageError(str(error)) from None

    async def work() -> None:
        await survey.run()

    stopped = _run(work(), link.place, progress, is_json)
    for tried in survey.tried:
        if tried.asked and is_json:
            emit(
                {
                    "settings": str(tried.settings), "framing": tried.framing.value, "asked": tried.asked, "garbled": tried.garbled,
                    "answered_by": tried.answered_by, "text": tried.verdict,
                }
            )  # fmt: skip
        elif tried.asked:
            click.echo(f"{tried.title:<14} {tried.verdict}")
    _tell_stop(stopped, link.place, is_json)
    found = survey.link_found
    if found is None:
        click.echo(f"{link.place}: no settings answered, {survey.asked} questions asked", err=True)
    else:
        assumed = "" if survey.tells_parity else "; a pseudo-terminal carries no parity and no stop bits, so these are assumed"
        click.echo(f"{link.place}: {survey.found.title if survey.found else ''}{assumed}", err=True)
    return found, stopped


def _tell_unit(found: UnitFound, is_json: bool) -> None:
    told = found.identity
    objects = {OBJECT_NAMES.get(number, f"0x{number:02X}"): text for number, text in told.objects.items()} if told else {}
    if is_json:
        emit(
            {
                "unit_id": found.unit_id, "state": found.state.value, "took_ms": round(1000 * found.took_s, 3), "text": found.text,
                "answer": found.answer.hex(), "objects": objects, "server_id": told.server_id if told else None,
            }
        )  # fmt: skip
        return
    said = ", ".join(list(objects.values())[:3]) or (told.server_id if told else "") or ""
    click.echo(f"unit {found.unit_id:<4} {found.text}" + (f"; says of itself: {said}" if said else ""))


def _with_exchanger(link: Link, use: Callable[[Exchanger], Coroutine[Any, Any, None]]) -> Coroutine[Any, Any, None]:
    async def work() -> None:
        exchanger = survey_exchanger(link)
        await exchanger.open()
        try:
            await use(exchanger)
        finally:
            exchanger.close()

    return work()


def _write_draft(path: Path | None, rows: list[DraftRow]) -> None:
    if path is None:
        return
    try:
        write_whole(path, draft_text(rows))
    except OSError as error:
        raise Failed(f"{path} cannot be written: {error.strerror}") from None
    click.echo(f"{len(rows)} points drafted to {path}", err=True)


def find_registers(
    link_text: str, unit_id: int, tables: tuple[str, ...], addresses: tuple[int, int], limit: int, resume: Path | None,
    watch_s: float, is_thorough: bool, timeout_s: float | None, never: Never, draft: Path | None, name: str, is_json: bool,
) -> int:  # fmt: skip
    link = usage(lambda: parse_link(link_text))
    require_unit(link, unit_id)
    progress = Progress()
    constant: dict[Table, frozenset[int]] = {}
    wanted = [Table(word) for word in tables] or [Table.HOLDING, Table.INPUT, Table.COIL, Table.DISCRETE]
    surveys: list[RegisterSurvey] = []

    async def use(exchanger: Exchanger) -> None:
        survey = RegisterSurvey(
            exchanger.ask, unit_id, wanted, addresses[0], addresses[1], never, timeout_s or _REGISTER_TIMEOUT_S,
            1 if is_thorough else 64,
            on_step=lambda now: progress(now.share, 0, f"{now.asked} requests, {sum(table.items for table in now.tables)} addresses read"),
        )  # fmt: skip
        if resume is not None and resume.exists():
            try:
                load_survey(resume, str(link), survey)
            except ValueError as error:
                raise click.UsageError(str(error)) from None
        surveys.append(survey)
        is_over = await survey.run(limit)
        if is_over:
            await survey.ask_functions()
        if is_over and watch_s:
            constant.update(await survey.watch(watch_s))

    async def work() -> None:
        await _with_exchanger(link, use)

    stopped = _run(work(), link.place, progress, is_json)
    if not surveys:
        return 0
    survey = surveys[0]
    if resume is not None:
        try:
            save_survey(resume, str(link), survey)
        except OSError as error:
            raise Failed(f"{resume} cannot be written: {error.strerror}") from None
    rows: list[DraftRow] = []
    for table in survey.tables:
        still = constant.get(table.table, frozenset())
        rows += rows_of_runs(table.table, table.runs, name, still)
        _tell_table(survey, table.table, still, is_json)
    _tell_answers(survey, is_json)
    _tell_stop(stopped, link.place, is_json)
    more = "" if survey.is_over else "; not over: go on with --resume FILE, or raise --limit"
    click.echo(f"{survey.asked} requests, {len(rows)} addresses answer{more}", err=True)
    _write_draft(draft, rows)
    return 0 if rows or stopped == "stopped" else 1


def _tell_table(survey: RegisterSurvey, table: Table, still: frozenset[int], is_json: bool) -> None:
    for known in survey.tables:
        if known.table is not table:
            continue
        if is_json:
            emit(
                {
                    "table": table.value, "runs": known.runs, "most": known.most if known.most < table.most_read else None,
                    "longest_read": known.longest, "dangerous": known.dangerous, "never_changed": sorted(still),
                    "over": known.is_over, "text": known.why_none,
                }
            )  # fmt: skip
            continue
        title = f"{table.title}:"
        if not known.runs:
            click.echo(f"{title:<20} {known.why_none or 'nothing reads'}")
            continue
        most = f"at most {known.most} a request" if known.most < table.most_read else f"{known.longest} at once read"
        click.echo(f"{title:<20} {words_of_runs(known.runs)}; {most}")
        if known.dangerous:
            click.echo(f"{'':<20} restarts the unit: {words_of_runs(known.dangerous)}; name them as never to be touched")
        if still:
            click.echo(f"{'':<20} {len(still)} of them never changed")


def _tell_answers(survey: RegisterSurvey, is_json: bool) -> None:
    took = sorted(survey.took_s)
    known = [_function_name(code) for code, is_known in survey.functions.items() if is_known]
    times = {"least": took[0], "middle": took[len(took) // 2], "most": took[-1]} if took else {}
    if is_json:
        functions = [code for code, is_known in survey.functions.items() if is_known]
        emit({"functions": functions, "took_ms": {word: round(1000 * value, 3) for word, value in times.items()}})
        return
    if known:
        click.echo(f"{'functions:':<20} {', '.join(known)} (those that write were not tried)")
    if times:
        click.echo(f"{'answers took:':<20} " + ", ".join(f"{word} {1000 * value:.1f} ms" for word, value in times.items()))


def find_directory_of(
    link_text: str, unit_id: int, starts_text: str, marker: str | None, timeout_s: float | None, never: Never, draft: Path | None,
    is_json: bool,
) -> int:  # fmt: skip
    link = usage(lambda: parse_link(link_text))
    require_unit(link, unit_id)
    try:
        starts = [int(part, 0) for part in starts_text.split(",")]
        if not all(0 <= start <= 0xFFFF for start in starts):
            raise ValueError
    except ValueError:
        raise click.UsageError(f"--starts {starts_text!r} must be addresses such as 40000,50000") from None
    sign = marker.encode() if marker is not None else None
    if sign is not None and (not sign or len(sign) % 2):
        raise click.UsageError(f"--marker {marker!r} must fill whole registers: an even number of characters")
    found: list[Directory] = []

    async def use(exchanger: Exchanger) -> None:
        async def ask(unit: int, request: Any, limit_s: float) -> Any:
            return await ask_again(exchanger, unit, request, limit_s, 0)

        directory = await find_directory(ask, unit_id, timeout_s or _REGISTER_TIMEOUT_S, starts, sign, never=never)
        if directory is not None:
            found.append(directory)

    stopped = _run(_with_exchanger(link, use), link.place, Progress(), is_json)
    _tell_stop(stopped, link.place, is_json)
    if not found:
        click.echo(f"{link.place}, unit {unit_id}: no directory at {starts_text}", err=True)
        return 0 if stopped == "stopped" else 1
    directory = found[0]
    for block in directory.blocks:
        if is_json:
            emit({"block": block.id, "table": directory.table.value, "address": block.address, "length": block.length})
        else:
            click.echo(f"block {block.id:<6} {block.length:>4} registers from {block.address}")
    shown = directory.marker.decode("ascii", "replace")
    click.echo(f"a directory at {directory.start}, marked {shown!r}: {directory.text}", err=True)
    _write_draft(draft, rows_of_directory(directory))
    return 0


def listen(link_text: str, for_s: float, draft: Path | None, is_json: bool) -> int:
    """The settings are taken as known when the link names its baud rate."""
    link = usage(lambda: parse_link(link_text))
    if not isinstance(link, SerialLink):
        raise click.UsageError("--listen is for serial lines: on a network nobody hears what others say")
    listener = Listener(link, knows_settings="baud=" in link_text)
    progress = Progress()

    async def work() -> None:
        task = asyncio.create_task(listener.run(for_s))
        try:
            while not task.done():
                trying = f"trying {listener.trying}" if not listener.is_settled else f"{listener.heard.frames} frames"
                progress(0.0, 0, trying)
                await asyncio.wait([task], timeout=0.2)
            await task
        finally:
            task.cancel()

    stopped = _run(work(), link.place, progress, is_json)
    heard = listener.heard
    for asked in sorted(heard.asked.values(), key=lambda asked: (asked.unit_id, asked.request.encode())):
        pdu = asked.request.encode()
        if is_json:
            emit(
                {
                    "unit_id": asked.unit_id, "function": pdu[0], "request": pdu.hex(), "count": asked.count, "answered": asked.answered,
                    "refused": asked.refused, "period_s": round(asked.period_s, 3) if asked.period_s is not None else None,
                }
            )  # fmt: skip
            continue
        every = f"every {asked.period_s:.2f} s" if asked.period_s is not None else "once"
        outcome = f"{asked.answered} answered" + (f", {asked.refused} refused" if asked.refused else "")
        click.echo(f"unit {asked.unit_id:<4} {_in_words(asked.request):<44} {every:<14} {outcome}")
    _tell_stop(stopped, link.place, is_json)
    click.echo(
        f"heard {heard.frames} frames and {heard.garbled_bytes} bytes that are none, at {listener.link.settings}; "
        f"units {', '.join(map(str, heard.units)) or 'none'}",
        err=True,
    )
    if draft is not None and heard.units:
        units = sorted({unit for unit, _, _ in heard.words})
        for unit in units:
            own = draft if len(units) == 1 else draft.with_name(f"{draft.stem}-{unit}{draft.suffix}")
            _write_draft(own, rows_of_overhearing(heard, unit))
    return 0 if heard.frames or stopped == "stopped" else 1


def _function_name(code: int) -> str:
    return Function(code).name.lower().replace("_", " ") if code in set(Function) else f"function 0x{code:02X}"


def _in_words(request: Request) -> str:
    if isinstance(request, Read):
        return f"reads {request.count} {request.table.title} from {request.address}"
    return _function_name(request.function)
