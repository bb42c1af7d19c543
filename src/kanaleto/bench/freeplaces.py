"""Where a line of a site may be stood in for on this machine: a free port of the loopback address, or a pseudo-terminal
in the folder beside the site."""

import re
import socket
import tempfile
from collections.abc import Collection
from pathlib import Path

from kanaleto.files.beside import folder_beside, make_own
from kanaleto.site.links.link import LOOPBACK, FramingKind, Link
from kanaleto.site.links.parse import parse_link
from kanaleto.site.model import Line

FIRST_PORT = 15020
_MOST_TRIED, _NEAR = 400, 500


class NoPlace(Exception):
    """One sentence: why there is none."""


def free_place(site: Path, line: Line, taken: Collection[Link] = ()) -> Link:
    """`taken` are links that are promised already. Raises NoPlace."""
    is_secured = line.tls_serving is not None
    if line.link.address is None:
        return line.link.at_home(_port_path(site, line.name, taken), 0, is_secured)
    return line.link.at_home("", free_port(line.link, taken), is_secured)


def free_port(link: Link, taken: Collection[Link] = ()) -> int:
    """A port of the loopback address that nobody has, for a link of that kind. Raises NoPlace."""
    ports = {one.address[1] for one in taken if one.address is not None}
    kind = socket.SOCK_DGRAM if link.scheme == "udp" else socket.SOCK_STREAM
    for port in range(FIRST_PORT, FIRST_PORT + _MOST_TRIED):
        if port not in ports and _is_free(port, kind):
            return port
    raise NoPlace(f"no port from {FIRST_PORT} to {FIRST_PORT + _MOST_TRIED - 1} is free on this machine")


def at_link(line: Line, text: str) -> Link:
    """Another place for a line. Raises ValueError."""
    link = parse_link(text)
    if link.framing is not line.link.framing and FramingKind.TCP in (link.framing, line.link.framing):
        raise ValueError(f"{line.name} speaks {line.link.framing.value}, and {text} {link.framing.value}")
    return link


def elsewhere(line: Line) -> Link:
    """A place for a line whose own is taken by somebody."""
    return line.link.at_home(f"{tempfile.gettempdir()}/{file_name(line.name)}", FIRST_PORT, False)


def near(line: Line, number: int) -> Link:
    """A place of this machine for a line of a site that stands by itself: the port of that number behind the first, or
    a pseudo-terminal beside the site file."""
    return line.link.at_home(f"ports/{file_name(line.name)}", FIRST_PORT + _NEAR + number, False)


def _is_free(port: int, kind: socket.SocketKind) -> bool:
    with socket.socket(socket.AF_INET, kind) as probe:
        if kind is socket.SOCK_STREAM:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((LOOPBACK, port))
        except OSError:
            return False
    return True


def file_name(name: str) -> str:
    """What is called so, as the name of a file or a port."""
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:60] or "line"


def _port_path(site: Path, line: str, taken: Collection[Link]) -> str:
    folder = folder_beside(site) / "ports"
    try:
        make_own(folder)
    except OSError as error:
        raise NoPlace(f"no pseudo-terminal can be linked at {folder}: {error.strerror or error}") from None
    name = file_name(line)
    paths = {link.local_port for link in taken}
    number = 1
    while (path := str(folder / (name if number == 1 else f"{name}-{number}"))) in paths or Path(path).exists():
        number += 1
    return path
