"""`kanaleto routine`: a routine of a site, step by step on the line of text that each is."""

import asyncio
import sys
from functools import partial
from pathlib import Path

import click

from kanaleto.cli.confirm import ask_yes
from kanaleto.cli.failures import Failed
from kanaleto.cli.foreground import run_until_signal
from kanaleto.cli.options import usage
from kanaleto.cli.output import emit, iso, say
from kanaleto.control.control import Control
from kanaleto.control.lock import Lock
from kanaleto.control.permission import Touched, permission
from kanaleto.control.routine import Routine, StepKind
from kanaleto.control.routinefile import FOLDER, read_routines
from kanaleto.control.routinerun import RoutineRun, StepNews, StepOutcome
from kanaleto.files.beside import folder_beside
from kanaleto.files.loading import load_site
from kanaleto.keeping.kept import Kept
from kanaleto.polling.processlimits import prepare_process
from kanaleto.polling.session import Session
from kanaleto.proof.checkout import Checkout, sheet_path, take_for_routine
from kanaleto.proof.sheet import CannotKeep
from kanaleto.site.filefaults import FaultyFile, suggestion
from kanaleto.site.model import Site
from kanaleto.values.digits import number
from kanaleto.wire.reach import Items

_FIRST_S = 10.0  # how long the first values may take


@click.command("routine")
@click.argument("site_path", metavar="SITE", type=click.Path(path_type=Path))
@click.argument("name", metavar="NAME", required=False)
@click.option("--dry", "is_dry", is_flag=True, help="send nothing: say what it would send")
@click.option("--set", "settings", metavar="NAME=VALUE", multiple=True, help="another value for a variable")
@click.option("--yes", "is_yes", is_flag=True, help="answer every question with yes")
@click.option("--json", "is_json", is_flag=True, help="one object a step")
def command(
    site_path: Path, name: str | None, is_dry: bool, settings: tuple[str, ...], is_yes: bool, is_json: bool
) -> int:
    """Run a routine of SITE (routines/*.toml beside it), by the name that stands in it; without NAME they are listed.
    Without --dry it writes to devices.

    Questions are asked on the terminal; where there is none they are answered with no.

    \b
    Example: say what it would send, then do it
      kanaleto routine alder-lock.toml "Acknowledge and open" --dry
      kanaleto routine alder-lock.toml "Acknowledge and open" --set target=60
    """
    site, _ = load_site(site_path)
    routines, faults = read_routines(site)
    if name is None:
        for routine in routines.values():
            say(f"{routine.name}  ({routine.device}, {len(routine.steps)} steps)")
        if faults:
            raise FaultyFile(faults)
        return 0
    if name not in routines:
        if faults:
            raise FaultyFile(faults)
        known = ", ".join(repr(name) for name in routines) or f"none in {site_path.parent / FOLDER}"
        raise click.UsageError(f"there is no routine {name!r}{suggestion(name, list(routines))}; there are {known}")
    variables = usage(lambda: _variables(settings, routines[name]))
    if not is_dry:
        _require_writing(site, routines[name])
    work = _Running(site, routines, name, variables, is_dry, is_yes, is_json)
    if not run_until_signal(work.run()) and not is_json:
        say("stopped", err=True)
    if work.outcome == "failed":
        raise Failed("" if is_json else f"routine “{name}” failed: {work.said}")
    return 0


def _variables(settings: tuple[str, ...], routine: Routine) -> dict[str, float]:
    """Raises ValueError."""
    known = dict(routine.variables)
    found: dict[str, float] = {}
    for text in settings:
        key, equals, value = text.partition("=")
        key = key.strip()
        if not equals or key not in known:
            raise ValueError(
                f"--set {text!r} names no variable of the routine as NAME=VALUE; it has {', '.join(known) or 'none'}"
            )
        found[key] = number(value)
    return found


def _require_writing(site: Site, routine: Routine) -> None:
    writing = [step for step in routine.steps if step.kind is not StepKind.PROVE]
    targets = {(name or routine.device, point) for step in writing for (name, point), _ in step.targets}
    for line, device in site.devices():
        touched = [
            Touched(Items(point.table, point.address, point.end), points=(point.name,))
            for point in device.points
            if (device.name, point.name) in targets
        ]
        if touched or (writing and device.name == routine.device):
            never = permission(line, device.unit_id, touched).never
            if never:
                raise click.UsageError(never)


