"""`kanaleto check`: every fault of a site file or a map."""

from pathlib import Path

import click

from kanaleto.cli.completing import device_names
from kanaleto.cli.output import emit, say
from kanaleto.control.routinefile import read_routines
from kanaleto.files.loading import load_site
from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.files.texts import read_text
from kanaleto.site.counting import Numbering
from kanaleto.site.filefaults import Fault, FaultyFile


@click.command("check")
@click.argument("file", metavar="SITE|MAP.csv", type=click.Path(path_type=Path))
@click.option(
    "--numbering",
    type=click.Choice([numbering.value for numbering in Numbering]),
    default="protocol",
    show_default=True,
    help="how a map that is checked alone counts its addresses",
)
@click.option("--there", "is_there", is_flag=True, help="ask the devices, read only, whether they are as the site says")
@click.option(
    "--device", "devices", multiple=True, metavar="NAME", shell_complete=device_names, help="with --there: these only"
)
@click.option("--others", "with_others", is_flag=True, help="with --there: units that nobody noted, too")
@click.option("--json", "is_json", is_flag=True, help="one object a line")
def command(
    file: Path, numbering: str, is_there: bool, devices: tuple[str, ...], with_others: bool, is_json: bool
) -> int:
    """Tell every fault of a site file and its maps, or of one map, with file, line and what would be right.

    Exit code 2 when there is a fault; warnings alone (gaps, overlaps) give 0.

    With --there each device is asked once: whether it answers, what it says that it is, its own port settings, its
    limit, points that it refuses, parameters against the newest snapshot. 0 as noted, 1 something differs or is silent.

    \b
    Examples:
      kanaleto check alder-lock.toml
      kanaleto check alder-lock.toml --there --device "Upper sluice"
    """
    if is_there:
        from kanaleto.cli.checkthere import check_devices  # asking costs the plain check too much

        return check_devices(file, devices, with_others, is_json)
    if devices or with_others:
        raise click.UsageError("--device and --others belong to --there")
    faults, what = _faults(file, Numbering(numbering))
    order = {path: number for number, path in enumerate(dict.fromkeys([file, *(fault.file for fault in faults)]))}
    faults = sorted(faults, key=lambda fault: (order[fault.file], fault.line))
    for fault in faults:
        if is_json:
            kind = "warning" if fault.is_warning else "fault"
            emit({"file": str(fault.file), "line": fault.line, "kind": kind, "text": fault.text})
        else:
            say(str(fault), err=not fault.is_warning)
    wrong = sum(not fault.is_warning for fault in faults)
    if not is_json:
        text = f"{wrong} fault{'s' if wrong != 1 else ''}" if wrong else "no fault"
        warnings = len(faults) - wrong
        text += f", {warnings} warning{'s' if warnings != 1 else ''}" if warnings else ""
        say(f"{file}: {what}{text}", err=bool(wrong))
    return 2 if wrong else 0


def _many(count: int, what: str) -> str:
    return f"{count} {what}{'s' if count != 1 else ''}"


def _faults(file: Path, numbering: Numbering) -> tuple[list[Fault], str]:
    try:
        if file.suffix.lower() in (".csv", ".tsv", ".txt"):
            points, faults = read_map(file, read_text(file), MapDefaults(numbering))
            return faults, f"{_many(len(points), 'point')}, "
        site, faults = load_site(file)
        routines, more = read_routines(site)
        faults += more
        text = f", {_many(len(routines), 'sound routine')}" if routines or more else ""
        held = [_many(site.device_count, "device"), _many(site.point_count, "point"), _many(len(site.lines), "line")]
        return faults, f"{held[0]} and {held[1]} on {held[2]}{text}, "
    except FaultyFile as faulty:
        return [*faulty.faults, *faulty.warnings], ""
