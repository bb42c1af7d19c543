"""`kanaleto serve`: the far end of every line of a site."""

import asyncio
from pathlib import Path

import click

from kanaleto.bench.server import SiteServer
from kanaleto.capture.row import Origin
from kanaleto.cli.failures import Failed
from kanaleto.cli.output import say
from kanaleto.cli.running import run_until_signal
from kanaleto.events.clock import Clock
from kanaleto.events.log import EventKind, EventLog
from kanaleto.files.loading import load_site
from kanaleto.keeping.kept import Kept
from kanaleto.polling.session import LOOK_S
from kanaleto.serving.network import CannotServe
from kanaleto.supervision.owned import Failure, follow, leave


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
    clock = Clock()
    log = EventLog(clock.now)
    kept = Kept("kanaleto serve", log, clock, lambda _, text: say(text, err=True) if text else None)

    def tell(text: str) -> None:
        say(text, err=True)
        log.note(EventKind.CLIENT, "", "", text)  # of one host and one kind only now and then

    async def look_around() -> None:
        while True:
            await asyncio.sleep(LOOK_S)
            told = clock.look()
            if told:
                log.note(EventKind.CLOCK, "", "", told)

    async def work() -> None:
        loop = asyncio.get_running_loop()

        def note(failure: Failure) -> None:  # said it is already, by whoever runs us
            loop.call_soon_threadsafe(log.note, EventKind.FAULT, "", "", failure.text)

        follow(note)
        try:
            server = SiteServer(loaded, listen, on_client=tell)
            await server.start()
        except CannotServe as error:
            raise Failed(str(error)) from None
        looking = asyncio.create_task(look_around())
        try:
            say("ready")
            await (asyncio.sleep(for_s) if for_s is not None else asyncio.Event().wait())
        finally:
            looking.cancel()
            await server.stop()
            leave(note)

    kept.start(loaded.path, loaded, Origin.STAND_IN)
    try:
        run_until_signal(work())
    finally:
        kept.stop()
    return 0
