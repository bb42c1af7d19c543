"""`kanaleto find … --everything`: from an unknown line to a site, within the time that is given."""

import asyncio
import sys
import tempfile
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from time import monotonic
from typing import TYPE_CHECKING

import click

from kanaleto.cli.confirm import forget_typed
from kanaleto.cli.failures import Failed, outcome_error
from kanaleto.cli.foreground import run_until_signal
from kanaleto.cli.options import usage
from kanaleto.cli.output import emit, iso, say
from kanaleto.cli.progress import Progress
from kanaleto.lines.channel import Unreachable
from kanaleto.probing.draftmap import UnitDraft
from kanaleto.probing.hosts import HostState, HostSurvey, parse_range
from kanaleto.probing.known import words_of_runs
from kanaleto.probing.ports import list_serial_ports
from kanaleto.probing.question import CARE, Never
from kanaleto.site.links.link import Link
from kanaleto.site.links.parse import names_settings, parse_link
from kanaleto.site.links.tcp import TcpLink
from kanaleto.supervision.owned import report
from kanaleto.unknown.concluding import drafts_of
from kanaleto.unknown.everything import Everything
from kanaleto.unknown.folder import (
    SITE,
    WrittenFolder,
    is_taken,
    keep_state,
    load_folder,
    why_not_written,
    write_folder,
)

if TYPE_CHECKING:
    from kanaleto.unknown.trial import Proof

_HOST_TIMEOUT_S = 0.5
_MOST_LINES = 32
_KEPT_EVERY_S = 30.0
_PROVED_S, _LEAST_PROVED_S = 5.0, 1.0  # that the drafted site is polled for, where that much time is left
_LEAST_PROVED_OF = 6  # times that: a search that has more time leaves so much


def find_everything(
    link_text: str | None, hosts: str | None, asks_ports: bool, out: Path | None, within_s: float | None, resumes: bool,
        is_agreed: bool, timeout_s: float | None, per_s: float, with_every: bool, never: Never, is_json: bool,
) -> int:  # fmt: skip
    if out is None:
        raise click.UsageError("--everything needs --out FOLDER, where the site and its maps go")
    if not resumes and (taken := is_taken(out)):
        raise click.UsageError(taken)
    if unwritable := why_not_written(out):
        raise Failed(unwritable)
    progress = Progress()

    began_s = monotonic()
    search_s = within_s - _PROVED_S if within_s is not None and within_s > _LEAST_PROVED_OF * _PROVED_S else within_s

    def make(link: Link, knows_settings: bool) -> Everything:
        return Everything(
            link, knows_settings, search_s, never, timeout_s=timeout_s, with_every=with_every, per_s=per_s
        )

    searches = load_searches(out, make, link_text) if resumes else []
    if not searches and link_text is not None:
        link = usage(lambda: parse_link(link_text))
        searches = [make(link, names_settings(link_text, link))]
    if not searches and asks_ports:
        searches = [make(link, False) for link in _free_ports()]
    say(CARE, err=True)
    if not is_agreed:
        wait_for_a_key()
        began_s = monotonic()

    async def work() -> None:
        if not searches and hosts is not None:
            searches.extend(make(link, True) for link in await _answering(hosts, never))
        beside = [
            asyncio.create_task(_tell_progress(searches, progress)),
            asyncio.create_task(_keep(out, searches, make)),
        ]
        try:
            await asyncio.gather(*(_run(search, is_alone=len(searches) == 1) for search in searches))
        finally:
            for task in beside:
                task.cancel()
            await asyncio.gather(*beside, return_exceptions=True)

    is_whole = True
    try:
        is_whole = run_until_signal(work())
    except Unreachable as error:
        progress.done()
        if is_json:
            emit({"at": iso(), "line": searches[0].link.place, "error": outcome_error("unreachable", str(error))})
        raise Failed(f"{searches[0].link.place}: {error}") from None
    finally:
        progress.done()
    if not searches:
        raise Failed(f"nobody answers on {hosts}" if hosts is not None else "there is no free serial port")
    left_s = began_s + within_s - monotonic() if within_s is not None else _PROVED_S
    return _conclude(out, searches, is_whole, is_json, min(left_s, _PROVED_S))


