"""What can be begun at a place: surveys, the search for everything, and which one is which."""

import time
from collections.abc import Callable

from kanaleto.editing.adding import line_of
from kanaleto.finding.desk import Desk, FindPlace
from kanaleto.probing.question import CARE, Timing, parse_timing
from kanaleto.tui.find.adding import add_all
from kanaleto.tui.find.findings import Finding, FoundRows
from kanaleto.tui.scratch.form import ScratchForm
from kanaleto.tui.scratch.rows import ScratchRows
from kanaleto.tui.shared.context import Context
from kanaleto.tui.shared.view import View


def ask_timing(context: Context, place: FindPlace) -> None:
    timing = place.state.timing
    now = f"{timing.timeout_s:g}, {timing.pause_s:g}" if timing.timeout_s is not None else ""

    def take(text: str) -> str | None:
        try:
            timing = parse_timing(text)
        except ValueError as error:
            return str(error)
        place.update(timing=timing)
        context.tell(f"surveys of {place.title} {_words(timing)}")
        return None

    context.ask(f"timeout and pace in s for surveys of {place.title} (nothing: as each takes by itself)", now, take)


def _words(timing: Timing) -> str:
    if timing.timeout_s is None:
        return "wait as long as each takes by itself"
    pause = f", with {timing.pause_s:g} s between requests" if timing.pause_s else ""
    return f"wait {timing.timeout_s:g} s for an answer{pause}"


_AGREED_S = 30.0
_TAKES_LINE, _LISTENS = "tgofd", "o"


class Surveys(View):
    """The view Find is one of these."""

    desk: Desk
    form: ScratchForm
    words: ScratchRows
    _found: FoundRows
    _chosen: FindPlace | None = None
    _is_choosing = True
    _asked_about: tuple[str, str, float] = ("", "", 0.0)

    # Surveys

    def _begin(self, key: str, what: str, start: Callable[[FindPlace], None]) -> None:
        place = self._chosen
        if not self._has_place() or place is None:
            return
        if place.task is not None and not place.task.done():
            self.context.tell(f"{place.title}: {place.state.doing} is under way; escape stops it")
            return
        if key != _LISTENS and not self._is_agreed(key, place):
            return
        if place.link is not None and place.state.is_serial and key in _TAKES_LINE:
            line = line_of(self.snapshot.site, place.link)
            if line is not None and not self.context.is_sure(
                key, f"{what} closes {line.name} meanwhile, which", {line.name}
            ):
                return
        self._is_choosing = False
        try:
            start(place)
        except ValueError as error:
            self.context.tell(str(error))
        self.context.redraw()

    def _is_agreed(self, key: str, place: FindPlace) -> bool:
        """Before a place is asked, a line of text says what that may do; one key begins. Where the text is not in
        sight, it is reported, and the same key begins. What the site polls is asked anyway."""
        is_polled = place.link is not None and line_of(self.snapshot.site, place.link) is not None
        is_hidden = self.has_class("-narrow") and not self.has_class("-show-middle")
        is_said = not place.state.shown and not is_hidden
        before = self._asked_about
        is_again = before[:2] == (key, place.title) and time.monotonic() - before[2] < _AGREED_S
        if place.is_agreed or is_polled or is_said or is_again:
            place.is_agreed = True
            return True
        self._asked_about = (key, place.title, time.monotonic())
        self.context.tell(f"{key} again begins: {CARE}")
        return False

    def action_everything(self) -> None:
        def start(place: FindPlace) -> None:
            self.desk.find_everything(place)
            place.begun_for = self.context.door.opened.path

        self._begin("f", "finding everything", start)

    def action_roll(self) -> None:
        self._begin("d", "asking which one it is", self.desk.call_roll)

    def would_be_lost(self) -> list[str]:
        going = [place for place in self.desk.places if place.task is not None and not place.task.done()]
        return [
            f"everything on {place.title} is being found, and escape keeps what was found so far"
            for place in going
            if place.search is not None and place.search.items and not place.search.is_over
        ]

    def keep_what_was_found(self) -> None:
        """A search that is over is added to the site, where the site has nothing of that line yet; else that is
        said."""
        for place in self.desk.places:
            if not place.has_news:
                continue
            place.has_news = False
            if any(draft.rows for draft in place.state.drafts):
                is_same_site = place.begun_for == self.context.door.opened.path
                if is_same_site and place.link is not None and line_of(self.snapshot.site, place.link) is None:
                    add_all(self.context, place)
                else:
                    self.context.tell(f"{place.state.note}; A adds what the site does not have yet")

    def action_settings(self) -> None:
        self._begin("t", "trying settings", self.desk.try_settings)

    def action_units(self) -> None:
        is_range = self._chosen is not None and self._chosen.link is None
        self._begin("g", "asking units", self.desk.ask_hosts if is_range else self.desk.ask_units)

    def action_listen(self) -> None:
        self._begin("o", "listening", self.desk.listen)

    def action_registers(self) -> None:
        unit_id = self.unit_in_hand()
        if unit_id is not None:
            self._begin("e", "looking for registers", lambda place: self.desk.look_for_registers(place, unit_id))

    def action_timing(self) -> None:
        if self._has_place() and self._chosen is not None:
            ask_timing(self.context, self._chosen)

    def _has_place(self) -> bool:
        if self._chosen is None:
            self.context.tell("choose a place at the left first, or type a link (y)")
        return self._chosen is not None

    def unit_in_hand(self) -> int | None:
        """The unit in view: in the scratch fields while they have the keys, or under the cursor of what was found, or
        the only one found. Where none is, that is reported."""
        if self.form.has_keys or self.words.has_keys:
            return self.form.question.unit_id
        current = self._found.current
        if isinstance(current, Finding) and current.unit_id is not None:
            return current.unit_id
        reader, place = self.desk.scratch, self._chosen
        if reader is not None and place is not None and reader.link == place.link:
            return reader.question.unit_id
        if self._has_place():
            self.context.tell("which unit? ask units (g), or type it in the fields (enter)")
        return None
