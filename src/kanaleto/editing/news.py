"""What the door tells: what was done, what others did to the files, what is open."""

from pathlib import Path

from msgspec import Struct

from kanaleto.editing.presence import Other
from kanaleto.site.model import Site


class Done(Struct, frozen=True):
    """An edit that was made: what it was, and the site since."""

    what: str
    site: Site


class TakenOver(Struct, frozen=True):
    """The files were changed by somebody else, and taken over."""

    site: Site


class NotTakenOver(Struct, frozen=True):
    """The files were changed by somebody else, and are not sound."""

    text: str


class OthersHere(Struct, frozen=True):
    """Who else has this site open now; nobody when it is empty."""

    others: tuple[Other, ...]


News = TakenOver | NotTakenOver | OthersHere


class Opened(Struct, frozen=True):
    """What is open. `number` counts openings: what was begun on another site is not done to this one."""

    path: Path
    is_unsaved: bool
    number: int
