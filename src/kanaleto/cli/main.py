"""The command `kanaleto`: finds the sub-command, and tells every failure in one sentence with the right exit code.

Exit codes: 0 done, 1 the device or line failed, 2 wrong usage or a faulty file.
"""

import importlib
import os
import signal
import sys
import threading
from contextlib import suppress
from typing import TYPE_CHECKING, Any

import click

from kanaleto import __version__
from kanaleto.cli.exits import tell_exits
from kanaleto.cli.failed import Failed
from kanaleto.cli.output import bear_any_text, say

if TYPE_CHECKING:
    from kanaleto.site.filefaults import FaultyFile

_MOST_FAULTS = 20
_ENDING = [getattr(signal, name) for name in ("SIGTERM", "SIGHUP") if hasattr(signal, name)]
_WRITING = ("write", "raw", "routine")
_COMMANDS = {
    "bridge": "pass on what masters ask, from the links of a site's bridges to its lines",
    "case": "exchanges and what they prove, as one file for others",
    "check": "every fault of a site file or a map",
    "clone": "devices as they answer now, as a site that can be served",
    "compose": "the bytes of a request in every framing; nothing is sent",
    "demo": "the demo site: simulated devices and the application",
    "explain": "a frame, field by field, and the verdict on its check bytes",
    "export": "a device's map, or the log of what happened, for others",
    "find": "get an answer at all: ports, settings, units, registers",
    "history": "what was kept: samples, events, statistics",
    "identify": "what a device says of itself",
    "pair": "two ends joined back to back, paced, heard and kept",
    "poll": "poll a site, a line a sample",
    "raw": "send a PDU of one's own",
    "read": "read values from one device",
    "replay": "be the slaves of a capture",
    "rehearse": "faults on simulated devices by a timetable, and whether the master does what is expected",
    "routine": "run a routine of a site, or say what it would send",
    "serve": "be the far end of every line of a site",
    "proof": "the checkout sheet: what is to be proved, what is left, evidence taken, sheets merged",
    "snapshot": "what devices hold: save it, compare it, write it back",
    "wire": "a capture, exchange by exchange, and what the pattern looks like",
    "write": "write values to one device",
}


class _Commands(click.Group):
    """Loads a command's module only when it is used. A first argument that is no command is a site for the
    application."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return sorted(_COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        name = "app" if cmd_name not in _COMMANDS else cmd_name
        command: click.Command = importlib.import_module(f"kanaleto.cli.{name}").command
        return tell_exits(command)

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        first = args[0]
        if first in _COMMANDS:
            return super().resolve_command(ctx, args)
        if not first.startswith("-") and not os.path.exists(first) and "." not in first and "/" not in first:
            from kanaleto.site.filefaults import suggestion

            raise click.UsageError(
                f"there is no command and no site file {first!r}{suggestion(first, list(_COMMANDS))}", ctx
            )
        return "app", self.get_command(ctx, "app"), args

    def invoke(self, ctx: click.Context) -> Any:
        """The reader of our output may have enough, as `| head` has: that is no fault. Click would end with 1."""
        try:
            return super().invoke(ctx)
        except BrokenPipeError:
            sys.stdout = open(os.devnull, "w")  # noqa: SIM115 - stays open until the process ends
            return 0

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl(sorted(_COMMANDS.items()))


@click.group(cls=_Commands, invoke_without_command=True, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="kanaleto")
@click.option("--read-only", "is_read_only", is_flag=True, help="the application writes nothing to any device")
@click.pass_context
def kanaleto(context: click.Context, is_read_only: bool) -> None:
    """Map, poll and simulate field-bus slave devices (Modbus) from a full-screen terminal.

    \b
    kanaleto               the application: ports, recent sites, a line to type a link into
    kanaleto SITE          the application, on a site file
    kanaleto CAPTURE       the exchanges of a capture or a tape
    kanaleto demo          the application, on the demo site
    kanaleto COMMAND -h    what a command does, with an example
    """
    context.obj = is_read_only
    if is_read_only and context.invoked_subcommand in _WRITING:
        raise click.UsageError(f"--read-only: kanaleto {context.invoked_subcommand} writes to a device")
    if context.invoked_subcommand is None:
        from kanaleto.cli.app import start
        from kanaleto.files.loading import LoadedSite
        from kanaleto.site.model import Site

        start(LoadedSite(Site("New site", ())), "lagoon", None, is_read_only)


def _end(number: int, frame: object) -> None:
    """A signal before, or after, whoever is at work minds it: what was begun is taken away on the way out."""
    for ending in _ENDING:
        signal.signal(ending, signal.SIG_IGN)  # once is enough
    sys.exit(0)


def run() -> None:
    """Run with the arguments of the process, and end it."""
    bear_any_text()
    for ending in _ENDING:
        signal.signal(ending, _end)
    code = main(sys.argv[1:])
    this_thread = threading.current_thread()
    if any(thread is not this_thread and not thread.daemon for thread in threading.enumerate()):
        # all of ours has ended in order; one of the toolkit's may wait for ever for a terminal that has gone away
        with suppress(OSError):
            sys.stdout.flush()
        os._exit(code)
    sys.exit(code)


def _is_of_ending(error: BaseException | None) -> bool:
    """Whether it is the end that a signal asked for: where that comes while a class is made, Python tells it as another
    error, of which it is the cause."""
    while error is not None:
        if isinstance(error, SystemExit):
            return True
        error = error.__cause__ or error.__context__
    return False


def _tell_faults(faulty: "FaultyFile") -> int:
    for fault in faulty.faults[:_MOST_FAULTS]:
        say(str(fault), err=True)
    if len(faulty.faults) > _MOST_FAULTS:
        say(f"… and {len(faulty.faults) - _MOST_FAULTS} more; kanaleto check tells them all", err=True)
    return 2


def main(arguments: list[str]) -> int:
    """Run with `arguments`; gives the exit code."""
    try:
        result: Any = kanaleto.main(arguments, prog_name="kanaleto", standalone_mode=False)
        return result if isinstance(result, int) else 0
    except Failed as failed:
        if str(failed):
            say(str(failed), err=True)
        return 1
    except click.UsageError as error:
        path = error.ctx.command_path if error.ctx is not None else "kanaleto"
        say(f"{path}: {error.format_message()} (see {path} --help)", err=True)
        return 2
    except click.ClickException as error:
        say(f"kanaleto: {error.format_message()}", err=True)
        return 2
    except (click.Abort, KeyboardInterrupt):
        return 0
    except Exception as error:
        from kanaleto.site.filefaults import FaultyFile

        if isinstance(error, FaultyFile):
            return _tell_faults(error)
        if _is_of_ending(error):
            return 0
        from kanaleto.editing.crashes import keep_crash

        kept = keep_crash(error)
        where = f"the details are in {kept}" if kept is not None else "its details could not be written down"
        say(f"kanaleto: an error of its own, {type(error).__name__}: {error}; {where}", err=True)
        return 1
