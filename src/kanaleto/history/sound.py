"""Whether a database's file is sound, found out without changing a byte of it: what is damaged stays as it is found."""

import sqlite3
from pathlib import Path

_FIRST = b"SQLite format 3\0"


def why_unsound(path: Path, most_checked: int) -> str:
    """What is wrong with it; nothing where it is sound, is not there yet, or somebody has it now. A file of more than
    `most_checked` bytes is looked at in its head alone: its faults show as it is read."""
    try:
        size = path.stat().st_size
        if not size:
            return ""
        with path.open("rb") as file:
            first = file.read(len(_FIRST))
    except OSError:  # it is reported by whoever opens it to write
        return ""
    if first != _FIRST:
        return "it is no database"
    log = path.with_name(f"{path.name}-wal")
    # a log that is still to be gone through is part of it; else nothing is made beside it
    how = "mode=ro" if log.exists() and log.stat().st_size else "immutable=1"
    try:
        db = sqlite3.connect(f"{path.absolute().as_uri()}?{how}", uri=True, timeout=5)
        try:
            db.execute("SELECT count(*) FROM sqlite_master").fetchone()
            if size <= most_checked:
                text = str(db.execute("PRAGMA quick_check(1)").fetchone()[0])
                return "" if text == "ok" else text.splitlines()[0]
        finally:
            db.close()
    except sqlite3.OperationalError:  # it is held, or cannot be read: not its contents
        return ""
    except sqlite3.DatabaseError as error:
        return str(error)
    return ""
