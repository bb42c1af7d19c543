"""`kanaleto export`: what others are given."""

import importlib

import click

from kanaleto.cli.exits import tell_exits

_WHAT = {
    "map": "a device's map as CSV, workbook, JSON, Thing Description, SVG or PDF",
    "trend": "points over time out of the record, as SVG or PDF",
    "exchange": "one exchange in both framings, as SVG or PDF",
    "line": "a stretch of exchanges as a timing diagram, as SVG or PDF",
    "report": "what a site is, how it was proved, how it communicated, as PDF",
    "site": "the drawing of a site, as SVG or PDF",
    "handover": "all that is handed over with a plant, as zip",
    "log": "what happened, as CSV, JSON lines, or text for a message",
}

_MODULES = {"exchange": "exchange", "line": "exchange", "report": "papers", "site": "papers", "handover": "papers"}
"""Those that share a module with others."""


class _Exports(click.Group):
    """Loads what is asked for. Without a word of these it is a map that is exported."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(_WHAT)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in _WHAT:
            return None
        of_several = _MODULES.get(cmd_name)
        module = importlib.import_module(f"kanaleto.cli.export{of_several or cmd_name}")
        command: click.Command = getattr(module, cmd_name if of_several else "command")
        return tell_exits(command)

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args[0] in _WHAT or args[0].startswith("-"):
            return super().resolve_command(ctx, args)
        return "map", self.get_command(ctx, "map"), args

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("What"):
            formatter.write_dl(list(_WHAT.items()))


@click.group("export", cls=_Exports)
def command() -> None:
    """Write something of a site to a file. `kanaleto export SITE FILE` is `kanaleto export map SITE FILE`.

    \b
    Examples:
      kanaleto export map plant.toml mast.td.json --device "Weather mast"
      kanaleto export map plant.toml mast.pdf --device "Weather mast"
      kanaleto export trend plant.toml night.pdf --point "Weather mast/Gust" --from 22:00
      kanaleto export line plant.toml stretch.svg --where 'device:Pump from:03:12 to:03:13'
      kanaleto export report plant.toml report.pdf
      kanaleto export handover plant.toml plant.zip
      kanaleto export log plant.toml night.txt --from 22:00
    """
