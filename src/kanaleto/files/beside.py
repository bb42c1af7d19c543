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
    own = path
    while own.suffix != ".kanaleto" and own.parent.name != "beside":
        if own == own.parent:
            return
        own = own.parent
    while path != own:
        if path.is_symlink():
            raise OSError(errno.ELOOP, f"{path} is a symbolic link, which is not followed; remove it")
        path = path.parent


def require_own_database(path: Path) -> None:
    """The same for a database with all that stands beside it."""
    for ending in ("", "-wal", "-shm", "-journal", ".lock"):
        require_own(path.with_name(path.name + ending))
