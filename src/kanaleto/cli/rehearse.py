"""`kanaleto rehearse`: a timetable of faults on the simulated devices of a site, and whether the master did what is
expected."""

import asyncio
import time
from functools import partial
from pathlib import Path

import click

from kanaleto.bench.bench import Bench
from kanaleto.bench.free import needs_hearing
from kanaleto.bench.rehearsal import Rehearsal, RehearsalRun, Verdict, read_rehearsal
from kanaleto.cli.failures import Failed
from kanaleto.cli.foreground import run_until_signal
from kanaleto.cli.options import usage
from kanaleto.cli.output import emit, say
from kanaleto.cli.progress import Progress
from kanaleto.cli.serve import clients_of, far_end_options, hear, only, stands_of, tell_open
from kanaleto.files.loading import load_site
from kanaleto.proof.checkout import Checkout, sheet_path
from kanaleto.proof.sequences import SequenceVerdict, keep_sequences
from kanaleto.proof.sheet import CannotKeep
from kanaleto.serving.network import CannotServe
from kanaleto.site.model import Site

_MARKS = {"passed": "●", "failed": "✕", "void": "◌"}


@click.command("rehearse")
@click.argument("site", type=click.Path(path_type=Path))
@click.argument("file", type=click.Path(path_type=Path))
@far_end_options
@click.option("--json", "is_json", is_flag=True, help="one object a line")
def command(
    site: Path, file: Path, at: str | None, listen: str | None, clients: str | None, lines: tuple[str, ...],
    devices: tuple[str, ...], seed: int | None, hear_s: float, is_sure: bool, is_json: bool,
) -> int:  # fmt: skip
    """Be the simulated devices of SITE, do to them what the timetable FILE says, and judge what their master does.

    It begins when each device that a step names has been asked. Exit code 0: all passed; 1: something failed or is
    void (what cannot be judged is void, and void is not passed); 2: a faulty file.

    \b
    Example:
      kanaleto rehearse alder-lock.toml rehearsals/east-line.toml
    """
    loaded, _ = load_site(site)
    rehearsal = read_rehearsal(file, loaded)
    served = usage(partial(only, loaded, lines, devices, at))
    who = usage(partial(clients_of, clients))
    tell_open(listen, who)
    verdicts: list[Verdict] = []

    def tell(text: str) -> None:
        say(text, err=True)

    try:
        bench = Bench(loaded, listen, tell, seed, tell=tell, stands=stands_of(served), clients=who)
    except CannotServe as error:
        raise Failed(str(error)) from None
    with Progress().during(rehearsal.lasts_s + hear_s, rehearsal.name):
        is_whole = run_until_signal(_work(served, bench, rehearsal, verdicts, hear_s, is_sure, is_json))
    counts = {outcome: sum(one.outcome == outcome for one in verdicts) for outcome in _MARKS}
    is_passed = is_whole and bool(verdicts) and counts["passed"] == len(verdicts)
    outcome = "passed" if is_passed else "stopped" if not is_whole else "failed" if counts["failed"] else "void"
    for one in verdicts:
        if is_json:
            emit({"at_s": one.at_s, "step": one.step, "expect": one.expect, "outcome": one.outcome,
                  "measured": one.measured, "text": one.text})  # fmt: skip
        else:
            say(f"{_MARKS[one.outcome]} step {one.step}, {one.at_s:g} s · {one.expect}: {one.outcome} · {one.text}")
    _keep(loaded, site, rehearsal, verdicts)
    if is_json:
        emit({"rehearsal": rehearsal.name, "outcome": outcome, **counts})
    else:
        message = ", ".join(f"{count} {word}" for word, count in counts.items())
        say(f"{rehearsal.name}: {outcome} ({message})")
    return 0 if is_passed or not is_whole else 1


def _keep(loaded: Site, path: Path, rehearsal: Rehearsal, verdicts: list[Verdict]) -> None:
    """On the checkout sheet, as claims of kind sequence."""
    targets = [step.fault.target for step in rehearsal.steps]
    sequence_verdicts = [
        SequenceVerdict(targets[min(one.step, len(targets)) - 1], one.expect, one.outcome, one.text) for one in verdicts
    ]
    try:
        keep_sequences(Checkout(loaded, sheet_path(path)), rehearsal.name, sequence_verdicts, time.time())
    except CannotKeep as error:
        say(str(error), err=True)


async def _work(
    site: Site, bench: Bench, rehearsal: Rehearsal, verdicts: list[Verdict], hear_s: float, is_sure: bool,
    is_json: bool,
) -> None:  # fmt: skip
    for step in rehearsal.steps:
        usage(partial(bench.require, step.fault))
    try:
        await asyncio.gather(*(hear(line, hear_s, is_sure) for line in site.lines if needs_hearing(line)))
        await bench.start()
    except CannotServe as error:
        raise Failed(str(error)) from None
    running = asyncio.create_task(bench.run())
    try:
        if not is_json:
            say("ready", err=True)
        verdicts += await RehearsalRun(rehearsal, bench).run()
    except CannotServe as error:  # a port that a fault had shut is somebody else's now
        raise Failed(str(error)) from None
    finally:
        running.cancel()
        await bench.stop()
