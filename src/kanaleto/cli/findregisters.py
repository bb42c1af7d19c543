"""What `kanaleto find` does with the registers of one unit, and with a line that another master polls."""

import asyncio
import time
from pathlib import Path
from typing import Any

import click

from kanaleto.capture.capturefile import CaptureFile
from kanaleto.capture.row import row_of_heard
from kanaleto.cli.failures import Failed
from kanaleto.cli.finding import run_survey, tell_stop, with_exchanger
from kanaleto.cli.keptfiles import begin_overheard, require_new
from kanaleto.cli.options import require_unit, usage
from kanaleto.cli.output import emit, say
from kanaleto.cli.progress import Progress
from kanaleto.files.whole import write_whole
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.readspan import ask_again
from kanaleto.probing.directory import Directory, find_directory
from kanaleto.probing.draftmap import DraftRow, draft_text, rows_of_directory, rows_of_overhearing, rows_of_runs
from kanaleto.probing.known import words_of_runs
from kanaleto.probing.listening import LineListener
from kanaleto.probing.overhearing import HeardExchange
from kanaleto.probing.question import Never
from kanaleto.probing.registers import RegisterSurvey
from kanaleto.probing.surveyfile import load_survey, save_survey
from kanaleto.site.links.parse import names_settings, parse_link
from kanaleto.wire.codes import Function, Table
from kanaleto.wire.pdu import Read, Request

_REGISTER_TIMEOUT_S = 0.5


def _write_draft(path: Path | None, rows: list[DraftRow]) -> None:
    if path is None:
        return
    try:
        write_whole(path, draft_text(rows))
    except OSError as error:
        raise Failed(f"{path} cannot be written: {error.strerror}") from None
    say(f"{len(rows)} points drafted to {path}", err=True)


def find_registers(
    link_text: str, unit_id: int, tables: tuple[str, ...], addresses: tuple[int, int], limit: int, resume: Path | None,
    is_thorough: bool, timeout_s: float | None, per_s: float, never: Never, draft: Path | None, is_json: bool,
) -> int:  # fmt: skip
    link = usage(lambda: parse_link(link_text))
    require_unit(link, unit_id)
    progress = Progress()
    wanted = [Table(word) for word in tables] or [Table.HOLDING, Table.INPUT, Table.COIL, Table.DISCRETE]
    surveys: list[RegisterSurvey] = []

    async def use(exchanger: Exchanger) -> None:
        survey = RegisterSurvey(
            exchanger.ask, unit_id, wanted, addresses[0], addresses[1], never, timeout_s or _REGISTER_TIMEOUT_S,
            is_thorough,
            on_step=lambda now: progress(now.share, 0, f"{now.asked} requests, "
                f"{sum(table.items for table in now.tables)} "
                "addresses read"),
        )  # fmt: skip
        if resume is not None and resume.exists():
            try:
                load_survey(resume, str(link), survey)
            except ValueError as error:
                raise click.UsageError(str(error)) from None
        surveys.append(survey)
        await survey.run(limit)
        if not survey.functions:
            await survey.ask_functions()

    async def work() -> None:
        await with_exchanger(link, per_s, use)

    stopped = run_survey(work(), link.place, progress, is_json)
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
        rows += rows_of_runs(table.table, table.runs)
        _tell_table(survey, table.table, is_json)
    _tell_answers(survey, is_json)
    tell_stop(stopped, link.place, is_json)
    more = "" if survey.is_over else "; not over: go on with --resume FILE, or raise --limit"
    say(f"{survey.asked} requests, {len(rows)} addresses answer{more}", err=True)
    _write_draft(draft, rows)
    return 0 if rows or stopped == "stopped" else 1


def _tell_table(survey: RegisterSurvey, table: Table, is_json: bool) -> None:
    for known in survey.tables:
        if known.table is not table:
            continue
        if is_json:
            emit(
                {
                    "table": table.value, "runs": known.runs,
                    "most": known.most if known.most < table.most_read else None,
                    "longest_read": known.longest, "dangerous": known.restarting,
                    "resets": known.resets,
                    "over": known.is_over, "text": known.why_none,
                }
            )  # fmt: skip
            continue
        title = f"{table.title}:"
        if not known.runs:
            say(f"{title:<20} {known.why_none or 'nothing reads'}")
            continue
        most = f"at most {known.most} a request" if known.most < table.most_read else f"{known.longest} at once read"
        say(f"{title:<20} {words_of_runs(known.runs)}; {most}")
        if known.restarting:
            say(f"{'':<20} restarts the unit: {words_of_runs(known.restarting)}; name them as never to be touched")
        if known.resets:
            gone = f"zero right after it was read: {words_of_runs(known.resets)}"
            say(f"{'':<20} {gone}; left alone, never_read keeps it so")


