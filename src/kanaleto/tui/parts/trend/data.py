"""What is pinned, and its curves: asks the engine to remember and the record for what was before."""

import math
from pathlib import Path
from threading import Thread

from kanaleto.board.memory import Memory
from kanaleto.board.snapshot import Snapshot
from kanaleto.capture.taped import TapeQuestion, ask_elsewhere
from kanaleto.files.beside import folder_beside
from kanaleto.history.askingthread import Answer, Asker
from kanaleto.history.curves import curve_of
from kanaleto.history.renames import renamed
from kanaleto.planning.plan import Identity
from kanaleto.polling.session import Session
from kanaleto.site.model import Site
from kanaleto.tui.parts.trend.state import MOST_PINS, Curves, TrendState
from kanaleto.tui.shared.context import Context

RECORD = "record.db"
TAPE_S = 2 * 3600.0


class TrendData:
    """For the interface's thread."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self.state = TrendState()
        self.memory = Memory(context.engine.session.clock)
        self.curves = Curves(self.memory)
        self.opened: Identity | None = None
        """The point that is looked at beside the list, remembered as long as it is."""
        self._asker = Asker(lambda answer: context.later(lambda: self._take(answer)))
        self._is_listening = False
        self._path: Path | None = None
        self._site: Site | None = None
        self._renamed: dict[Identity, Identity] = {}

    @property
    def now(self) -> float:
        """Wall time of what is shown."""
        context = self._context
        return context.engine.session.clock.at(context.snapshot.now_s)

    @property
    def pins(self) -> list[Identity]:
        return self.state.pins

    def pin(self, identities: list[Identity]) -> str:
        """Pin some more; gives a sentence where there are too many."""
        new = [identity for identity in identities if identity not in self.pins]
        room = MOST_PINS - len(self.pins)
        if len(new) > room:
            there = f"; {len(self.pins)} are pinned" if self.pins else ""
            return f"{len(new)} points are too many to be distinguished in one trend: {MOST_PINS} at most{there}"
        self.state.pins = [*self.pins, *new]
        self._site = self._context.snapshot.site
        self._path = self._site.path
        self._watch()
        self._ask_tape([identity for identity in new if identity[0]])
        return ""

    def _ask_tape(self, identities: list[Identity]) -> None:
        """What these were in the hours before, whether a record was asked for or not."""
        path = self._context.snapshot.site.path
        if path is None or not identities:
            return
        now = self.now
        question = TapeQuestion(str(path), str(folder_beside(path) / "tape"), now - TAPE_S, now, identities)
        Thread(target=self._read_tape, args=(question,), name="tape of the trend", daemon=True).start()

    def _read_tape(self, question: TapeQuestion) -> None:
        found = ask_elsewhere(question)
        curves = {}
        for identity in question.wanted:
            taped = found.get("/".join(identity))
            if taped is not None:
                numbers = [number if number is not None else math.nan for number in taped.value]
                curves[identity] = curve_of(taped.at, numbers, taped.quality, [0] * len(taped.at), taped.until)

        def take() -> None:
            self.curves.take_taped({pin: curve for pin, curve in curves.items() if pin in self.pins})
            self._context.redraw()

        if curves:
            self._context.later(take)

    def unpin(self, identity: Identity) -> None:
        self.state.pins = [pin for pin in self.pins if pin != identity]
        self.state.chosen = min(self.state.chosen, max(len(self.pins) - 1, 0))
        self._watch()

    def open(self, identity: Identity | None) -> None:
        """That point is looked at."""
        if identity != self.opened:
            self.opened = identity
            self._watch()

    def _watch(self) -> None:
        snapshot = self._context.snapshot
        points = [place.point for pin in self.pins if (place := snapshot.place_of(pin)) is not None]
        self.state.has_several_units = len({point.unit for point in points if not point.is_state}) > 1
        wanted = [*self.pins, *([self.opened] if self.opened is not None else [])]
        self.curves.keep(wanted)
        listens, self._is_listening = self._is_listening, bool(wanted)
        memory = self.memory

        called, self._renamed = self._renamed, {}

        def tell(session: Session) -> None:
            memory.rename(called)
            if wanted and not listens:
                session.listen(memory)
            memory.watch(wanted, session.world)
            if listens and not wanted:
                session.leave(memory)

        self._context.do(tell)

    def drop_gone(self, snapshot: Snapshot) -> list[Identity]:
        """The plan has changed: pins that are no more, which are dropped."""
        path = snapshot.site.path
        if path != self._path:
            self._path = path
            self.curves.forget()
            if self._site is not None and _definitions_of(self._site) != _definitions_of(snapshot.site):
                return self._forget_all(snapshot.site)
        site, self._site = self._site, snapshot.site
        gone = [pin for pin in self.pins if snapshot.place_of(pin) is None]
        if not gone:
            return []
        called = dict(renamed(site, snapshot.site)) if site is not None and site.path == path else {}
        self._renamed = {pin: called[pin] for pin in gone if pin in called}
        gone = [pin for pin in gone if pin not in called]
        self.state.pins = [self._renamed.get(pin, pin) for pin in self.pins if pin not in gone]
        self.curves.rename(self._renamed)
        self._watch()
        return gone

    def _forget_all(self, site: Site) -> list[Identity]:
        """Another site is open: what bears the same names there is something else."""
        gone, self.state.pins, self.opened, self._site = self.pins, [], None, site
        self.state.go_live()
        self.state.mark = None
        self._watch()
        return gone

    def ask(self, snapshot: Snapshot) -> None:
        """Ask the record for what is lacking of what is shown."""
        path = snapshot.site.path
        if path is None or not self.pins:
            return
        places = {pin: place for pin in self.pins if (place := snapshot.place_of(pin)) is not None}
        begin, end = self.state.range(self.now)
        store = str(folder_beside(path) / RECORD)
        question = self.curves.wanted(store, snapshot.site.name, places, begin, end, self.state.reads_today)
        if question is not None:
            self._asker.ask(question)

    def _take(self, answer: Answer) -> None:
        self.curves.take(answer)
        self._context.redraw()

    def stop(self) -> None:
        self._asker.stop()


def _definitions_of(site: Site) -> list[tuple[object, ...]]:
    """By what a site that was saved elsewhere is known to be the same."""
    return [(line.name, str(line.link), device.name, device.unit_id) for line, device in site.devices()]
