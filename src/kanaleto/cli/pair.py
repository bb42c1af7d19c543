"""`kanaleto pair`: two ends joined back to back."""

import asyncio
import time
from functools import partial
from pathlib import Path

import click

from kanaleto.bench.faults import FaultWanted, parse_keys, wanted_fault
from kanaleto.bridge.backtoback import PAIR_FAULTS, JoinedEnds, PairFault, end_of
from kanaleto.capture.capturefile import CaptureFile
from kanaleto.capture.row import ExchangeRow, row_of_heard
from kanaleto.cli.completing import links
from kanaleto.cli.failures import Failed
from kanaleto.cli.foreground import run_until_signal
from kanaleto.cli.keptfiles import begin_overheard, require_new
from kanaleto.cli.options import usage
from kanaleto.cli.output import emit, iso, say
from kanaleto.probing.overhearing import HeardExchange
from kanaleto.serving.network import CannotServe
from kanaleto.site.links.link import Link
from kanaleto.site.links.parse import parse_link

_KEEP_EACH_S = 0.25


@click.command("pair")
@click.argument("one", metavar="LINK", shell_complete=links)
@click.argument("other", metavar="LINK", shell_complete=links)
@click.option("--baud", type=click.IntRange(50, 4_000_000), metavar="N", help="pace bytes as on a wire of that rate")
@click.option("--capture", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE.jsonl|FILE.pcapng",
              help="keep what passes, as exchanges")  # fmt: skip
@click.option(
    "--fault",
    "faults",
    multiple=True,
    metavar="TEXT",
    help="silent, late ms=20, lost each=50, garbled each=50, short bytes=3, noise a_second=5, hang_up after=10",
)
@click.option("--seed", type=int, default=0, metavar="N", help="of what is drawn")
@click.option("--for", "for_s", type=click.FloatRange(0), metavar="S", help="end after so many seconds")
@click.option("--json", "is_json", is_flag=True, help="where the ends are, and what passed, as objects")
def command(
    one: str, other: str, baud: int | None, capture: Path | None, faults: tuple[str, ...], seed: int,
    for_s: float | None, is_json: bool,
) -> int:  # fmt: skip
    """Join two ends back to back: what comes in at one goes out at the other, byte for byte.

    An end is a path at which a pseudo-terminal is made, a serial port that exists, or tcp://HOST:PORT, where it
    listens.
    Prints `ready`, and at the end bytes each way, exchanges, torn frames, and the delay that it added.

    \b
    Example: two programs that each want a serial port, on a wire of 19 200 baud, with what they say kept
      kanaleto pair rtu://ports/a rtu://ports/b --baud 19200 --capture between.jsonl
    """
    links = [usage(partial(parse_link, text)) for text in (one, other)]
    if links[0].where == links[1].where:
        raise click.UsageError(f"both ends are {links[0].place}: a pair joins two")
    fault = usage(lambda: fault_of(faults, seed))
    if capture is not None:
        require_new(capture)
    kept: CaptureFile | None = None
    heard_yet: list[HeardExchange] = []
    pair: JoinedEnds | None = None

    async def work() -> None:
        nonlocal kept, pair
        offset_s = time.time() - asyncio.get_running_loop().time()
        try:
            ends = [end_of(link, "pair", baud or 0) for link in links]
            on_heard = heard_yet.append if capture is not None else lambda heard: None
            pair = JoinedEnds(ends[0], ends[1], baud or 0, fault, seed, on_heard)
            await pair.start()
        except CannotServe as error:
            pair = None
            raise Failed(str(error)) from None
        if capture is not None:
            kept = begin_overheard(capture, links[0])
        if is_json:
            emit({"at": iso(), "ready": [{"line": "pair", "link": str(link)} for link in links]})
        else:
            say("ready")
        try:
            async with asyncio.timeout(for_s):
                while True:
                    await asyncio.sleep(_KEEP_EACH_S)
                    if kept is not None:
                        kept.put(_rows(heard_yet, links[0], offset_s))
        except TimeoutError:
            return
        finally:
            await pair.stop()
            if kept is not None:
                kept.put(_rows(heard_yet, links[0], offset_s))
                kept.close()

    run_until_signal(work())
    if pair is not None:
        _tell(pair, is_json)
    return 0


def _rows(heard_yet: list[HeardExchange], link: Link, offset_s: float) -> list[ExchangeRow]:
    rows = [row_of_heard(heard, link.place, link, offset_s) for heard in heard_yet]
    heard_yet.clear()
    return rows


def fault_of(texts: tuple[str, ...], seed: int = 0) -> PairFault:
    """Raises ValueError with one sentence."""
    wanted: list[FaultWanted] = []
    for text in texts:
        name, _, rest = text.strip().partition(" ")
        fault = wanted_fault(name, parse_keys(rest))
        if fault.name not in PAIR_FAULTS:
            raise ValueError(f"{name} is a fault of a device, and a pair has none; it has {', '.join(PAIR_FAULTS)}")
        if fault.name in [other.name for other in wanted]:
            raise ValueError(f"{name} is there twice")
        wanted.append(fault)
    return PairFault(wanted, seed)


def _tell(pair: JoinedEnds, is_json: bool) -> None:
    median_ms, most_ms = pair.delays_ms()
    came = [end.came for end in pair.ends]
    if is_json:
        delay = {"median": round(median_ms, 3), "p99": round(most_ms, 3)}
        emit({"bytes": came, "exchanges": pair.exchanges, "torn_frames": pair.torn, "delay_ms": delay})
        return
    say(f"{came[0]} and {came[1]} bytes, {pair.exchanges} exchanges, {pair.torn} torn frames")
    say(f"delay added: {median_ms:.2f} ms at the median, {most_ms:.2f} ms at 99 %")
