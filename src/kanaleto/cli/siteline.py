"""A line of a site named on a command line, and what its site says of writing there."""

import sys
import time
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from kanaleto.cli.confirm import ask_yes
from kanaleto.control.permission import permission_of_pdu, why_not_read
from kanaleto.site.filefaults import suggestion
from kanaleto.site.model import Device, Line, Site
from kanaleto.wire.reach import Items

SITE_OPTION = click.option(
    "--site", "site_path", type=click.Path(path_type=Path), metavar="SITE",
    help="LINK is the name of a line of SITE: what it says of writing there is kept",
)  # fmt: skip
YES_OPTION = click.option("--yes", "is_yes", is_flag=True, help='confirm a write where SITE says writing = "confirm"')


if TYPE_CHECKING:
    from kanaleto.history.journalfile import JournalFile
    from kanaleto.history.journalwriter import JournalLedger


class SiteLine:
    """`link` is the line's own. `writes` are written down in the journal of its site."""

    def __init__(self, site: Site, line: Line, unit_id: int) -> None:
        self.site, self.line, self._unit_id = site, line, unit_id
        self.device: Device | None = next((device for device in line.devices if device.unit_id == unit_id), None)

    def require_allowed(self, pdu: bytes, is_yes: bool, reads_back: Iterable[Items] = ()) -> None:
        """Raises click.UsageError where that must not be written there, or read back, or nobody confirms it."""
        said = permission_of_pdu(self.site.lines, self.line, self._unit_id, pdu)
        if said.never:
            raise click.UsageError(said.never)
        why = why_not_read(self.line, self._unit_id, reads_back)
        if why:
            raise click.UsageError(f"{why}, so it cannot be read back: leave --verify out")
        if said.confirms and not is_yes:
            if not sys.stdin.isatty():
                raise click.UsageError(f"{said.confirms} wants each write confirmed: add --yes")
            if not ask_yes(f"{said.confirms} wants each write confirmed: y writes, anything else does not"):
                raise click.UsageError("not confirmed, so nothing was written")

    def ledger(self, program: str) -> "tuple[JournalLedger, JournalFile]":
        """Where it is written down. Raises click.UsageError where it cannot be: then nothing is sent."""
        import sqlite3

        from kanaleto.editing.presence import user_name
        from kanaleto.files.beside import folder_beside
        from kanaleto.history.journal import FILE
        from kanaleto.history.journalfile import JournalFile, NewerFile, micros
        from kanaleto.history.journalwriter import JournalLedger

        path = folder_beside(self.site.path or Path("site")) / FILE
        try:
            journal = JournalFile(path, program, user_name(), micros(time.time()))
        except (sqlite3.Error, OSError, NewerFile) as error:
            raise click.UsageError(f"the journal {path} cannot be written ({error}), so nothing is sent") from None
        return JournalLedger(lambda: (path, journal.run), user_name()), journal


def site_line(site_path: Path | None, link: str, unit_id: int) -> SiteLine | None:
    """The line of the site that LINK names, by its name or by its link; None where no site is given. Raises
    click.UsageError."""
    if site_path is None:
        return None
    from kanaleto.files.loading import load_site  # which costs a start without a site too much

    site, _ = load_site(site_path)
    for line in site.lines:
        if link == line.name or link == str(line.link):
            return SiteLine(site, line, unit_id)
    names = [line.name for line in site.lines]
    raise click.UsageError(f"{site_path} has no line {link!r}{suggestion(link, names)}; it has {', '.join(names)}")
