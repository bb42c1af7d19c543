"""The folder that stands beside a site file, for what belongs to it and is not written by hand."""

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
