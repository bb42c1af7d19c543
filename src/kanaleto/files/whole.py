"""Files are written beside their place and renamed: they are there whole, or as they were, whatever happens in between.

Several files that belong together, as those of one edit: all of them are staged and on disk first; then the renames to
come are written down, on disk too; then they are done, and the note is taken away. Whoever opens the site next and
finds such a note does the renames that are left (`complete`). So an edit is there as a whole or not at all. A symbolic
link is written through; modes and the umask are kept.
"""

import json
import os
import secrets
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, nullcontext, suppress
from pathlib import Path
from typing import Any, TextIO

from kanaleto.files.beside import folder_beside, make_own, require_own
from kanaleto.files.texts import read_json

_STAGED = ".kanaleto-new"
_NOTE, _LOCK = "renames.json", "edit.lock"
_WAIT_S = 10.0


class SiteIsBusy(OSError):
    """Another program holds the site's lock for too long."""


def write_whole(path: Path, text: str) -> None:
    """Write a file beside its place and rename it, so that it is there whole or as it was. Raises OSError."""
    write_bytes_whole(path, text.encode("utf-8"))


def write_bytes_whole(path: Path, data: bytes) -> None:
    """As `write_whole`, for any bytes."""
    require_own(path)
    target = _target(path)
    staged = _stage(target, data)
    try:
        os.replace(staged, target)
    except BaseException:
        staged.unlink(missing_ok=True)
        raise
    _sync_folder(target.parent)


@contextmanager
def writing_whole(path: Path) -> Iterator[TextIO]:
    """A text file to be written bit by bit, there whole at the end or as it was. Raises OSError."""
    target = _target(path)
    staged = _stage(target, b"")
    try:
        with staged.open("w", encoding="utf-8", newline="") as file:
            yield file
        os.replace(staged, target)
    except BaseException:
        staged.unlink(missing_ok=True)
        raise
    _sync_folder(target.parent)


@contextmanager
def locked(site: Path, wait_s: float = _WAIT_S) -> Iterator[None]:
    """Nobody else edits the site meanwhile. Raises SiteIsBusy, or OSError where no lock can be made."""
    from filelock import FileLock, Timeout  # only who edits pays for it

    folder = folder_beside(site)
    make_own(folder)
    require_own(folder / _LOCK)
    lock = FileLock(folder / _LOCK)
    try:
        lock.acquire(timeout=wait_s)
    except Timeout:
        raise SiteIsBusy(f"{site.name} is being edited by another program; try again") from None
    try:
        yield
    finally:
        lock.release()


def write_together(site: Path, texts: Mapping[Path, str]) -> None:
    """Write the files of one edit of a site, all or none. For whoever holds its lock. Raises OSError, with every file
    as it was."""
    if len(texts) == 1:
        for path, text in texts.items():
            path.parent.mkdir(parents=True, exist_ok=True)
            write_whole(path, text)
        return
    note = folder_beside(site) / _NOTE
    require_own(note)
    staged: dict[Path, Path] = {}
    try:
        for path, text in texts.items():
            path.parent.mkdir(parents=True, exist_ok=True)
            target = _target(path)
            staged[target] = _stage(target, text.encode("utf-8"))
        for folder in {target.parent for target in staged}:
            _sync_folder(folder)
        renames = [[_from_here(note, new), _from_here(note, target)] for target, new in staged.items()]
        write_whole(note, json.dumps({"renames": renames}) + "\n")
    except BaseException:
        for new in staged.values():
            new.unlink(missing_ok=True)
        raise
    _do_renames(note)


def complete(site: Path, holds_lock: bool = False) -> None:
    """Do what is left of an edit that was cut short. Quick where nothing is, which is nearly always; never raises:
    where it cannot be done, the files are read as they are."""
    note = folder_beside(site) / _NOTE
    try:
        if not note.exists() or note.is_symlink():
            return
    except (OSError, ValueError):  # a name that no file can have
        return
    with suppress(OSError), nullcontext() if holds_lock else locked(site):
        _do_renames(note)


def _do_renames(note: Path) -> None:
    """The note is in our own form, or it is left alone: it lies beside a file that may have come from anywhere."""
    try:
        if not note.exists():
            return  # somebody else was quicker
        noted: Any = read_json(note)
        renames = noted["renames"]
        pairs = [
            (Path(os.path.normpath(note.parent / new)), Path(os.path.normpath(note.parent / target)))
            for new, target in renames
        ]
    except (ValueError, KeyError, TypeError):
        note.unlink(missing_ok=True)
        return
    for new, target in pairs:
        is_ours = new.parent == target.parent and new.name.startswith(f".{target.name}.") and new.name.endswith(_STAGED)
        if is_ours and new.is_file() and not new.is_symlink():
            os.replace(new, target)
    for folder in {target.parent for _, target in pairs if target.parent.is_dir()}:
        _sync_folder(folder)
    note.unlink(missing_ok=True)


def clear_staged(site: Path, folders: set[Path]) -> None:
    """Take away what edits that were cut short have left beside their places. For whoever holds the site's lock."""
    beside = folder_beside(site)
    if (beside / _NOTE).exists():
        return
    for folder in {*folders, beside}:
        for path in folder.glob(f".*{_STAGED}"):
            with suppress(OSError):
                path.unlink()


def _target(path: Path) -> Path:
    return Path(os.path.realpath(path))


def _from_here(note: Path, path: Path) -> str:
    return os.path.relpath(path, os.path.realpath(note.parent))


def _stage(target: Path, data: bytes) -> Path:
    """The bytes in a file beside `target`, on disk, with its mode; or with what the umask says where there is no such
    file yet."""
    staged = target.with_name(f".{target.name}.{secrets.token_hex(4)}{_STAGED}")
    descriptor = os.open(staged, os.O_CREAT | os.O_EXCL | os.O_WRONLY | getattr(os, "O_BINARY", 0), 0o666)
    try:
        with os.fdopen(descriptor, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        if target.exists():
            status = target.stat()
            os.chmod(staged, status.st_mode & 0o7777)
            if hasattr(os, "chown"):
                with suppress(OSError):  # only root may give files away
                    os.chown(staged, status.st_uid, status.st_gid)
    except BaseException:
        staged.unlink(missing_ok=True)
        raise
    return staged


def _sync_folder(folder: Path) -> None:
    """Not every system lets a folder be opened; where it does not, its renames are as safe as it makes them."""
    with suppress(OSError):
        descriptor = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(descriptor)
        finally:
            os.close(descriptor)
