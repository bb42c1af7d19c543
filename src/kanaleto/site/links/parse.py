"""A link from its LINK text. A new kind of link has one line here."""

from collections.abc import Callable

from kanaleto.site.filefaults import suggestion
from kanaleto.site.links import serial, tcp, udp
from kanaleto.site.links.link import Link
from kanaleto.site.links.written import Written

_KINDS = (tcp, udp, serial)
_READERS: dict[str, Callable[[Written], Link]] = {scheme: kind.read for kind in _KINDS for scheme in kind.SCHEMES}


def parse_link(text: str) -> Link:
    """Raises ValueError with one sentence that says what would be right."""
    scheme, separator, rest = text.strip().partition("://")
    if not separator:
        raise ValueError(
            f"link {text!r} has no scheme; write tcp://HOST, or rtu:///dev/ttyUSB0?baud=19200&parity=even&stop=1"
        )
    read = _READERS.get(scheme.lower())
    if read is None:
        raise ValueError(
            f"link {text!r}: scheme {scheme!r} is not known{suggestion(scheme, list(_READERS))}; "
            f"there are {', '.join(_READERS)}"
        )
    place, _, query = rest.partition("?")
    try:
        pairs = _pairs(query) if query else []
    except ValueError:
        raise ValueError(f"link {text!r}: what follows '?' must read key=value&key=value") from None
    if len(dict(pairs)) != len(pairs):
        raise ValueError(f"link {text!r} says the same key twice")
    return read(Written(text, scheme.lower(), place, dict(pairs)))


def names_settings(text: str, link: Link) -> bool:
    """Whether nothing is left to be found out of how `link`, read from `text`, is set."""
    return not link.is_serial or "baud=" in text


def _pairs(query: str) -> list[tuple[str, str]]:
    from urllib.parse import parse_qsl  # only needed where a link has options

    return parse_qsl(query, keep_blank_values=True, strict_parsing=True)
