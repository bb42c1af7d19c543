"""What is kept of an internal error: a file with its traceback. The next start offers that of a crash, which ended the
program, in one line; a fault is one that the program went on from, and was reported when it came."""

import traceback
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path

from platformdirs import user_log_path

_SEEN = "last-offered.txt"
_MOST_KEPT = 20


def _folder() -> Path:
    return user_log_path("kanaleto")


def keep_crash(error: BaseException) -> Path | None:
    """Write it down, with the traceback of whichever thread or worker it came from; None where nothing can be
    written."""
    return _keep("crash", error)


def keep_fault(error: BaseException) -> Path | None:
    """The same for an error that ends nothing."""
    return _keep("fault", error)


def _keep(kind: str, error: BaseException) -> Path | None:
    try:
        folder = _folder()
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / f"{kind}-{datetime.now(UTC):%Y%m%d-%H%M%S-%f}.txt"
        path.write_text("".join(traceback.format_exception(error)), encoding="utf-8", errors="backslashreplace")
    except OSError:
        return None
    with suppress(OSError):
        for old in sorted(folder.glob(f"{kind}-*.txt"))[:-_MOST_KEPT]:
            old.unlink()
    return path


def crash_to_offer() -> Path | None:
    """The newest that was not offered yet; it is not offered again."""
    try:
        folder = _folder()
        newest = max(folder.glob("crash-*.txt"), default=None)
        seen = folder / _SEEN
        if newest is None or (seen.is_file() and seen.read_text(encoding="utf-8") >= newest.name):
            return None
        seen.write_text(newest.name, encoding="utf-8")
    except (OSError, UnicodeDecodeError):
        return None
    return newest
