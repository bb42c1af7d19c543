"""`kanaleto replay`: be the slaves of a capture."""

import asyncio
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import click
from msgspec.structs import replace

from kanaleto.bench.freeplaces import NoPlace, at_link, file_name, free_port
from kanaleto.capture.row import ExchangeRow, link_of
from kanaleto.cli.completing import line_names
from kanaleto.cli.failures import Failed
from kanaleto.cli.foreground import run_until_signal
from kanaleto.cli.keptfiles import capture_faults, capture_of, is_site
from kanaleto.cli.options import usage
from kanaleto.cli.output import emit, iso, say
from kanaleto.files.origins import Serves, ServingMark
from kanaleto.replay.player import LinePlayer, TooLong, players_of
from kanaleto.serving.network import CannotServe, PlaceTaken
from kanaleto.serving.servers import Server, server_for
from kanaleto.site.filefaults import suggestion
from kanaleto.site.links.link import Link
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.model import Line
from kanaleto.site.origin import Origin


@click.command("replay")
@click.argument("capture", metavar="CAPTURE|SITE")
@click.option(
    "--line", "lines", multiple=True, metavar="NAME", shell_complete=line_names, help="only this line; again for more"
)
@click.option("--at", metavar="LINK", help="where the one line is served, instead of a free place of this machine")
@click.option(
    "--by", type=click.Choice(["order", "time"]), default="order", show_default=True,
    help="the nth answer to the same request, or what held at that time",
)  # fmt: skip
@click.option("--again", is_flag=True, help="at the end begin again; else the last answer stays")
@click.option("--for", "for_s", type=click.FloatRange(0.0), metavar="S", help="end after so long")
@click.option("--json", "is_json", is_flag=True, help="say where each line is served as an object, instead of ready")
def command(
    capture: str, lines: tuple[str, ...], at: str | None, by: str, again: bool, for_s: float | None, is_json: bool
) -> int:
    """Be the slaves of CAPTURE (or of the last hours of SITE): they answer the same requests as they did, with their
    times, silences and damaged bytes. What was never asked is refused with 02, units that never answered are silent.

    Without --at each line has a free port of the loopback address, or a pseudo-terminal. Prints `NAME LINK` a line,
    then `ready`.

    \b
    Example:
      kanaleto replay night.jsonl --line "East line" --at tcp://127.0.0.1:15040 --for 60
    """
    players = _players(capture, lines, by == "time", again)
    if at is not None and len(players) != 1:
        raise click.UsageError(f"--at is the place of one line, and {len(players)} are served: choose it with --line")
    with tempfile.TemporaryDirectory(prefix="kanaleto-replay-") as folder:

        async def work() -> None:
            places: list[Line] = []
            started: list[Server] = []
            mark = ServingMark(Path(capture) if is_site(capture) else None)
            try:
                for player in players.values():
                    place, server = await _served(player, at, [one.link for one in places], Path(folder))
                    places.append(place)
                    started.append(server)
                mark.say(Serves(one.name, one.link, Origin.REPLAY) for one in places)
                if is_json:
                    emit({"at": iso(), "ready": [{"line": one.name, "link": str(one.link)} for one in places]})
                else:
                    for one in places:
                        say(f"{one.name} {one.link}")
                    say("ready")
                await (asyncio.sleep(for_s) if for_s is not None else asyncio.Event().wait())
            except CannotServe as error:
                raise Failed(str(error)) from None
            finally:
                mark.leave()
                for server in started:
                    await server.stop()

        run_until_signal(work())
    for player in players.values():
        never = f", {player.unknown} of them never before" if player.unknown else ""
        say(f"{player.name}: asked {player.asked} times{never}", err=True)
    return 0


def _players(capture: str, lines: tuple[str, ...], by_time: bool, again: bool) -> dict[str, LinePlayer]:
    source = capture_of(capture)
    known: set[str] = set()

    def noted() -> Iterator[ExchangeRow]:
        for row in source:
            known.add(row.line)
            yield row

    with capture_faults(capture):
        try:
            players = players_of(noted(), lines, by_time, again)
        except TooLong as error:
            raise click.UsageError(str(error)) from None
    for text in source.damaged:
        say(text, err=True)
    for name in lines:
        if name not in players:
            raise click.UsageError(f"{name!r} is no line of this capture{suggestion(name, sorted(known))}")
    if not players:
        raise click.UsageError(f"{capture} holds no exchange that could be answered again")
    return players


async def _served(player: LinePlayer, at: str | None, taken: list[Link], folder: Path) -> tuple[Line, Server]:
    """A line at its place; where that is one of our own choice and somebody takes it in the same moment, at another.
    Raises CannotServe."""
    line, refused = Line(player.name, link_of(player.link_text), ()), list(taken)
    while True:
        place = replace(line, link=_place(line, at, refused, len(taken), folder))
        server = _server(place, player)
        try:
            await server.start()
        except PlaceTaken:
            if at is not None:
                raise
            refused.append(place.link)
        else:
            return place, server


def _place(line: Line, at: str | None, taken: list[Link], number: int, folder: Path) -> Link:
    if at is not None:
        return usage(lambda: at_link(line, at))
    if line.link.address is None:
        return line.link.at_home(str(folder / file_name(f"{line.name} {number + 1}")), 0, False)
    try:
        return line.link.at_home("", free_port(line.link, taken), False)
    except NoPlace as error:
        raise Failed(str(error)) from None


def _server(line: Line, player: LinePlayer) -> Server:
    player.clock = time.monotonic
    try:
        server = server_for(line, player, None)
    except CannotServe as error:
        raise Failed(str(error)) from None
    player.base_s = line.link.settings.gap_s if isinstance(line.link, SerialLink) else 0.0
    return server
