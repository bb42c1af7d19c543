"""`kanaleto check SITE --there`: what is really there, against what the site says."""

from pathlib import Path

import click

from kanaleto.cli.askingsession import AskingSession
from kanaleto.cli.output import emit, say
from kanaleto.cli.progress import Progress
from kanaleto.files.loading import load_site
from kanaleto.polling.session import Session
from kanaleto.proof.there import There, check_there, differing, known_of
from kanaleto.site.filefaults import suggestion


def check_devices(path: Path, devices: tuple[str, ...], with_others: bool, is_json: bool) -> int:
    """0 as noted, 1 something differs or is silent."""
    site, _ = load_site(path)
    known = [device.name for _, device in site.devices()]
    for name in devices:
        if name not in known:
            raise click.UsageError(f"there is no device {name!r}{suggestion(name, known)}")
    wanted = {line.name for line, device in site.devices() if not devices or device.name in devices}
    found: list[There] = []
    is_whole = False
    progress = Progress()

    def hear(one: There) -> None:
        _tell(one, is_json)
        asked.add(one.device)
        progress.step(len(asked), len(devices) or len(known), f"{one.device} asked")

    asked: set[str] = set()

    async def work(session: Session) -> None:
        nonlocal is_whole
        found.extend(await check_there(session, known_of(site, path), devices, with_others, hear))
        is_whole = True

    lines = wanted if not with_others else {line.name for line in site.lines}
    AskingSession(site, lines).run(work)
    progress.done()
    wrong = differing(found)
    if not is_json:
        count = len({(one.line, one.device) for one in found if one.what != "other"})
        text = f"{len(wrong)} of {len(found)} answers differ" if wrong else f"{len(found)} answers as noted"
        say(f"{site.name}: {count} devices asked, {text}" + ("" if is_whole else "; stopped before the end"), err=True)
    return 1 if wrong or not is_whole else 0


def _tell(one: There, is_json: bool) -> None:
    if is_json:
        emit(
            {
                "line": one.line, "device": one.device, "what": one.what, "point": one.point,
                "expected": one.expected, "found": one.found, "outcome": one.outcome,
            }
        )  # fmt: skip
        return
    if one.is_same:
        return
    who = f"{one.device}/{one.point}" if one.point else one.device or one.line
    if one.outcome == "silent":
        say(f"{who}: silent: {one.found}")
    else:
        say(f"{who}: {one.what}: noted is {one.expected}, found {one.found}")
