"""`kanaleto clone`: devices as they answer now, as a site that can be served."""

import asyncio
import tempfile
from collections.abc import Sequence
from functools import partial
from pathlib import Path

import click
from msgspec.structs import replace

from kanaleto.bench.clonefile import ClonedLine, EditedSince, count_differences, placed, why_not_written, write_clone
from kanaleto.bench.cloning import MOST_ROUNDS, ROUND_S, Cloner, Copied, Silent, moves_of, with_guesses
from kanaleto.cli.completing import device_names
from kanaleto.cli.failures import Failed
from kanaleto.cli.findeverything import wait_for_a_key
from kanaleto.cli.foreground import run_until_signal
from kanaleto.cli.options import usage
from kanaleto.cli.output import emit, say
from kanaleto.cli.progress import Progress
from kanaleto.cli.serve import only
from kanaleto.files.loading import load_site
from kanaleto.lines.channel import Unreachable
from kanaleto.probing.question import CARE, survey_exchanger
from kanaleto.site.filefaults import FaultyFile
from kanaleto.site.links.parse import names_settings, parse_link
from kanaleto.site.model import Line, Site
from kanaleto.unknown.everything import Everything
from kanaleto.unknown.folder import SITE, STATE, load_folder, write_folder

_LEAST_FOR_S = 1.0


@click.command("clone")
@click.argument("source", metavar="LINK|SITE|FOLDER")
@click.argument("out", metavar="OUT.toml", type=click.Path(path_type=Path))
@click.option("--unit", "units", type=click.IntRange(0, 255), multiple=True, metavar="N", help="only this unit ID")
@click.option(
    "--device", "devices", multiple=True, metavar="NAME", shell_complete=device_names, help="only this device"
)
@click.option("--at", "at", metavar="LINK", help="where OUT serves it; else a place of this machine of the same kind")
@click.option("--for", "for_s", type=click.FloatRange(_LEAST_FOR_S), metavar="S", help="asking ends after so long")
@click.option("--yes", "is_agreed", is_flag=True, help="begin without waiting for a key")
@click.option("--json", "is_json", is_flag=True, help="one object a device")
def command(
    source: str, out: Path, units: tuple[int, ...], devices: tuple[str, ...], at: str | None, for_s: float | None,
    is_agreed: bool, is_json: bool,
) -> int:  # fmt: skip
    """Copy devices as they answer now into OUT.toml with a map each, to be served (`kanaleto serve OUT.toml`).

    SITE: its devices are read, by their maps. LINK: units and registers are searched for first. FOLDER: what
    `find --everything` wrote there; nothing is asked then. Nothing is ever written to a device. What moved while it was
    looked at becomes a signal of its kind. Exit code 1: nobody answered; 2: OUT was edited since.

    \b
    Example:
      kanaleto clone plant.toml --device "Upper sluice" copy.toml
      kanaleto clone rtu:///dev/ttyUSB0?baud=19200 copy.toml --for 300
    """
    why = why_not_written(out)
    if why:
        raise click.UsageError(why)
    path = Path(source)
    progress = Progress()
    try:
        if "://" in source:
            if devices:
                raise click.UsageError("--device goes with a SITE or a FOLDER; a LINK has --unit")
            site, lines = _of_link(source, units, for_s, is_agreed, progress)
        elif path.is_dir():
            site, lines = _of_folder(path, usage(partial(_chosen, _folder_site(path), units, devices)))
        else:
            site = usage(partial(_chosen, load_site(path)[0], units, devices))
            lines = _of_site(site, for_s, is_agreed, progress)
    finally:
        progress.done()
    lines = [line for line in lines if line.copies]
    if not lines:
        raise Failed("nobody answered: nothing was cloned")
    lines = usage(partial(placed, lines, at))
    try:
        write_clone(out, site.name, lines)
        counts = count_differences(out, lines)
    except EditedSince as error:
        raise click.UsageError(str(error)) from None
    except (OSError, FaultyFile) as error:
        raise Failed(f"{out} cannot be written: {error}") from None
    for cloned in lines:
        for copy in cloned.copies:
            _tell(cloned, copy, counts[cloned.line.name, copy.device.name], is_json)
    if not is_json:
        say(f"{sum(len(line.copies) for line in lines)} cloned to {out}: kanaleto serve {out} serves it")
    return 0


