"""Lines that are led to a stand-in, or read through a service that holds their port: the site as it is polled, where
its files name the real places. None of it is ever saved."""

from collections.abc import Mapping

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.site.links.link import Link
from kanaleto.site.model import Line, Site
from kanaleto.site.origin import Origin


class Lead(Struct, frozen=True):
    """From which link to which, and what answers there."""

    real: Link
    place: Link
    origin: Origin = Origin.STAND_IN


def led(site: Site, leads: Mapping[str, Lead]) -> tuple[Site, dict[str, Lead], list[str]]:
    """The site with these lines led elsewhere, by their names; the leads by the names that lines have now; and the
    lines that cannot be found any more. A line that was renamed is known by its link."""
    if not leads:
        return site, {}, []
    by_name = {line.name: line for line in site.lines}
    now: dict[str, Lead] = {}
    lost: list[str] = []
    for name, lead in leads.items():
        line = by_name.get(name) or next(
            (line for line in site.lines if line.link == lead.real and line.name not in leads), None
        )
        if line is None:
            lost.append(name)
        else:
            now[line.name] = Lead(line.link, lead.place, lead.origin)
    lines = tuple(_led(line, now[line.name]) if line.name in now else line for line in site.lines)
    return replace(site, lines=lines), now, lost


def real_link(site: Site, link: Link) -> Link:
    """What the site file calls a place: the link of the line that is led there, else the place itself."""
    return next((line.led_from for line in site.lines if line.led_from is not None and line.link == link), link)


def _led(line: Line, lead: Lead) -> Line:
    return replace(line, link=lead.place, led_from=line.link, origin=lead.origin.value, prefer_port="")


def led_words(line: Line) -> str:
    """What a line that is led elsewhere is led to, in two words."""
    return "read through" if line.origin == Origin.BRIDGE.value else "stand-in"
