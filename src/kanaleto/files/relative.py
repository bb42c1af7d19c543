"""Paths in links, which count from where the site file is."""

from pathlib import Path

from msgspec.structs import replace

from kanaleto.site.link import Link, SerialLink, TcpLink


def link_beside(link: Link, folder: Path) -> Link:
    """The link with its relative paths, of a port or of certificates, beside the site file."""
    if isinstance(link, SerialLink) and "/" in link.port and not link.port.startswith("/") and not link.is_remote:
        return replace(link, port=str((folder / link.port).absolute()))
    if isinstance(link, TcpLink) and link.tls is not None:
        ca, cert, key = (str((folder / path).absolute()) if path else path for _, path in link.tls.items())
        return replace(link, tls=replace(link.tls, ca=ca, cert=cert, key=key))
    return link
