"""Where what was kept of a site is, from what was typed: a site file, a journal, a store."""

import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from heapq import merge
from pathlib import Path

import click

from kanaleto.capture.capturefile import CaptureFile, need_new
from kanaleto.capture.jsonlines import CapturedLine, NoCapture
from kanaleto.capture.reading import Capture, IsWanted
from kanaleto.cli.failures import Failed
from kanaleto.cli.output import say
from kanaleto.files.beside import folder_beside
from kanaleto.files.loading import load_site
from kanaleto.history.journal import journals_of, renames_in
from kanaleto.history.journalfile import JournalEvent, NewerFile, events_of
from kanaleto.history.recorderprocess import records_of
from kanaleto.history.store_error import CannotRecord
from kanaleto.keeping.kept import Kept
from kanaleto.lines.adapters import held_back_ms
from kanaleto.site.links.link import Link
from kanaleto.site.model import Site
from kanaleto.site.origin import Origin


def is_site(text: str) -> bool:
    return text.endswith(".toml") and "://" not in text


def folder_of(text: str) -> Path:
    """What stands beside a site. Raises click.UsageError."""
    path = Path(text)
    if not path.exists():
        raise click.UsageError(f"there is no file {text}")
    return folder_beside(path)


def site_of(text: str) -> Site | None:
    """The site that was typed; None for what is another file."""
    return load_site(Path(text))[0] if is_site(text) and Path(text).exists() else None


def capture_of(text: str, wants: IsWanted = lambda head: True) -> Capture:
    """A capture, or the tape of a site. Raises click.UsageError, Failed."""
    path = folder_of(text) / "tape" if is_site(text) else Path(text)
    if not path.exists():
        what = f"nothing was kept of {text} yet" if is_site(text) else f"there is no file {text}"
        raise click.UsageError(what)
    with capture_faults(text):
        return Capture(path, wants)


@contextmanager
def capture_faults(text: str) -> Iterator[None]:
    """What is wrong with a capture while it is read, in one sentence."""
    try:
        yield
    except NoCapture as error:
        raise click.UsageError(str(error)) from None
    except BrokenPipeError:
        raise  # whoever reads what is reported has gone; the file is sound
    except OSError as error:
        raise Failed(f"{text} cannot be read: {error.strerror or error}") from None


def stores_of(text: str) -> list[str]:
    """The records of a site, or the store that was named. Raises Failed where there is none yet."""
    if not is_site(text):
        return [text]
    stores = [str(path) for path in records_of(folder_of(text))]
    if not stores:
        raise Failed(f"nothing was recorded of {text} yet: kanaleto poll {text} --record, or R in the application")
    return stores


def earlier_name(text: str, name: str, known: set[str]) -> str:
    """What a point that was renamed since is called in the record. Raises Failed where there was none of that name."""
    now = name
    for path in journals_of(folder_of(text)) if is_site(text) else ():
        try:
            for _, (old, new) in reversed(renames_in(path)):
                now = "/".join(old) if "/".join(new) == now else now
                if now in known:
                    return now
        except (sqlite3.Error, NewerFile):
            continue
    raise Failed(f"{name} was never recorded here; --list shows what was")


def journal_events(text: str, from_us: int | None, to_us: int | None) -> Iterator[JournalEvent]:
    """Events of a site's journal, or of a journal that was named, in order. Raises Failed, when asked for."""
    paths = journals_of(folder_of(text)) if is_site(text) else [Path(text)]
    if not paths:
        raise Failed(f"nothing was kept of {text} yet: its journal begins when it is opened, polled or served")
    for path in paths:
        if not path.is_file():
            raise click.UsageError(f"there is no journal at {path}; name a site, or a journal's file")
    return merge(*(_events(path, from_us, to_us) for path in paths), key=lambda event: event.begun)


def _events(path: Path, from_us: int | None, to_us: int | None) -> Iterator[JournalEvent]:
    try:
        yield from events_of(path, from_us, to_us)
    except NewerFile as error:
        raise Failed(str(error)) from None
    except sqlite3.Error as error:
        raise Failed(f"{path} is damaged, or no journal: {error}") from None


def begin_overheard(path: Path, link: Link) -> CaptureFile:
    """A capture of what others say on a line. Raises click.UsageError."""
    try:
        line = CapturedLine(link.place, str(link), Origin.OVERHEARD.value, held_back_ms(link))
        return CaptureFile(path, "", [line])
    except NoCapture as error:
        raise click.UsageError(str(error)) from None


def begin_keeping(
    kept: Kept, site: Site, store: str | None, capture: Path | None, most_bytes: int = 100_000_000, most_files: int = 10
) -> None:
    """What is asked for beside the journal and the tape. Raises click.UsageError, Failed."""
    try:
        if capture is not None:
            kept.capture(capture, site, most_bytes, most_files)
        if store is not None:
            text = kept.begin_recording(store or None)
            say(f"{text + '; ' if text else ''}recording to {kept.recording}", err=True)
    except NoCapture as error:
        raise click.UsageError(str(error)) from None
    except CannotRecord as error:
        raise Failed(str(error)) from None


def require_new(capture: Path) -> None:
    """That nothing stands there. Raises click.UsageError."""
    try:
        need_new(capture)
    except NoCapture as error:
        raise click.UsageError(str(error)) from None
