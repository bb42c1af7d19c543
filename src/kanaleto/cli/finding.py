"""What `kanaleto find` does, and how it tells what it found."""

from collections.abc import Callable, Coroutine
from typing import Any

import click

from kanaleto.cli.failures import Failed, outcome_error
from kanaleto.cli.foreground import run_until_signal
from kanaleto.cli.options import require_unit, usage
from kanaleto.cli.output import emit, iso, say
from kanaleto.cli.progress import Progress
from kanaleto.lines.channel import Unreachable
from kanaleto.lines.exchange import Exchanger
from kanaleto.probing.gently import gentle_exchanger
from kanaleto.probing.hosts import HostState, HostSurvey, parse_range
from kanaleto.probing.networkadapters import adapters
from kanaleto.probing.ports import list_serial_ports
from kanaleto.probing.portsettings import TIMEOUT_S, SettingsSurvey
from kanaleto.probing.question import MayNotTouch, Never
from kanaleto.probing.units import ALL_UNITS, UnitSurvey
from kanaleto.probing.unitstates import SurveyStopped, UnitFound
from kanaleto.site.links.link import FramingKind, Link
from kanaleto.site.links.parse import parse_link
from kanaleto.wire.identity import OBJECT_NAMES

_UNIT_TIMEOUT_S = 0.3


def tell_ports(is_json: bool) -> int:
    """Exit code 1 when there is none."""
    ports = list_serial_ports()
    for port in ports:
        if is_json:
            emit(
                {
                    "port": port.path, "description": port.description, "maker": port.maker,
                    "serial_number": port.serial_number,
                    "stable_name": port.stable_name, "holder": port.holder or None, "trouble": port.trouble or None,
                }
            )  # fmt: skip
            continue
        about = ", ".join(
            text
            for text in (port.description, port.maker, port.serial_number and f"serial number {port.serial_number}")
            if text
        )
        say(f"{port.path:<16} {about or 'built in'}")
        say(f"{'':<16} {port.state}")
        if port.stable_name:
            say(f"{'':<16} always {port.stable_name}")
    if not ports:
        raise Failed("this machine names no serial port; is the adapter plugged in?")
    return 0


def tell_adapters(is_json: bool) -> int:
    for adapter in adapters():
        if is_json:
            emit({"adapter": adapter.name, "address": str(adapter.interface), "up": adapter.is_up})
        else:
            say(f"{adapter.name:<12} {adapter.interface!s:<32} {'up' if adapter.is_up else 'down'}")
    return 0


def run_survey(work: Coroutine[Any, Any, None], place: str, progress: Progress, is_json: bool) -> str:
    """Run it; gives the sentence with which it stopped early, or "". Unreachable is reported with exit code 1."""
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


def tell_stop(stopped: str, place: str, is_json: bool) -> None:
    if stopped and is_json:
        emit({"at": iso(), "line": place, "stopped": stopped})
    if stopped:
        say(f"{place}: {stopped}", err=True)


def find_hosts(text: str, timeout_s: float | None, never: Never, is_json: bool) -> int:
    hosts, port = usage(lambda: parse_range(text))
    progress = Progress()
    survey = HostSurvey(
        hosts, port, timeout_s=timeout_s or 0.5, never=never,
        on_step=lambda now: progress(now.asked / len(hosts), now.left_s, f"{now.asked} of {len(hosts)} asked"),
    )  # fmt: skip

    async def work() -> None:
        await survey.run()

    stopped = run_survey(work(), text, progress, is_json)
    counts = dict.fromkeys(HostState, 0)
    for found in survey.found.values():
        counts[found.state] += 1
        if is_json:
            emit(
                {
                    "host": found.host,
                    "port": found.port,
                    "state": found.state.value,
                    "unit_id": found.unit_id,
                    "text": found.text,
                }
            )
        elif found.state in (HostState.ANSWERS, HostState.ACCEPTS) or len(hosts) <= 16:
            say(f"{found.host:<16} {found.text}")
    tell_stop(stopped, text, is_json)
    say(
        f"{len(survey.found)} asked: "
        + ", ".join(f"{count} {state.value}" for state, count in counts.items() if count),
        err=True,
    )
    return 0 if counts[HostState.ANSWERS] or stopped == "stopped" else 1


