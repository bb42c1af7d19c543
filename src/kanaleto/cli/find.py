"""`kanaleto find`: get an answer at all. Which ports there are, which settings and units answer, which registers; by
reading alone."""

import re
from pathlib import Path

import click

from kanaleto.cli import finding, findregisters
from kanaleto.cli.completing import links
from kanaleto.cli.options import sectioned, usage
from kanaleto.probing.gently import PER_S
from kanaleto.probing.question import Never
from kanaleto.probing.registers import MOST_REQUESTS
from kanaleto.site.counting import Numbering
from kanaleto.site.ranges import parse_range


def parse_units(text: str) -> list[int]:
    """Unit IDs of `1-10,41`. Raises ValueError."""
    units: list[int] = []
    for part in text.split(","):
        match = re.fullmatch(r"\s*(\d+)\s*(?:[-–…]\s*(\d+))?\s*", part)
        if match is None:
            raise ValueError(f"units {text!r} must read like 1-247 or 1-10,41")
        low, high = int(match[1]), int(match[2] or match[1])
        if not 0 <= low <= high <= 255:
            raise ValueError(f"units {part.strip()!r}: unit IDs are 0…255, the lower first")
        units += range(low, high + 1)
    return list(dict.fromkeys(units))


_HERE = "."
_ASKS = {
    "asks_ports": "--ports",
    "asks_adapters": "--adapters",
    "hosts": "--hosts",
    "asks_registers": "--registers",
    "asks_directory": "--directory",
    "listen_s": "--listen",
}
_EVERYTHING = (
    "link", "hosts", "asks_ports", "out", "within_s", "resume", "is_agreed", "timeout_s", "per_s", "is_thorough",
    "never",
)  # fmt: skip
_GO_WITH = {
    "asks_ports": (),
    "asks_adapters": (),
    "hosts": ("timeout_s", "never"),
    "asks_registers": (
        "link", "unit_id", "first", "last", "tables", "is_thorough", "limit", "resume", "timeout_s", "per_s", "never",
        "draft",
    ),
    "asks_directory": ("link", "unit_id", "starts", "marker", "timeout_s", "per_s", "never", "draft"),
    "listen_s": ("link", "draft", "capture"),
    "": ("link", "asks_settings", "units", "timeout_s", "per_s", "never"),
}  # fmt: skip


def _refuse_what_does_not_go_together(context: click.Context) -> None:
    """Every option that was given does something, or is reported. Raises UsageError."""
    from click.core import ParameterSource

    given = [
        parameter
        for parameter in context.command.params
        if parameter.name and context.get_parameter_source(parameter.name) is ParameterSource.COMMANDLINE
    ]
    titles = {str(parameter.name): parameter.opts[0] for parameter in given}
    if "asks_everything" in titles:
        _refuse_beside_everything(titles)
        return
    asked = [name for name in titles if name in _ASKS]
    if len(asked) > 1:
        raise click.UsageError(
            f"{' and '.join(_ASKS[name] for name in asked)} are two different things to do; take one"
        )
    what = asked[0] if asked else ""
    for name, title in titles.items():
        if name not in (*_GO_WITH[what], what, "is_json"):
            where = f"does not go with {_ASKS[what]}" if what else f"goes with {_users_of(name)} only"
            raise click.UsageError(f"{'a LINK' if name == 'link' else title} {where}, and would change nothing")


def _refuse_beside_everything(titles: dict[str, str]) -> None:
    for name, title in titles.items():
        if name not in (*_EVERYTHING, "asks_everything", "is_json"):
            raise click.UsageError(f"{title} does not go with --everything, which looks for all of it")
    places = [
        titles[name] if name != "link" else "a LINK" for name in ("link", "hosts", "asks_ports") if name in titles
    ]
    if len(places) > 1:
        raise click.UsageError(f"{' and '.join(places)} are different places to look at; take one")


def _users_of(name: str) -> str:
    users = [_ASKS[what] for what, names in _GO_WITH.items() if what and name in names]
    return " or ".join([*users, *(["--everything"] if name in _EVERYTHING else [])])