def load_searches(out: Path, make: Callable[[Link, bool], Everything], link_text: str | None) -> list[Everything]:
    """Those that are gone on with. Raises UsageError."""
    searches = usage(lambda: load_folder(out, make))
    if link_text is not None:
        wanted = usage(lambda: parse_link(link_text))
        if not any(search.link.place == wanted.place for search in searches):
            there = ", ".join(search.link.place for search in searches)
            raise click.UsageError(f"{out} holds a search of {there}, not of {wanted.place}; name another folder")
    return searches


def _free_ports() -> list[Link]:
    ports = [port for port in list_serial_ports() if not port.trouble and not port.holder]
    return [parse_link(f"rtu://{port.path}") for port in ports[:_MOST_LINES]]


def wait_for_a_key() -> None:
    """Only who sits at a terminal is asked."""
    if sys.stdin.isatty() and sys.stderr.isatty():
        forget_typed()
        say("enter begins, ctrl+c leaves it", err=True)
        try:
            sys.stdin.readline()
        except KeyboardInterrupt:
            raise click.exceptions.Exit(0) from None


async def _answering(hosts: str, never: Never) -> Sequence[Link]:
    names, port = usage(lambda: parse_range(hosts))
    survey = HostSurvey(names, port, timeout_s=_HOST_TIMEOUT_S, never=never)
    found = (await survey.run()).values()
    return [TcpLink(host.host, host.port) for host in found if host.state is HostState.ANSWERS][:_MOST_LINES]


async def _run(search: Everything, is_alone: bool) -> None:
    """One of many that cannot be reached ends nothing."""
    try:
        await search.run()
    except Unreachable as error:
        if is_alone:
            raise
        search.stopped = str(error)


async def _keep(out: Path, searches: Sequence[Everything], make: Callable[[Link, bool], Everything]) -> None:
    """Every half minute what is known goes to disk: to go on with, and as a site that can be used already. Drafts are
    made from a copy, on a thread, while the search goes on."""
    while True:
        await asyncio.sleep(_KEPT_EVERY_S)
        try:
            keep_state(out, searches)
        except OSError:  # reported at the end, if it is still so
            continue
        writing = asyncio.create_task(asyncio.to_thread(_write_so_far, out, make))
        try:
            await asyncio.shield(writing)
        except asyncio.CancelledError:  # what is written at the end comes after it
            await asyncio.wait([writing])
            raise


def _write_so_far(out: Path, make: Callable[[Link, bool], Everything]) -> None:
    try:
        copies = load_folder(out, make)
        write_folder(out, copies, "\n".join(["so far; the search goes on", *_report(copies)]) + "\n")
    except OSError:  # reported at the end, if it is still so
        return
    except Exception as error:  # the search goes on, and the next half minute tries again
        report("writing what was found so far", error)


async def _tell_progress(searches: Sequence[Everything], progress: Progress) -> None:
    loop = asyncio.get_running_loop()
    while True:
        now = loop.time()
        going = [search for search in searches if not search.is_over] or list(searches)
        if going:
            slowest = max(going, key=lambda search: search.left_s(now))
            items, units = sum(search.items for search in searches), sum(len(search.found) for search in searches)
            words = f"{slowest.stage.value}; {units} unit{'s' if units != 1 else ''}, {items} addresses so far"
            progress(slowest.share(now), slowest.left_s(now), words)
        await asyncio.sleep(0.2)


def _proved(searches: Sequence[Everything], drafts: Sequence[Sequence[UnitDraft]], for_s: float) -> "Proof | None":
    """The site that comes of it, tried in a folder of its own; None where a signal came meanwhile."""
    from kanaleto.unknown.trial import prove

    found: list[Proof] = []

    async def work(path: Path) -> None:
        found.append(await prove(path, for_s))

    with tempfile.TemporaryDirectory() as folder:
        write_folder(Path(folder) / "site", searches, "", drafts)
        run_until_signal(work(Path(folder) / "site" / SITE))
    return found[0] if found else None


