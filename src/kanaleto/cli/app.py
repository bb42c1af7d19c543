"""`kanaleto` and `kanaleto SITE`: the application."""

from pathlib import Path

import click

from kanaleto.files.loading import LoadedSite, load_whole
from kanaleto.polling.engine import Engine
from kanaleto.supervision.collector import settle


@click.command("kanaleto")
@click.argument("site", type=click.Path(path_type=Path))
@click.option("--theme", type=click.Choice(["lagoon", "fresco"]), default="lagoon", show_default=True)
@click.option("--read-only", "is_read_only", is_flag=True, help="nothing is ever written to a device")
@click.pass_context
def command(context: click.Context, site: Path, theme: str, is_read_only: bool) -> int:
    """The application, polling SITE. It starts with writing locked."""
    start(load_whole(site), theme, None, is_read_only or bool(context.obj))
    return 0


def start(loaded: LoadedSite, theme: str, for_s: float | None, is_read_only: bool = False) -> None:
    """Run it until the user quits, or `for_s` is over. Raises click.UsageError where there can be no screen."""
    from kanaleto.tui.start import NoScreen, need_screen, run_application

    try:
        need_screen()
    except NoScreen as error:
        raise click.UsageError(str(error)) from None
    engine = Engine(loaded.site)
    settle()
    run_application(engine, loaded, theme, for_s, is_read_only)
