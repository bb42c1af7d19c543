"""What the door tells: what was done, what others did to the files, what is open."""

from dataclasses import dataclass
from pathlib import Path

from kanaleto.editing.presence import Other
from kanaleto.site.model import Site


@dataclass(frozen=True, slots=True)
class Done:
    """An edit that was made: what it was, and the site since."""

    what: str
    site: Site


@dataclass(frozen=True, slots=True)
class TakenOver:
    """The files were changed by somebody else, and taken over."""

    site: Site


@dataclass(frozen=True, slots=True)
class NotTakenOver:
    """The files were changed by somebody else, and are not sound."""

    text: str


@dataclass(frozen=True, slots=True)
class OthersHere:
    """Who else has this site open now; nobody when it is empty."""

    others: tuple[Other, ...]


News = TakenOver | NotTakenOver | OthersHere


@dataclass(frozen=True, slots=True)
class Opened:
    """What is open. `number` counts openings: what was begun on another site is not done to this one."""

    path: Path
    is_unsaved: bool
    number: int
