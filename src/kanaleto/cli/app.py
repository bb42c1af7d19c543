"""`kanaleto` and `kanaleto SITE`: the application."""

from pathlib import Path

import click

from kanaleto.site.model import Site
from kanaleto.site.sitefile import load_site


@click.command("kanaleto")
@click.argument("site", type=click.Path(path_type=Path))
@click.option("--theme", type=click.Choice(["lagoon", "fresco"]), default="lagoon", show_default=True)
def command(site: Path, theme: str) -> int:
    """The application, polling SITE."""
    loaded, _ = load_site(site)
    start(loaded, theme)
    return 0


def start(site: Site, theme: str) -> None:
    """Run it until the user quits. Raises click.UsageError where there can be no screen."""
    from kanaleto.tui.start import NoScreen, run_application

    try:
        run_application(site, theme, None)
    except NoScreen as error:
        raise click.UsageError(str(error)) from None