def _tell_answers(survey: RegisterSurvey, is_json: bool) -> None:
    took = sorted(survey.took_s)
    known = [_function_name(code) for code, is_known in survey.functions.items() if is_known]
    times = {"least": took[0], "middle": took[len(took) // 2], "most": took[-1]} if took else {}
    if is_json:
        functions = [code for code, is_known in survey.functions.items() if is_known]
        emit({"functions": functions, "took_ms": {word: round(1000 * value, 3) for word, value in times.items()}})
        return
    if known:
        say(f"{'functions:':<20} {', '.join(known)} (those that write were not tried)")
    if times:
        say(f"{'answers took:':<20} " + ", ".join(f"{word} {1000 * value:.1f} ms" for word, value in times.items()))


def find_directory_of(
    link_text: str, unit_id: int, starts_text: str, marker: str | None, timeout_s: float | None, per_s: float,
    never: Never, draft: Path | None, is_json: bool,
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

    stopped = run_survey(with_exchanger(link, per_s, use), link.place, Progress(), is_json)
    tell_stop(stopped, link.place, is_json)
    if not found:
        say(f"{link.place}, unit {unit_id}: no directory at {starts_text}", err=True)
        return 0 if stopped == "stopped" else 1
    directory = found[0]
    for block in directory.blocks:
        if is_json:
            emit({"block": block.id, "table": directory.table.value, "address": block.address, "length": block.length})
        else:
            say(f"block {block.id:<6} {block.length:>4} registers from {block.address}")
    shown = directory.marker.decode("ascii", "replace")
    say(f"a directory at {directory.start}, marked {shown!r}: {directory.text}", err=True)
    _write_draft(draft, rows_of_directory(directory))
    return 0


def listen(link_text: str, for_s: float, draft: Path | None, capture: Path | None, is_json: bool) -> int:
    """The settings are taken as known when the link names its baud rate. With `capture` exchanges are kept there."""
    link = usage(lambda: parse_link(link_text))
    if not link.is_serial:
        raise click.UsageError("--listen is for serial lines: on a network nobody hears what others say")
    heard_yet: list[HeardExchange] = []
    listener = LineListener(link, knows_settings=names_settings(link_text, link), on_heard=heard_yet.append)
    progress = Progress()
    if capture is not None:
        require_new(capture)
    kept: CaptureFile | None = None
    exchanges = 0

    def keep(wall_s: float) -> None:
        nonlocal exchanges, kept
        if kept is None and capture is not None and listener.is_settled:
            kept = begin_overheard(capture, listener.link)
        exchanges += len(heard_yet)
        rows = [row_of_heard(heard, link.place, listener.link, wall_s) for heard in heard_yet]
        heard_yet.clear()
        if kept is not None:
            kept.put(rows)

    async def work() -> None:
        offset_s = time.time() - asyncio.get_running_loop().time()
        task = asyncio.create_task(listener.run(for_s))
        try:
            while not task.done():
                trying = f"trying {listener.trying}" if not listener.is_settled else f"{listener.heard.frames} frames"
                progress(0.0, 0, trying)
                await asyncio.wait([task], timeout=0.2)
                keep(offset_s)
            await task
        finally:
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)
            keep(offset_s)
            if kept is not None:
                kept.close()

    stopped = run_survey(work(), link.place, progress, is_json)
    heard = listener.heard
    for asked in sorted(heard.asked.values(), key=lambda asked: (asked.unit_id, asked.request.encode())):
        pdu = asked.request.encode()
        if is_json:
            emit(
                {
                    "unit_id": asked.unit_id, "function": pdu[0], "request": pdu.hex(), "count": asked.count,
                    "answered": asked.answered,
                    "refused": asked.refused,
                    "period_s": round(asked.period_s, 3) if asked.period_s is not None else None,
                }
            )  # fmt: skip
            continue
        every = f"every {asked.period_s:.2f} s" if asked.period_s is not None else "once"
        outcome = f"{asked.answered} answered" + (f", {asked.refused} refused" if asked.refused else "")
        say(f"unit {asked.unit_id:<4} {_in_words(asked.request):<44} {every:<14} {outcome}")
    tell_stop(stopped, link.place, is_json)
    say(
        f"heard {heard.frames} frames and {heard.garbled_bytes} bytes that are none, at {listener.link.settings}; "
        f"units {', '.join(map(str, heard.units)) or 'none'}",
        err=True,
    )
    if kept is not None:
        say(f"{exchanges} exchanges are in {kept.path}", err=True)
    if draft is not None and heard.units:
        units = sorted({unit for unit, _, _ in heard.words})
        for unit in units:
            path = draft if len(units) == 1 else draft.with_name(f"{draft.stem}-{unit}{draft.suffix}")
            _write_draft(path, rows_of_overhearing(heard, unit))
    return 0 if heard.frames or stopped == "stopped" else 1


def _function_name(code: int) -> str:
    return Function(code).name.lower().replace("_", " ") if code in set(Function) else f"function 0x{code:02X}"


def _in_words(request: Request) -> str:
    if isinstance(request, Read):
        return f"reads {request.count} {request.table.title} from {request.address}"
    return _function_name(request.function)
