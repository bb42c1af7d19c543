"""What the door tells: what was done, what others did to the files, what is open."""

from pathlib import Path

from msgspec import Struct

from kanaleto.editing.presence import Other
from kanaleto.site.model import Site


class Done(Struct, frozen=True):
    """An edit that was made: what it was, and the site since."""

    what: str
    site: Site


class Change(Struct, frozen=True):
    """What the engine is to go on with, and where its file is. `what` was done to the site, by an edit of ours or by
    others on disk; it is empty where another site is opened. `moved_from` is where it was before it was saved for the
    first time."""

    site: Site
    where: Path
    what: str = ""
    is_own: bool = True
    moved_from: Path | None = None
    is_another: bool = False
    """Whether it is another site than the one before, and not the same, edited or saved elsewhere."""


class TakenOver(Struct, frozen=True):
    """The files were changed by somebody else, and taken over."""

    site: Site


class NotTakenOver(Struct, frozen=True):
    """The files were changed by somebody else, and are not sound."""

    text: str


class SoundAgain(Struct, frozen=True):
    """What was reported of the files is mended, and they say what is open."""


class OthersHere(Struct, frozen=True):
    """Who else has this site open now; nobody when it is empty."""

    others: tuple[Other, ...]


News = TakenOver | NotTakenOver | SoundAgain | OthersHere


class Opened(Struct, frozen=True):
    """What is open. `number` counts openings: what was begun on another site is not done to this one."""

    path: Path
    is_unsaved: bool
    number: int
