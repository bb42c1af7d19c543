"""What the shell completes: names of the site that stands on the line already (devices, points, lines, bridges), and
links. `eval "$(_KANALETO_COMPLETE=bash_source kanaleto)"` turns it on (zsh_source and fish_source for the others)."""

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click
from click.shell_completion import CompletionItem

if TYPE_CHECKING:
    from kanaleto.site.model import Site

_MOST = 500
_SCHEMES = (
    "tcp://", "udp://", "tls://", "rtu+tcp://", "ascii+tcp://", "rtu:///dev/", "ascii:///dev/", "rtu+rfc2217://",
)  # fmt: skip


def _site(context: click.Context) -> "Site | None":
    """The site file among what was typed; nothing where there is none, or it is faulty."""
    from kanaleto.files.loading import load_site
    from kanaleto.site.filefaults import FaultyFile

    # while the value of an option is still to come, what stands before it is not yet distinguished
    for value in (*context.params.values(), *context.args):
        path = Path(str(value)) if isinstance(value, str | Path) else None
        if path is not None and path.suffix == ".toml" and path.is_file():
            try:
                return load_site(path)[0]
            except (FaultyFile, OSError):
                return None
    return None


def _fitting(names: Iterator[str], begun: str) -> list[CompletionItem]:
    found = [name for name in names if name.lower().startswith(begun.lower())]
    return [CompletionItem(name) for name in found[:_MOST]]


def device_names(context: click.Context, parameter: click.Parameter, begun: str) -> list[CompletionItem]:
    site = _site(context)
    return _fitting((device.name for _, device in site.devices()), begun) if site is not None else []


def line_names(context: click.Context, parameter: click.Parameter, begun: str) -> list[CompletionItem]:
    site = _site(context)
    return _fitting((line.name for line in site.lines), begun) if site is not None else []


def bridge_names(context: click.Context, parameter: click.Parameter, begun: str) -> list[CompletionItem]:
    site = _site(context)
    return _fitting((bridge.name for bridge in site.bridges), begun) if site is not None else []


def point_names(context: click.Context, parameter: click.Parameter, begun: str) -> list[CompletionItem]:
    site = _site(context)
    if site is None:
        return []
    names = (f"{device.name}/{point.name}" for _, device in site.devices() for point in device.points)
    return _fitting(names, begun)


def links(context: click.Context, parameter: click.Parameter, begun: str) -> list[CompletionItem]:
    """How a link begins, and the serial ports that are there."""
    ports = sorted(str(path) for pattern in ("ttyUSB*", "ttyACM*", "ttyS?") for path in Path("/dev").glob(pattern))
    return _fitting(iter((*_SCHEMES, *(f"rtu://{port}" for port in ports))), begun)
