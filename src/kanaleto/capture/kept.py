"""All that is kept of a site while it is open, as one thing to begin and to end: its journal and its tape, always; what
is laid aside upon events; captures where they were asked for."""

from collections import deque
from collections.abc import Callable
from pathlib import Path

from kanaleto.capture.capturefile import CaptureFile
from kanaleto.capture.recorder import ExchangeRecorder
from kanaleto.capture.row import Origin
from kanaleto.capture.tape import Tape
from kanaleto.editing.presence import user_name
from kanaleto.files.beside import folder_beside
from kanaleto.history.conditions import Conditions
from kanaleto.history.journal import Journal
from kanaleto.history.keeper import Keeper
from kanaleto.polling.clock import Clock
from kanaleto.polling.events import Ended, EventKind, EventLog
from kanaleto.polling.listener import Sink
from kanaleto.polling.session import Session
from kanaleto.polling.world import World
from kanaleto.site.model import KEEPING_EVENTS, Site

OnTrouble = Callable[[str, str], None]
"""What is in trouble, and why in one sentence; "" when it is not any more. Told on the keeper's thread."""


class Kept(Sink):
    """`program` says who writes: the application, poll, serve. `log` is whose events are kept."""

    def __init__(self, program: str, log: EventLog, clock: Clock, on_trouble: OnTrouble) -> None:
        self._program, self._log, self._clock, self._on_trouble = program, log, clock, on_trouble
        self._who = user_name()
        self._keeper = Keeper()
        self._journal: Journal | None = None
        self._folder: Path | None = None
        self._notes: deque[tuple[EventKind, str, dict[str, object]]] = deque(maxlen=100)
        self._exchanges = ExchangeRecorder(clock.now, on_trouble, self._note_aside)
        self._conditions = Conditions(self._exchanges.lay_aside)
        log.followers.append(self._exchanges.on_event)
        self._keeper.add(self._exchanges)

    @property
    def failure(self) -> Exception | None:
        """An error of ours that ended what is kept."""
        return self._keeper.failure

    def start(self, path: Path | None, site: Site, origin: Origin) -> None:
        """Begin to keep what happens to the site whose file is there."""
        self.follow(path, site, origin)
        self._keeper.start()

    def listen_to(self, session: Session) -> None:
        """Hear of all that is polled. For the session's own thread, or before it runs."""
        for sink in (self._exchanges, self._conditions, self):
            session.listen(sink)

    def follow(self, path: Path | None, site: Site, origin: Origin) -> None:
        """Go on with that site: the same, edited, or another. One that is not on disk yet has nothing kept of it."""
        folder = folder_beside(path) if path is not None and path.exists() else None
        if folder == self._folder:
            self._keeper.do(lambda: self._exchanges.choose(_upon(site)))
            return
        self._leave()
        self._folder = folder
        if folder is None:
            return
        tape = Tape(folder / "tape", {"site": site.name})
        self._keeper.do(lambda: self._exchanges.follow(tape, origin.value, _upon(site)))
        journal = self._journal = Journal(
            folder, self._program, self._who, self._clock.now, lambda text: self._on_trouble("journal", text)
        )
        journal.follow(self._log)
        self._keeper.add(journal)

    def _leave(self) -> None:
        self._keeper.do(lambda: self._exchanges.follow(None, "", frozenset()))
        if self._journal is not None:
            self._journal.leave(self._log)
            self._keeper.take_away(self._journal)
            self._journal = None

    def capture(self, path: Path, site: Site, most_bytes: int, most_files: int) -> None:
        """Write exchanges to a file, too. Raises NoCapture."""
        lines = [(line.name, str(line.link)) for line in site.lines]
        capture = CaptureFile(path, site.name, lines, most_bytes, most_files)
        self._keeper.do(lambda: self._exchanges.captures.append(capture))

    def stop(self) -> None:
        """All that has come is written down; what still went on is told so."""
        self._log.end_all(Ended.QUIT)
        self._keeper.stop()

    def on_second(self, world: World, now_s: float, wall_s: float) -> None:
        self.tell_notes()

    def tell_notes(self) -> None:
        """What was done on the keeper's thread becomes events. For the log's thread, now and then."""
        while self._notes:
            kind, text, data = self._notes.popleft()
            self._log.note(kind, "", "", text, data=data)

    def _note_aside(self, path: Path, why: str) -> None:
        told = f"the minutes round it are laid aside: {why} (kanaleto wire {path})"
        self._notes.append((EventKind.ASIDE, told, {"file": str(path)}))


def _upon(site: Site) -> frozenset[str]:
    return frozenset(site.keeping.lay_aside) & frozenset(KEEPING_EVENTS)
