"""`kanaleto serve`: the far end of every line of a site."""

import asyncio
from pathlib import Path

import click

from kanaleto.bench.server import SiteServer
from kanaleto.cli.failures import Failed
from kanaleto.cli.output import say
from kanaleto.cli.running import run_until_signal
from kanaleto.files.loading import load_site
from kanaleto.serving.network import CannotServe


@click.command("serve")
@click.argument("site", type=click.Path(path_type=Path))
@click.option("--for", "for_s", type=click.FloatRange(0), metavar="S", help="end after so many seconds")
@click.option("--listen", metavar="ADDRESS", help="bind network lines here instead of the host of their link")
def command(site: Path, for_s: float | None, listen: str | None) -> int:
    """Be the far end of every line of SITE: its devices, simulated, on the ports that the site names.

    A serial port that does not exist becomes a pseudo-terminal, linked at its path. Prints `ready` when all listen.

    \b
    Example:
      kanaleto serve alder-lock.toml --for 60
    """
    loaded, _ = load_site(site)

    async def work() -> None:
        try:
            server = SiteServer(loaded, listen, on_client=lambda text: say(text, err=True))
            await server.start()
        except CannotServe as error:
            raise Failed(str(error)) from None
        try:
            say("ready")
            await (asyncio.sleep(for_s) if for_s is not None else asyncio.Event().wait())
        finally:
            await server.stop()

    run_until_signal(work())
    return 0