SECTIONS = {
    "Where": ("asks_ports", "asks_adapters", "hosts"),
    "What": ("asks_settings", "units", "asks_registers", "asks_directory", "listen_s", "asks_everything"),
    "What another master asks (--listen)": ("capture",),
    "Registers of one unit (--registers)": (
        "unit_id", "first", "last", "tables", "is_thorough", "limit", "resume", "draft"
    ),
    "A directory (--directory)": ("starts", "marker"),
    "An unknown line as a site (--everything)": ("out", "within_s", "is_agreed"),
    "Always": ("never", "timeout_s", "per_s", "is_json"),
}  # fmt: skip


@click.command("find", cls=sectioned(SECTIONS))
@click.pass_context
@click.argument("link", shell_complete=links, required=False)
@click.option(
    "--ports",
    "asks_ports",
    is_flag=True,
    help="the serial ports of this machine, who holds them, what is wrong with them",
)
@click.option("--adapters", "asks_adapters", is_flag=True, help="the network adapters and addresses of this machine")
@click.option(
    "--hosts",
    "hosts",
    metavar="RANGE",
    help="who answers on 192.0.2.10-60 or 192.0.2.0/28, with :PORT where it is not 502",
)
@click.option("--settings", "asks_settings", is_flag=True, help="try the settings of a serial line that nobody knows")
@click.option(
    "--units", "units", metavar="RANGE", help="which units to ask: 1-247 (default), 1-10,41; on TCP also 0 and 255"
)
@click.option(
    "--registers",
    "asks_registers",
    is_flag=True,
    help="which addresses of --unit answer, and how much one request may ask",
)
@click.option(
    "--everything",
    "asks_everything",
    is_flag=True,
    help="settings, units, registers and types of a LINK, of --hosts RANGE or of all --ports, as a site in --out",
)
@click.option(
    "--out",
    type=click.Path(path_type=Path, file_okay=False),
    metavar="FOLDER",
    help="where --everything writes its site",
)
@click.option(
    "--within",
    "within_s",
    type=click.FloatRange(0.1, 1e6),
    metavar="S",
    help="--everything takes so long, and asks the likeliest first; else until all that is likely was asked",
)
@click.option("--yes", "is_agreed", is_flag=True, help="--everything begins without waiting for a key")
@click.option(
    "--directory", "asks_directory", is_flag=True, help="whether --unit carries a directory of itself in its registers"
)
@click.option("--starts", default="40000,50000,0", show_default=True, help="where a directory may begin (on the wire)")
@click.option("--marker", metavar="TEXT", help="the text that a directory begins with; any four letters without it")
@click.option("--unit", "unit_id", type=click.IntRange(0, 255), default=1, show_default=True)
@click.option(
    "--listen",
    "listen_s",
    type=click.FloatRange(0.1),
    metavar="S",
    help="send nothing: listen for so long to another master",
)
@click.option(
    "--capture",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="--listen: keep what is heard as exchanges, by its ending .jsonl or .pcapng",
)
@click.option(
    "--from", "first", type=click.IntRange(0, 65535), default=0, show_default=True, help="first address for --registers"
)
@click.option(
    "--to", "last", type=click.IntRange(0, 65535), default=65535, show_default=True, help="last address for --registers"
)
@click.option(
    "--table",
    "tables",
    multiple=True,
    type=click.Choice(["holding", "input", "coil", "discrete"]),
    help="only this table; again for more",
)
@click.option(
    "--every",
    "is_thorough",
    is_flag=True,
    help="ask for every address in the end, and not only for the likely places",
)
@click.option(
    "--limit", type=click.IntRange(1), default=MOST_REQUESTS, show_default=True, help="requests at most for --registers"
)
@click.option(
    "--resume",
    is_flag=False,
    flag_value=_HERE,
    metavar="[FILE]",
    help="keep the survey of registers there, and go on with it; with --everything: go on with what is in --out",
)
@click.option(
    "--never", "never", multiple=True, metavar="RANGE", help="never touch these, as in 'holding 40-47' (on the wire)"
)
@click.option(
    "--draft",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="write what was found as a map, a point a register",
)
@click.option(
    "--timeout",
    "timeout_s",
    type=click.FloatRange(0.005, 60),
    help="seconds to wait for an answer; it shrinks as answers come",
)
@click.option(
    "--pace", "per_s", type=click.FloatRange(0, 100_000), default=PER_S, show_default=True, metavar="N",
    help="questions a second at most to one host on the network; 0 without limit",
)  # fmt: skip
@click.option("--json", "is_json", is_flag=True, help="one object a line")
def command(
    context: click.Context,
    link: str | None, asks_ports: bool, asks_adapters: bool, hosts: str | None, asks_settings: bool, units: str | None,
    asks_registers: bool, asks_directory: bool, starts: str, marker: str | None, unit_id: int, listen_s: float | None,
    capture: Path | None,
    asks_everything: bool, out: Path | None, within_s: float | None, is_agreed: bool,
    first: int, last: int, tables: tuple[str, ...], is_thorough: bool, limit: int, resume: str | None,
    never: tuple[str, ...], draft: Path | None, timeout_s: float | None, per_s: float, is_json: bool,
) -> int:  # fmt: skip
    """Find out what is there, by reading alone: nothing is ever written, and no broadcast is sent.

    \b
    Examples:
      kanaleto find --ports
      kanaleto find rtu:///dev/ttyUSB0 --everything --out found --within 300
      kanaleto find rtu:///dev/ttyUSB0 --settings
      kanaleto find 'rtu:///dev/ttyUSB0?baud=9600&parity=none' --units 1-30
      kanaleto find tcp://127.0.0.1:15020
      kanaleto find tcp://127.0.0.1:15020 --unit 2 --registers --draft mast.csv
      kanaleto find --hosts 127.0.0.1-3:15020
      kanaleto find rtu:///dev/ttyUSB0 --listen 10 --capture strangers.jsonl
    """
    _refuse_what_does_not_go_together(context)
    forbidden: Never = usage(lambda: tuple(parse_range(text, Numbering.PROTOCOL, "never") for text in never))
    if asks_everything:
        if resume not in (None, _HERE):  # what stands behind it is the place
            link, resume = link or resume, _HERE
        if link is None and hosts is None and not asks_ports and resume is None:
            raise click.UsageError("name a LINK to look at, or --ports or --hosts RANGE")
        from kanaleto.cli import findeverything

        return findeverything.find_everything(
            link, hosts, asks_ports, out, within_s, resume is not None, is_agreed, timeout_s, per_s, is_thorough,
            forbidden, is_json,
        )  # fmt: skip
    if resume == _HERE:
        raise click.UsageError("--resume needs a FILE here; only --everything goes on with what is in --out")
    if asks_ports:
        return finding.tell_ports(is_json)
    if asks_adapters:
        return finding.tell_adapters(is_json)
    if hosts is not None:
        return finding.find_hosts(hosts, timeout_s, forbidden, is_json)
    if link is None:
        raise click.UsageError("name a LINK to look at, or --ports, --adapters or --hosts RANGE")
    if last < first:
        raise click.UsageError(f"--to {last} lies before --from {first}")
    if listen_s is not None:
        return findregisters.listen(link, listen_s, draft, capture, is_json)
    if asks_directory:
        return findregisters.find_directory_of(
            link, unit_id, starts, marker, timeout_s, per_s, forbidden, draft, is_json
        )  # fmt: skip
    if asks_registers:
        return findregisters.find_registers(
            link,
            unit_id,
            tables,
            (first, last),
            limit,
            Path(resume) if resume is not None else None,
            is_thorough,
            timeout_s,
            per_s,
            forbidden,
            draft,
            is_json,
        )
    return finding.find_units(
        link, asks_settings, usage(lambda: parse_units(units)) if units else None, timeout_s, per_s, forbidden, is_json
    )
