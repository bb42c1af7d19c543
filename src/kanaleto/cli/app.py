"""`kanaleto`, `kanaleto SITE` and `kanaleto CAPTURE`: the application."""

from pathlib import Path

import click

from kanaleto.capture.jsonlines import NoCapture
from kanaleto.capture.reading import Capture
from kanaleto.capture.tape import files_of
from kanaleto.files.loading import LoadedSite, load_whole
from kanaleto.polling.engine import Engine
from kanaleto.site.model import Site
from kanaleto.supervision.collector import settle


@click.command("kanaleto")
@click.argument("site", metavar="SITE|CAPTURE", type=click.Path(path_type=Path))
@click.option("--theme", type=click.Choice(["lagoon", "fresco"]), default="lagoon", show_default=True)
@click.option("--read-only", "is_read_only", is_flag=True, help="nothing is ever written to a device")
@click.pass_context
def command(context: click.Context, site: Path, theme: str, is_read_only: bool) -> int:
    """The application, polling SITE. It starts with writing locked. Of a capture (JSON lines, pcapng, pcap, a tape or
    what was laid aside of one) it shows the exchanges."""
    if is_capture(site):
        start(LoadedSite(Site(site.name, ())), theme, None, True, site)
    else:
        start(load_whole(site), theme, None, is_read_only or bool(context.obj))
    return 0


def is_capture(path: Path) -> bool:
    """Whether a path is shown by Wire alone, by its name or by how it begins. Raises click.UsageError where it is
    called so and is none."""
    if path.suffix.lower() == ".toml" or not path.exists() or (path.is_dir() and not files_of(path)):
        return False
    try:
        Capture(path)
    except (NoCapture, OSError) as error:
        if path.suffix.lower() not in (".jsonl", ".pcapng", ".pcap", ".tape") and not path.is_dir():
            return False
        raise click.UsageError(str(error)) from None
    return True


def start(
    loaded: LoadedSite, theme: str, for_s: float | None, is_read_only: bool = False, capture: Path | None = None
) -> None:
    """Run it until the user quits, or `for_s` is over. Raises click.UsageError where there can be no screen."""
    from kanaleto.tui.start import NoScreen, need_screen, run_application

    try:
        need_screen()
    except NoScreen as error:
        raise click.UsageError(str(error)) from None
    engine = Engine(loaded.site)
    settle()
    run_application(engine, loaded, theme, for_s, is_read_only, capture)
