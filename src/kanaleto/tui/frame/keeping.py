"""What is kept of the open site while the application runs. It begins once the first frame stands, on a thread of its
own: a start waits for no disk."""

import asyncio
import time
from collections.abc import Callable
from pathlib import Path
from threading import Event, Lock, Thread
from typing import TYPE_CHECKING, Protocol

from kanaleto.capture.seam import Seam
from kanaleto.demo.start import is_demo
from kanaleto.editing.news import Change
from kanaleto.events.log import EventKind
from kanaleto.history.renames import Rename, renamed, words
from kanaleto.history.store_error import CannotRecord
from kanaleto.polling.engine import Engine, EngineEnded
from kanaleto.site.model import Site
from kanaleto.tui.shared.context import Then

if TYPE_CHECKING:
    from kanaleto.history.journalwriter import JournalLedger
    from kanaleto.keeping.kept import Kept


_UP_S = 20.0
_LONGEST_NOTE = 2000


class _KeepingHost(Protocol):
    engine: Engine

    def trouble(self, kind: str, text: str) -> None: ...

    def tell(self, notice: str) -> None: ...

    def ask(self, question: str, answer: str, then: Then) -> None: ...

    def later(self, what: Callable[[], object]) -> None: ...


class AppKeeping:
    """`follow` may be called from any thread; the site that it was given last is the one that is kept."""

    def __init__(self, screen: _KeepingHost) -> None:
        self._screen = screen
        self._lock = Lock()
        self._kept: Kept | None = None
        self._is_up = Event()
        self._is_over = False
        self._where: Path | None = None
        self._site: Site | None = None
        self._doubtful: list[Rename] = []

    @property
    def failure(self) -> Exception | None:
        return self._kept.failure if self._kept is not None else None

    def begin(self) -> None:
        """Begin, in a moment."""
        Thread(target=self._begin, name="keeping", daemon=True).start()

    def _begin(self) -> None:
        from kanaleto.keeping.kept import Kept  # a start need not wait for it

        session = self._screen.engine.session
        with self._lock:
            if self._is_over or self._site is None:
                return
            kept = Kept("kanaleto", session.events, session.clock, self._tell)
            try:
                self._screen.engine.do(kept.listen_to).result(10)
            except (EngineEnded, TimeoutError):
                return
            kept.start(self._where, self._site)
            self._kept = kept
        self._is_up.set()
        self._tell_missed()

    def _tell_missed(self) -> None:
        """What happened while nobody looked is offered in one line."""
        from kanaleto.history.earlier import while_nobody_looked
        from kanaleto.tui.frame.eventlog import FAILED

        folder = self.seam.folder
        if folder is not None:
            before_us = round(1e6 * self._screen.engine.session.events.begun_wall_s)
            _, text = while_nobody_looked(folder.parent, before_us, FAILED)
            if text:
                self._screen.later(lambda: self._screen.trouble("missed", text))

    def before(self, change: Change) -> None:
        """The engine is about to take that over. Points that only have another name keep their series; where somebody
        else edited the files that is asked about."""
        if not change.what or self._kept is None or self._site is None:
            return
        renames = renamed(self._site, change.site)
        if renames and change.is_own:
            self._kept.rename(renames)
        elif renames:
            self._doubtful = renames
            self._tell(
                "renamed", f"renamed on disk: {words(renames)}. ctrl+p, “the same points”, lets them keep their series"
            )

    def take_as_same(self) -> str:
        """What was renamed on disk are the same points; what is to be reported of it."""
        renames, self._doubtful = self._doubtful, []
        if not renames or self._kept is None:
            return "nothing was renamed on disk"
        self._kept.rename(renames)
        self._screen.trouble("kept renamed", "")
        return f"the same points: {words(renames)}"

    def follow(self, change: Change) -> None:
        """That site is open now, as it stands."""
        with self._lock:
            if not change.what:
                self._doubtful = []
            self._where, self._site = change.where, change.site
            if self._kept is not None and not self._is_over:
                self._kept.follow(change.where, change.site, change.moved_from)

    async def ledger(self) -> "JournalLedger | None":
        """Where writes are written down; None where that does not come up."""
        if self._kept is None:
            await asyncio.to_thread(self._is_up.wait, _UP_S)
        return self._kept.ledger if self._kept is not None else None

    @property
    def recording(self) -> str:
        """Where it is recorded to now; empty where it is not."""
        return self._kept.recording if self._kept is not None else ""

    @property
    def seam(self) -> Seam:
        return self._kept.seam if self._kept is not None else Seam()

    def begin_recording(self) -> None:
        """Record to the site's own record. What comes of it is reported in a moment."""

        def work() -> str:
            self._is_up.wait(_UP_S)  # a key may be quicker than the start
            with self._lock:
                if self._kept is None or self._is_over:
                    return "not recorded: the application ends"
                try:
                    text = self._kept.begin_recording()
                except CannotRecord as error:
                    return self._refuse(f"not recorded: {error}")
                self._refuse("")
                away = (
                    " (the demo's folder is taken away at its end)"
                    if self._where is not None and is_demo(self._where)
                    else ""
                )
                return f"{text + '; ' if text else ''}recording{away} to {self._kept.recording}"

        self._work_and_tell(work)

    def end_recording(self) -> None:
        """End it. What was kept is reported in a moment."""

        def work() -> str:
            with self._lock:
                where = self.recording
                count = self._kept.end_recording() if self._kept is not None else 0
                return f"{count} samples were recorded to {where}" if where else "nothing was recorded"

        self._work_and_tell(work)

    def _refuse(self, text: str) -> str:
        """Recording could not begin: it stays to be seen until it does, or is dismissed."""
        self._screen.later(lambda: self._screen.trouble("record", text))
        return ""

    def _work_and_tell(self, work: Callable[[], str]) -> None:
        def run() -> None:
            text = work()
            self._screen.later(lambda: self._screen.tell(text))

        Thread(target=run, name="recording", daemon=True).start()

    def record(self) -> None:
        """Begin recording, or ask whether it is to end."""
        if not self.recording:
            self._screen.tell("recording begins …")
            self.begin_recording()
            return

        def answer(text: str) -> None:
            if text.strip().lower() in ("y", "yes"):
                self.end_recording()
            else:
                self._screen.tell("recording goes on")

        self._screen.ask("end recording? y ends it, anything else goes on", "", answer)

    def ask_note(self) -> None:
        """Ask for a note, and write it into the journal."""

        def answer(text: str) -> None:
            note = text.strip()[:_LONGEST_NOTE]
            if note:
                self._screen.engine.do(lambda session: session.events.note(EventKind.NOTE, "", "", note))
                self._screen.tell("noted in the journal")

        self._screen.ask("a note for the journal", "", answer)

    def stop(self) -> None:
        """Polling has ended: what came of it is written down."""
        with self._lock:
            self._is_over = True
            folder = self.seam.folder
            if self._kept is not None:
                if folder is not None:
                    from kanaleto.history.earlier import note_looked

                    note_looked(folder.parent, time.time_ns() // 1000)
                self._kept.stop()

    def _tell(self, kind: str, text: str) -> None:
        if kind == "told":
            self._screen.later(lambda: self._screen.tell(text))
            return
        self._screen.later(lambda: self._screen.trouble(f"kept {kind}", text))