def _conclude(out: Path, searches: Sequence[Everything], is_whole: bool, is_json: bool, proved_s: float) -> int:
    drafts = [drafts_of(search) for search in searches]
    has_points = any(draft.rows for of_search in drafts for draft in of_search)
    proof = None
    try:
        if is_whole and has_points and proved_s >= _LEAST_PROVED_S:
            proof = _proved(searches, drafts, proved_s)
        messages = [proof.text(proved_s)] if proof is not None else []
        report = "\n".join([*_report(searches), *messages]) + "\n"
        written = write_folder(out, searches, report, drafts, proof.changes if proof is not None else None)
    except OSError as error:
        raise Failed(f"{out} cannot be written: {error.strerror}") from None
    if is_json:
        for search in searches:
            _emit_units(search)
    else:
        for line in report.splitlines():
            say(line)
    for search in searches:
        if search.stopped:
            say(f"{search.link.place}: {search.stopped}", err=True)
    for path, beside in written.edited:
        say(f"{path} was edited meanwhile and stays as it is; what was found now is in {beside}", err=True)
    if not is_whole:
        left = "; ".join(line for search in searches for line in search.not_looked_at())
        not_looked_at = f"; not looked at: {left}" if left else ""
        say(f"stopped; what was found so far is written, and --resume goes on{not_looked_at}", err=True)
    _tell_written(out, searches, written, proof, is_json)
    return 0 if written.units or not is_whole else 1


def _tell_written(
    out: Path, searches: Sequence[Everything], written: WrittenFolder, proof: "Proof | None", is_json: bool
) -> None:
    asked = sum(search.asked for search in searches)
    if is_json:
        left = [line for search in searches for line in search.not_looked_at()]
        following = [search.next_minutes() for search in searches]
        polled = {"good": proof.good, "readings": proof.readings} if proof is not None else None
        emit({"site": str(out / SITE), "units": written.units, "points": written.points, "asked": asked,
              "not_looked_at": left, "next": following, "polled": polled})  # fmt: skip
    units = f"{written.units} unit{'s' if written.units != 1 else ''}"
    say(f"{units} and {written.points} points in {out / SITE}, after {asked} questions", err=True)


def _emit_units(search: Everything) -> None:
    for unit_id, found in sorted(search.found.items()):
        turn = search.turns.units.get(unit_id) if search.turns is not None else None
        tables = [
            {"table": table.table.value, "runs": table.runs, "dangerous": table.restarting,
             "resets": table.resets,
             "most": table.most if table.most < table.table.most_read else None}
            for table in (turn.survey.tables if turn is not None else ()) if table.runs
        ]  # fmt: skip
        emit({"line": search.link.place, "unit_id": unit_id, "state": found.state.value,
              "says": search.says.get(unit_id, ""), "tables": tables,
              "trouble": turn.trouble if turn is not None else ""})  # fmt: skip


def _report(searches: Sequence[Everything]) -> Iterator[str]:
    """What was looked at, what was not, and what more time would be spent on."""
    for search in searches:
        yield str(search.link) if search.knows_settings else f"{search.link.place}: its settings are not known"
        if search.stopped:
            yield f"  stopped: {search.stopped}"
        yield from (f"  {note}" for note in search.notes)
        pace = search.gently.text(search.took_s)
        yield f"  {search.asked} questions, {len(search.asked_units)} unit IDs asked, {len(search.found)} answer"
        yield from ([f"  for registers: {pace}"] if pace else [])
        for unit_id, found in sorted(search.found.items()):
            says = search.says.get(unit_id, "")
            yield f"  unit {unit_id}: {found.text}" + (f"; says of itself: {says}" if says else "")
            turn = search.turns.units.get(unit_id) if search.turns is not None else None
            if turn is not None and turn.away_since is not None:
                why = turn.trouble or "it was not back at the end"
                since_s = (turn.survey.answered_at or turn.away_since) - search.began_s
                yield f"    silent since second {since_s:.0f}: {why}"
            if turn is not None and turn.survey.is_silent_at_holes:
                yield "    is silent where it has no register"
            for table in turn.survey.tables if turn is not None else ():
                if table.resets:
                    gone = f"{words_of_runs(table.resets)} counted, and were zero right after they were read"
                    yield f"    {table.table.title}: {gone}: left alone from then on, never_read keeps it so"
                if table.restarting:
                    yield f"    {table.table.title}: {words_of_runs(table.restarting)} silenced it: left alone"
                if table.runs:
                    most = f"; at most {table.most} a request" if table.most < table.table.most_read else ""
                    zeros = "; whatever it does not have reads as zero" if table.is_full_of_zeros else ""
                    zeros += f"; no request may cross {', '.join(map(str, table.walls[:6]))}" if table.walls else ""
                    yield f"    {table.table.title}: {words_of_runs(table.runs)}{most}{zeros}"
        left = search.not_looked_at()
        yield "  not looked at:" if left else "  everything that is likely was looked at"
        yield from (f"    {line}" for line in left)
        yield f"  more time would be spent on: {search.next_minutes()}"
