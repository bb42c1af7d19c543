"""What was edited, to be undone and done again. Bounded in number and in bytes."""

from pathlib import Path

from msgspec import Struct

from kanaleto.editing.workingcopy import CannotEdit, Clash
from kanaleto.files.merge import merged

_MOST_STEPS, _MOST_CHARACTERS = 500, 64_000_000

Texts = dict[Path, str | None]
"""Texts by file; None where there was no file."""


class EditStep(Struct, frozen=True):
    """One change: what it was, and the text of each file before and after."""

    what: str
    before: Texts
    after: Texts

    def turned(self, current: Texts, is_undo: bool, anyway: bool) -> Texts:
        """The texts without this step (or with it again), of files as they are now. What others changed since stays,
        where it is something else; Clash where it is the same and not `anyway`."""
        texts: Texts = {}
        for path in self.after:
            base, goal = (self.after[path], self.before[path]) if is_undo else (self.before[path], self.after[path])
            now = current[path]
            if now == base:
                texts[path] = goal
                continue
            both = merged(base, goal, now) if base is not None and goal is not None and now is not None else None
            if both is None and anyway:
                texts[path] = goal
                continue
            if both is None:
                raise Clash(f"{path.name} was edited by somebody else since, just where {self.what} was")
            texts[path] = both
        return texts

    @property
    def size(self) -> int:
        return sum(len(text or "") for texts in (self.before, self.after) for text in texts.values())


class Steps:
    """Two piles. Every edit empties the one of what was undone."""

    def __init__(self) -> None:
        self._done: list[EditStep] = []
        self._undone: list[EditStep] = []

    def note(self, what: str, before: Texts, after: Texts) -> None:
        """An edit was made."""
        self._done.append(EditStep(what, dict(before), dict(after)))
        self._undone.clear()
        while len(self._done) > _MOST_STEPS or (
            len(self._done) > 1 and sum(step.size for step in self._done) > _MOST_CHARACTERS
        ):
            del self._done[0]

    def next_undo(self) -> EditStep:
        """Raises CannotEdit."""
        if not self._done:
            raise CannotEdit("nothing was edited that could be undone")
        return self._done[-1]

    def next_redo(self) -> EditStep:
        """Raises CannotEdit."""
        if not self._undone:
            raise CannotEdit("nothing was undone that could be done again")
        return self._undone[-1]

    def turn(self, is_undo: bool, before: Texts, now: Texts) -> None:
        """The topmost step was undone (or done again), and made `now` of what `was`."""
        step = (self._done if is_undo else self._undone).pop()
        if is_undo:
            self._undone.append(EditStep(step.what, dict(now), dict(before)))
        else:
            self._done.append(EditStep(step.what, dict(before), dict(now)))
