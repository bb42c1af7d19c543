"""What each command ends with, in its help."""

import click

_EXITS = "Exit codes: 0 done, 1 {failed}, 2 wrong usage or a faulty file."
_FAILED = "the device, the line or the file to be written failed"
_OWN = {
    "compose": "Exit codes: 0 done, 2 wrong usage.",
    "explain": _EXITS.format(failed="the check bytes or the frame are wrong"),
    "find": _EXITS.format(failed="nobody answered, or there is no port"),
    "poll": _EXITS.format(failed="not one good sample came"),
}


def tell_exits(command: click.Command) -> click.Command:
    """The command, with its exit codes at the end of its help unless they stand in it already."""
    if "xit code" not in (command.help or "") and command.epilog is None:
        command.epilog = _OWN.get(command.name or "", _EXITS.format(failed=_FAILED))
    if isinstance(command, click.Group):
        for subcommand in command.commands.values():
            tell_exits(subcommand)
    return command