def _tell(cloned: ClonedLine, copy: Copied, differs: int, is_json: bool) -> None:
    device = copy.device
    if is_json:
        emit({"unit_id": device.unit_id, "points": len(device.points), "asked": len(copy.asked), "differs": differs})
        return
    text = f"{device.name}, unit {device.unit_id}: {len(device.points)} points, {len(copy.asked)} requests asked"
    text += f", {len(copy.moves)} move" if copy.moves else ""
    text += f", {len(copy.left_out)} refused and left out" if copy.left_out else ""
    say(text + (f"; the clone answers {differs} of them otherwise" if differs else ""))


def _chosen(site: Site, units: Sequence[int], devices: Sequence[str]) -> Site:
    """Raises ValueError."""
    known = [device.unit_id for _, device in site.devices()]
    for unit in units:
        if unit not in known:
            raise ValueError(f"no device of this site has unit ID {unit}")
    names = [device.name for _, device in site.devices() if device.unit_id in units]
    return only(site, (), [*devices, *names])


# Where they come from


def _of_site(site: Site, for_s: float | None, is_agreed: bool, progress: Progress) -> list[ClonedLine]:
    say(CARE, err=True)
    if not is_agreed:
        wait_for_a_key()
    found: list[ClonedLine] = []
    looked_s, done = MOST_ROUNDS * ROUND_S, [0]
    each_s = looked_s if for_s is None else for_s / 2

    async def line_of(line: Line) -> None:
        cloned = ClonedLine(line, line.link, [])
        found.append(cloned)
        exchanger = survey_exchanger(line.link)
        try:
            await exchanger.open()
        except Unreachable as error:
            say(f"{line.name}: {error}", err=True)
            return
        try:
            left = [device for device in line.devices if device.points]
            for device in left:
                cloner = Cloner(
                    exchanger.ask, device, device.timeout_s, min(looked_s, each_s / (len(left) if for_s else 1)),
                    line.link.is_serial, lambda text: progress(done[0] / max(site.device_count, 1), 0.0, text),
                )  # fmt: skip
                try:
                    cloned.copies.append(await cloner.run())
                except Silent as error:
                    say(f"{device.name}: {error}", err=True)
                done[0] += 1
        finally:
            exchanger.close()

    async def work() -> None:
        asking = asyncio.gather(*(line_of(line) for line in site.lines))
        try:
            async with asyncio.timeout(for_s):
                await asking
        except TimeoutError:
            say(f"asking ended after {for_s:g} s: who was not copied by then is left out", err=True)

    run_until_signal(work())
    return [cloned for line in site.lines for cloned in found if cloned.line is line]


def _of_link(
    text: str, units: Sequence[int], for_s: float | None, is_agreed: bool, progress: Progress
) -> tuple[Site, list[ClonedLine]]:
    link = usage(partial(parse_link, text))
    say(CARE, err=True)
    if not is_agreed:
        wait_for_a_key()
    search = Everything(link, names_settings(text, link), for_s)

    async def work() -> None:
        await search.run()

    progress(0.0, 0.0, f"{link.place}: looks for units and their registers")
    try:
        run_until_signal(work())
    except Unreachable as error:
        raise Failed(f"{link.place}: {error}") from None
    with tempfile.TemporaryDirectory() as folder:
        write_folder(Path(folder) / "found", [search], "")
        site, _ = load_site(Path(folder) / "found" / SITE)
        if not site.lines or not any(line.devices for line in site.lines):
            return site, []
        chosen = usage(partial(_chosen, replace(site, name=link.title), units, ()))
        return chosen, _of_searches(chosen, [search])[1]


def _folder_site(folder: Path) -> Site:
    if not (folder / SITE).exists() or not (folder / STATE).exists():
        raise click.UsageError(f"{folder} holds no site that find --everything wrote")
    return load_site(folder / SITE)[0]


def _of_folder(folder: Path, site: Site) -> tuple[Site, list[ClonedLine]]:
    searches = usage(partial(load_folder, folder, lambda link, knows: Everything(link, knows)))
    return _of_searches(site, searches)


def _of_searches(site: Site, searches: Sequence[Everything]) -> tuple[Site, list[ClonedLine]]:
    """Nothing is asked: words stand in the maps, what moved in the samples."""
    lines: list[ClonedLine] = []
    for line in site.lines:
        search = next((one for one in searches if one.link == line.link or one.link.place == line.link.place), None)
        turns = search.turns.units if search is not None and search.turns is not None else {}
        copies: list[Copied] = []
        for device in line.devices:
            turn = turns.get(device.unit_id)
            rounds = turn.samples.as_rounds() if turn is not None else []
            moves, moved = moves_of(device.points, rounds)
            if device.points:
                points = tuple(with_guesses(device.points, moves, moved))
                copies.append(Copied(replace(device, points=points), {}, moves, [], moved))
        lines.append(ClonedLine(line, line.link, copies))
    return site, lines