def find_units(
    link_text: str,
    asks_settings: bool,
    units: list[int] | None,
    timeout_s: float | None,
    per_s: float,
    never: Never,
    is_json: bool,
) -> int:
    """The settings first, where they are not known; then every unit. Exit code 1 when nobody answers."""
    link = usage(lambda: parse_link(link_text))
    if asks_settings and not link.is_serial:
        raise click.UsageError("--settings is for serial lines: rtu://PORT or ascii://PORT")
    progress = Progress()
    if asks_settings:
        found_link, stopped = _find_settings(link, units, timeout_s, never, progress, is_json)
        if found_link is None:
            return 0 if stopped == "stopped" else 1
        link = found_link
    asked = units or ([255, 0, *ALL_UNITS] if link.framing is FramingKind.TCP else list(ALL_UNITS))
    for unit in asked:
        require_unit(link, unit)
    exchanger = gentle_exchanger(link, per_s)
    try:
        survey = UnitSurvey(
            exchanger, asked, timeout_s or _UNIT_TIMEOUT_S, never,
            on_step=lambda now: progress(now.asked / len(asked), now.left_s, f"unit {now.asking}, "
                f"{len(now.found)} found{f', waiting for {now.waits_for}' if now.waits_for else ''}"),
        )  # fmt: skip
    except MayNotTouch as error:
        raise click.UsageError(str(error)) from None

    async def work() -> None:
        await exchanger.open()
        try:
            await survey.run()
        finally:
            exchanger.close()

    stopped = run_survey(work(), link.place, progress, is_json)
    for found in sorted(survey.found.values(), key=lambda found: found.unit_id):
        _tell_unit(found, is_json)
    tell_stop(stopped, link.place, is_json)
    if survey.note:
        say(survey.note, err=True)
    say(f"{survey.asked} of {len(asked)} units asked on {link}: {len(survey.found) or 'none'} found", err=True)
    return 0 if survey.found or stopped == "stopped" else 1


def _find_settings(
    link: Link, units: list[int] | None, timeout_s: float | None, never: Never, progress: Progress, is_json: bool
) -> tuple[Link | None, str]:
    try:
        survey = SettingsSurvey(
            link, units, timeout_s or TIMEOUT_S, never,
            on_step=lambda now: progress(
                now.asked / max(now.total, 1), now.left_s,
                    f"{now.trying.title if now.trying else ''}"
            ),
        )  # fmt: skip
    except ValueError as error:
        raise click.UsageError(str(error)) from None

    async def work() -> None:
        await survey.run()

    stopped = run_survey(work(), link.place, progress, is_json)
    for tried in survey.tried:
        if tried.asked and is_json:
            emit(
                {
                    "settings": str(tried.settings), "framing": tried.framing.value, "asked": tried.asked,
                    "garbled": tried.garbled,
                    "answered_by": tried.answered_by, "text": tried.verdict,
                }
            )  # fmt: skip
        elif tried.asked:
            say(f"{tried.title:<14} {tried.verdict}")
    tell_stop(stopped, link.place, is_json)
    found = survey.link_found
    if found is None:
        say(f"{link.place}: no settings answered, {survey.asked} questions asked", err=True)
    else:
        assumed = (
            ""
            if survey.tells_parity
            else "; a pseudo-terminal carries no parity and no stop bits, so these are assumed"
        )
        say(f"{link.place}: {survey.found.title if survey.found else ''}{assumed}", err=True)
    return found, stopped


def _tell_unit(found: UnitFound, is_json: bool) -> None:
    identification = found.identity
    objects = (
        {OBJECT_NAMES.get(number, f"0x{number:02X}"): text for number, text in identification.objects.items()}
        if identification
        else {}
    )
    if is_json:
        emit(
            {
                "unit_id": found.unit_id, "state": found.state.value, "took_ms": round(1000 * found.took_s, 3),
                "text": found.text,
                "answer": found.answer.hex(), "objects": objects,
                "server_id": identification.server_id if identification else None,
            }
        )  # fmt: skip
        return
    said = ", ".join(list(objects.values())[:3]) or (identification.server_id if identification else "") or ""
    say(f"unit {found.unit_id:<4} {found.text}" + (f"; says of itself: {said}" if said else ""))


def with_exchanger(
    link: Link, per_s: float, use: Callable[[Exchanger], Coroutine[Any, Any, None]]
) -> Coroutine[Any, Any, None]:
    async def work() -> None:
        exchanger = gentle_exchanger(link, per_s)
        await exchanger.open()
        try:
            await use(exchanger)
        finally:
            exchanger.close()

    return work()