class _Running:
    def __init__(
        self, site: Site, routines: dict[str, Routine], name: str, variables: dict[str, float], is_dry: bool,
        is_yes: bool, is_json: bool,
    ) -> None:  # fmt: skip
        self.outcome, self.said = "stopped", ""
        self._site, self._routines, self._name, self._variables = site, routines, name, variables
        self._is_dry, self._is_yes, self._is_json = is_dry, is_yes, is_json
        assert site.path is not None
        try:
            self._checkout = Checkout(site, sheet_path(site.path))
        except CannotKeep as error:
            raise click.UsageError(str(error)) from None

    async def run(self) -> None:
        site = self._site
        session = Session(site)
        kept = Kept("kanaleto routine", session.events, session.clock, self._tell_trouble)
        folder = folder_beside(site.path) if site.path is not None else None
        control = Control(session, Lock(consents=True), kept.ledger, lambda: folder)
        control.take_routines(self._routines, [])
        if not self._is_dry:
            control.prove = partial(take_for_routine, self._checkout, session)
        if self._is_dry:
            await self._carry_out(control)
            return
        prepare_process()
        kept.listen_to(session)
        kept.start(site.path, site)
        polling = asyncio.create_task(session.run())
        try:
            await self._wait_for_first(session)
            await self._carry_out(control)
        finally:
            for left in await asyncio.shield(control.stop()):
                say(left, err=True)
            polling.cancel()
            await asyncio.gather(polling, return_exceptions=True)
            await asyncio.to_thread(kept.stop)

    def _tell_trouble(self, kind: str, text: str) -> None:
        if text:
            say(text, err=True)

    async def _wait_for_first(self, session: Session) -> None:
        """Until its device has answered, or nobody does."""
        device = self._routines[self._name].device
        poller = next(p for p in session.pollers if device in p.states)
        end_s = asyncio.get_running_loop().time() + _FIRST_S
        while poller.states[device].last_answer_s is None and asyncio.get_running_loop().time() < end_s:
            if poller.states[device].is_silent or poller.connection.why_unreachable:
                return
            await asyncio.sleep(0.05)

    async def _carry_out(self, control: Control) -> None:
        run = control.run(self._name, self._variables, self._is_dry, can_ask=not self._is_dry)
        run.on_step = self._tell_step
        ending = asyncio.create_task(control.finished(run))
        try:
            while not ending.done():
                await asyncio.wait({ending}, timeout=0.05)
                if run.state.question:
                    control.answer(run.state.number, await self._ask(run.state.question))
        finally:
            if not ending.done():
                control.stop_run(run.state.number)
                await asyncio.gather(ending, return_exceptions=True)
            self._tell_end(run)

    async def _ask(self, question: str) -> bool:
        if self._is_yes:
            say(f"{question} yes, as --yes says", err=True)
            return True
        if not sys.stdin.isatty():
            say(f"{question} Nobody can be asked here, so: no", err=True)
            return False
        return await asyncio.to_thread(ask_yes, f"{question} y goes on, anything else does not: ")

    def _tell_step(self, step: StepNews) -> None:
        took_ms = round(step.took_s * 1000, 3)
        if self._is_json:
            text = f"{step.step.text}: {step.said}" if step.said else step.step.text
            emit(
                {
                    "at": iso(step.wall_s), "step": step.step.number, "text": text, "outcome": step.outcome.value,
                    "took_ms": took_ms,
                }
            )  # fmt: skip
            return
        said = f": {step.said}" if step.said else ""
        took = f" ({step.took_s:.2f} s)" if step.outcome is StepOutcome.DONE else ""
        say(f"{step.step.number:3}  {step.outcome.value:8}{step.step.text}{said}{took}")

    def _tell_end(self, run: RoutineRun) -> None:
        self.outcome, self.said = run.state.outcome or "stopped", run.state.said
        if self._is_json:
            emit({"routine": self._name, "outcome": self.outcome})
        elif self.outcome != "failed":
            say(f"routine “{self._name}”: {self.outcome}{', nothing was sent' if self._is_dry else ''}")
