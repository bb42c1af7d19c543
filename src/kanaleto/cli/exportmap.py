"""`kanaleto export map`: a device's map as CSV, workbook, JSON or Thing Description."""

from pathlib import Path

import click

from kanaleto.cli.completing import device_names
from kanaleto.cli.failures import Failed
from kanaleto.cli.output import say
from kanaleto.files.loading import load_site
from kanaleto.files.whole import write_bytes_whole
from kanaleto.site.model import Device, Line, Site
from kanaleto.tables.maps import as_csv, as_json, as_workbook
from kanaleto.tables.things import as_thing

_FORMS = {".csv": "csv", ".xlsx": "xlsx", ".json": "json", ".jsonld": "thing", ".svg": "paper", ".pdf": "paper"}


@click.command("map")
@click.argument("site", type=click.Path(path_type=Path))
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False))
@click.option(
    "--device",
    "names",
    multiple=True,
    shell_complete=device_names,
    help="which device; on paper several, or all where none is named",
)
@click.option(
    "--as",
    "form",
    type=click.Choice(["csv", "xlsx", "json", "thing", "paper"]),
    help="known by the file's ending: .csv, .xlsx, .json, .td.json, .svg, .pdf",
)
def command(site: Path, file: Path, names: tuple[str, ...], form: str | None) -> int:
    """Write the map of a device of SITE to FILE: as a table, as JSON, as a Web of Things Thing Description, or for
    whoever programs the controller on paper (.pdf, .svg; all devices where none is named).

    \b
    Example:
      kanaleto export map plant.toml mast.td.json --device "Weather mast"
    """
    loaded, _ = load_site(site)
    known = [device.name for _, device in loaded.devices()]
    for name in names:
        if name not in known:
            raise click.UsageError(f"--device must be one of {', '.join(map(repr, known)) or 'none'}")
    found = [(line, device) for line, device in loaded.devices() if not names or device.name in names]
    text = form or ("thing" if file.name.endswith(".td.json") else _FORMS.get(file.suffix.lower()))
    if text is None:
        raise click.UsageError(
            f"{file.name} does not tell its form; end it in .csv, .xlsx, .json, .td.json, .svg or .pdf"
        )
    if text == "paper":
        return _write_paper(file, loaded, found)
    if len(found) != 1:
        known_names = ", ".join(map(repr, known))
        raise click.UsageError(f"--device must be one of {known_names}" if known else "this site has no device")
    line, device = found[0]
    if text == "xlsx":
        data = as_workbook(device)
    else:
        data = (
            as_csv(device) if text == "csv" else as_json(device) if text == "json" else as_thing(device, line.link)
        ).encode()
    try:
        write_bytes_whole(file, data)
    except OSError as error:
        raise Failed(f"{file} cannot be written: {error.strerror}") from None
    say(f"{len(device.points)} points of {device.name} written to {file}", err=True)
    return 0


def _write_paper(file: Path, site: Site, found: list[tuple[Line, Device]]) -> int:
    from kanaleto.paper.drawing import write_elsewhere  # what draws costs other exports too much
    from kanaleto.paper.look import NoPaper
    from kanaleto.paper.report import maps_document

    try:
        write_elsewhere(maps_document(site, found), file)
    except NoPaper as error:
        raise Failed(str(error)) from None
    count = sum(len(device.points) for _, device in found)
    of = found[0][1].name if len(found) == 1 else f"{len(found)} devices"
    say(f"{count} points of {of} written to {file}", err=True)
    return 0
