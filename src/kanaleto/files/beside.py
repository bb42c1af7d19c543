"""The folder that stands beside a site file, for what belongs to it and is not written by hand."""

import errno
import os
from hashlib import sha256
from pathlib import Path

from platformdirs import user_data_path


def folder_beside(site: Path) -> Path:
    """NAME.kanaleto beside NAME.toml; in the user's data folder where nothing can be written there. It need not exist
    yet."""
    real = Path(os.path.realpath(site))
    beside = real.with_suffix(".kanaleto")
    if os.access(beside if os.path.isdir(beside) else real.parent, os.W_OK):
        return beside
    if not os.path.exists(real.parent):  # it will be made with the file
        return beside
    return user_data_path("kanaleto") / "beside" / f"{real.stem[:80]}-{sha256(os.fsencode(real)).hexdigest()[:12]}"


def require_own(path: Path) -> None:
    """What is ours in such a folder is there, and not behind a symbolic link: the folder itself may be put elsewhere by
    its user, nothing in it. Raises OSError. A path that a user has named is his."""
    base = _base_of(path)
    while base is not None and path != base:
        if path.is_symlink():
            raise OSError(errno.ELOOP, f"{path} is a symbolic link, which is not followed; remove it")
        path = path.parent


def make_own(folder: Path) -> None:
    """Make a folder of ours, but not that of a site which is no more. Raises OSError."""
    require_own(folder)
    base = _base_of(folder)
    is_ours = base is None or base.parent == user_data_path("kanaleto") or base.parent.name == "beside"
    if not is_ours and base is not None and not base.parent.is_dir():
        raise OSError(errno.ENOENT, f"the folder {base.parent} is gone")
    folder.mkdir(parents=True, exist_ok=True)


def _base_of(path: Path) -> Path | None:
    """The folder beside a site that a path lies in, or is."""
    for file in (path, *path.parents):
        if file.suffix == ".kanaleto" or file.parent.name == "beside":
            return file
    return None


def require_own_database(path: Path) -> None:
    """The same for a database with all that stands beside it."""
    for ending in ("", "-wal", "-shm", "-journal", ".lock"):
        require_own(path.with_name(path.name + ending))


def place_of(path: Path) -> tuple[int, int] | None:
    """Which file stands there; None where none does."""
    try:
        status = path.stat()
    except OSError:
        return None
    return status.st_dev, status.st_ino
