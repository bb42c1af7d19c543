"""Which press of a key counts for what unlocks, begins or sends: only one that stands alone.

A burst is no decision. Keys that come within `ALONE_S` of each other are pasted text, a script, or a terminal that was
behind; what is pasted in brackets may bear the end mark of a paste in its text. Locking, stopping, cancelling and safe
values ask nothing here: they always count. All times are those at which the terminal was read.
"""

from collections.abc import Callable

ALONE_S = 0.05
AFTER_PASTE_S = 0.3
_REFUSED_S = 1.5
_TEXT_KEYS = ("enter", "backspace", "delete", "ctrl+k")
_WAYS_OUT = ("u", "w", "q", "question_mark", "slash", "h", "j", "k", "l")
_BURST, _BURST_S = 4, 0.002  # keys that came in one piece with an unlocking press: all of it was text


class Presses:
    """Hears of every key and paste, before anybody acts on it. `take_back` is called when text follows so close behind
    a press which `counted` that the press was part of it, `tell` says why one was refused."""

    def __init__(
        self, take_back: Callable[[], None] = lambda: None, tell: Callable[[str], None] = lambda why: None
    ) -> None:
        self.count = 0
        self.is_early = False
        """Whether the key at hand was typed before the application was whole."""
        self.came_s = self.same_before_s = -1e9
        """When the key at hand came, and when the same key came before it."""
        self._take_back, self._tell = take_back, tell
        self._last_s = self._pasted_s = -1e9
        self._gap_s = 1e9
        self._last_of: dict[str, float] = {}
        self._counted_s: float | None = None
        self._refused, self._swallowed = "", 0
        self._behind = 0

    def refused(self, why: str) -> None:
        """The key at hand was to open a line to type into, and does not: that is shown, and what is typed behind it was
        meant for that line."""
        self._refused, self._swallowed = why, 0
        self._tell(why)

    def swallows(self, key: str, is_printable: bool) -> str:
        """Why the key at hand does nothing, since the line that it was typed for did not open; nothing where it counts.
        The first one may be another decision (to unlock, to go elsewhere)."""
        if not self._refused:
            return ""
        is_text = is_printable or key in _TEXT_KEYS
        is_late = self._gap_s > _REFUSED_S
        is_way_out = not self._swallowed and key in _WAYS_OUT and self._gap_s >= ALONE_S
        if is_late or not is_text or is_way_out:
            self._refused = ""
            return ""
        self._swallowed += 1
        return self._refused

    def note_key(self, key: str, came_s: float) -> None:
        self.count += 1
        self._gap_s = came_s - self._last_s
        self.came_s = self._last_s = came_s
        self.same_before_s = self._last_of.get(key, -1e9)
        self._last_of[key] = came_s
        if len(self._last_of) > 200:
            self._last_of = {key: came_s}
        if self._counted_s is None:
            return
        if self._gap_s >= _BURST_S:
            self._counted_s = None
            return
        self._behind += 1
        if self._behind >= _BURST:
            self._counted_s = None
            self._take_back()

    def note_paste(self, came_s: float) -> None:
        self.count += 1
        self._pasted_s = self._last_s = came_s

    @property
    def why_not(self) -> str:
        """Why the key at hand does not unlock, begin or send anything; empty where it does."""
        if self.is_early:
            return "that key came before everything was there: press it again"
        if self.came_s - self._pasted_s < AFTER_PASTE_S:
            return "that key came with pasted text and does nothing: press it again, alone"
        if self._gap_s < ALONE_S:
            return "that key came in a burst with others and does nothing: press it again, alone"
        return ""

    def counted(self) -> None:
        """The key at hand has unlocked something."""
        self._counted_s, self._behind = self.came_s, 0
