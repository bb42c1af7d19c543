"""All that is kept of a site while it is open, as one thing to begin and to end: its journal and its tape, always; what
is laid aside upon events; a record and captures where they were asked for."""

import shutil
import sqlite3
from collections import deque
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from msgspec.structs import replace
from platformdirs import user_data_path

from kanaleto.board.derived import Formulas
from kanaleto.board.listener import Sink
from kanaleto.board.world import World
from kanaleto.capture.capturefile import CaptureFile
from kanaleto.capture.jsonlines import CapturedLine
from kanaleto.capture.recorder import ExchangeRecorder
from kanaleto.capture.seam import Seam
from kanaleto.editing.presence import user_name
from kanaleto.events.clock import Clock
from kanaleto.events.log import Ended, EventKind, EventLog
from kanaleto.files.beside import folder_beside
from kanaleto.files.origins import origin_of
from kanaleto.history.journal import FILE, Journal, journals_of, renames_in
from kanaleto.history.journalfile import JournalFile, NewerFile, micros
from kanaleto.history.journalwriter import JournalLedger
from kanaleto.history.recorderprocess import Recorder, Renamed, default_store
from kanaleto.history.recordsink import RecordSink
from kanaleto.history.renames import Rename, words
from kanaleto.history.store_error import CannotRecord
from kanaleto.keeping.keeper import Keeper
from kanaleto.lines.adapters import held_back_ms
from kanaleto.polling.session import Session
from kanaleto.site.expression import FormulaMemory
from kanaleto.site.model import KEEPING_EVENTS, Derived, Site
from kanaleto.supervision.owned import each_of


class Conditions(Sink):
    """`on_true` receives the wall time and the condition."""

    def __init__(self, on_true: Callable[[float, str], None]) -> None:
        self._on_true = on_true
        self._memory = FormulaMemory()
        self._names: dict[str, str] = {}
        self._formulas: Formulas | None = None
        self._are_true: set[str] = set()

    def on_plan(self, world: World) -> None:
        site = world.site
        self._names = {f"lay aside {text!r}": text for text in site.keeping.conditions}
        self._formulas = None
        if self._names:
            asked = tuple(Derived(name, text) for name, text in self._names.items())
            self._formulas = Formulas(replace(site, derived=(*site.derived, *asked)), world.plan, self._memory)

    def on_second(self, world: World, now_s: float, wall_s: float) -> None:
        if self._formulas is None:
            return
        found = self._formulas.evaluate(world.board, now_s)
        are_true = {text for name, text in self._names.items() if found[name].value}
        for text in are_true - self._are_true:
            self._on_true(wall_s, text)
        self._are_true = are_true


TOLD = "told"
"""Stands for what is in trouble where something is only reported, and over with that."""
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
        self._site: Site | None = None
        self._session: Session | None = None
        self._notes: deque[Callable[[EventLog], object]] = deque(maxlen=100)
        self._to_listen: deque[RecordSink] = deque()
        self._recorder: Recorder | None = None
        self._spare: JournalFile | None = None
        self.ledger = JournalLedger(self._journal_place, self._who)
        self._exchanges = ExchangeRecorder(clock.now, on_trouble, self._note_aside)
        self._conditions = Conditions(self._exchanges.lay_aside)
        log.follow(self._exchanges.on_event)
        self._keeper.add(self._exchanges)

    @property
    def failure(self) -> Exception | None:
        """An internal error that ended what is kept."""
        return self._keeper.failure

    def start(self, path: Path | None, site: Site) -> None:
        """Begin to keep what happens to the site whose file is there."""
        self.follow(path, site)
        self._keeper.start()

    def listen_to(self, session: Session) -> None:
        """Hear of all that is polled. For the session's own thread, or before it runs."""
        self._session = session
        self._exchanges.under_way_since_s = session.under_way_since_s
        for sink in (self._exchanges, self._conditions, self):
            session.listen(sink)

    def follow(self, path: Path | None, site: Site, moved_from: Path | None = None) -> None:
        """Go on with that site: the same, edited, or another. One that is not on disk yet has nothing kept of it. With
        `moved_from` it is the same, that was never saved there, and what was kept of it moves along."""
        folder = folder_beside(path) if path is not None and path.exists() else None
        self._site = site
        if folder == self._folder:
            self._keeper.do(lambda: self._exchanges.choose(_upon(site)))
            return
        if self._recorder is not None:
            self.end_recording("another site is open")
        self._leave()
        if moved_from is not None and folder is not None:
            _move(folder_beside(moved_from), folder)
        self._folder = folder
        if folder is None:
            return
        self._keeper.do(lambda: self._exchanges.follow(folder / "tape", site.name, _upon(site)))
        journal = self._journal = Journal(
            folder, self._program, self._who, self._clock.now, lambda text: self._on_trouble("journal", text)
        )
        journal.follow(self._log)
        self._keeper.add(journal)

    def _journal_place(self) -> tuple[Path, int] | str:
        journal = self._journal
        if journal is not None:
            return journal.place
        if self._spare is None:  # a site that has no file yet: what is written by hand is written down all the same
            path = user_data_path("kanaleto") / "unsaved.kanaleto" / FILE
            self._spare = JournalFile(path, self._program, self._who, micros(self._clock.now()))
        return self._spare.path, self._spare.run

    def _end_spare(self) -> None:
        spare, self._spare = self._spare, None
        if spare is not None:
            spare.end(micros(self._clock.now()))

    def _leave(self) -> None:
        self.ledger.release()
        self._keeper.do(lambda: self._exchanges.follow(None, "", frozenset()))
        if self._journal is not None:
            self._journal.leave(self._log)
            self._keeper.take_away(self._journal)
            self._journal = None

    def capture(self, path: Path, site: Site, most_bytes: int, most_files: int) -> None:
        """Write exchanges to a file, too. Raises NoCapture."""
        late_ms = 1000 * self._session.late_s if self._session is not None else 0.0
        lines = [
            CapturedLine(line.name, str(line.link), origin_of(line).value, round(held_back_ms(line.link) + late_ms, 3))
            for line in site.lines
        ]
        capture = CaptureFile(path, site.name, lines, most_bytes, most_files)
        self._keeper.do(lambda: self._exchanges.captures.append(capture))

    @property
    def seam(self) -> Seam:
        """Where the tape ends and what is in memory goes on. For any thread."""
        return self._exchanges.seam

    @property
    def recording(self) -> str:
        """Where samples are recorded to now; empty where they are not."""
        recorder = self._recorder
        return recorder.store if recorder is not None else ""

    def begin_recording(self, store: str | None = None) -> str:
        """Record samples to a file or a URL, or to the site's own record; gives what is to be reported of that. It
        takes its time. Raises CannotRecord."""
        if self._recorder is not None:
            raise CannotRecord(f"it is recorded already, to {self._recorder.store}")
        folder, site = self._folder, self._site
        if site is None or (store is None and folder is None):
            raise CannotRecord("the site is not on disk yet: save it first, so that its record has a place")
        sink = RecordSink()
        where = store if store is not None else default_store(folder or Path())
        renames, now = self._renames(), self._clock.now
        recorder = Recorder(
            sink, where, store is None, site.name, self._program, self._who, site.keeping, renames, now,
            lambda text: self._on_trouble("record", text), self._tell_back,
        )  # fmt: skip
        message = recorder.begin()
        self._recorder = recorder
        self._log.follow(sink.on_event)
        self._to_listen.append(sink)
        text = f"recorded to {recorder.store}"
        self._notes.append(lambda log: log.note(EventKind.RECORDING, "", "", text, going_on=EventKind.RECORDING))
        return message

    def _tell_back(self, text: str) -> None:
        self._on_trouble(TOLD, text)
        self._notes.append(lambda log: log.note(EventKind.KEEPING, "", "", text))

    def rename(self, renames: list[Rename]) -> None:
        """Points are called otherwise, and are the same: their series go on."""
        if self._recorder is not None:
            self._recorder.sink.rename(renames)
        text = f"renamed, the same points: {words(renames)}"
        data: dict[str, object] = {"renamed": [[*old, *new] for old, new in renames]}
        self._notes.append(lambda log: log.note(EventKind.RENAME, "", "", text, data=data))

    def _renames(self) -> list[Renamed]:
        """All that the journal knows of, for a record that was away meanwhile."""
        found: list[Renamed] = []
        for path in journals_of(self._folder) if self._folder is not None else ():
            with suppress(sqlite3.Error, NewerFile):
                found += renames_in(path)
        return found

    def end_recording(self, why: str = "") -> int:
        """Write the rest, and end; how many samples were kept. It may take its time."""
        recorder, self._recorder = self._recorder, None
        if recorder is None:
            return 0
        recorder.end()
        self._log.leave(recorder.sink.on_event)
        self._notes.append(lambda log: log.end("", "", EventKind.RECORDING))
        self._notes.append(lambda log: self._forget_sink(recorder.sink))
        self._on_trouble("record", f"recording has ended: {why}" if why else "")
        return recorder.kept

    def _forget_sink(self, sink: RecordSink) -> None:
        if self._session is not None:
            self._session.leave(sink)

    def stop(self) -> None:
        """All that has come is written down; what still went on is reported so."""
        each_of(
            "the end of what is kept", self.end_recording, self.tell_notes, lambda: self._log.end_all(Ended.QUIT),
            lambda: self.ledger.on_its_thread(self._end_spare), self.ledger.close, self._keeper.stop,
        )  # fmt: skip

    def on_plan(self, world: World) -> None:
        self._listen()

    def on_second(self, world: World, now_s: float, wall_s: float) -> None:
        self._listen()
        self.tell_notes()

    def _listen(self) -> None:
        while self._to_listen and self._session is not None:
            self._session.listen(self._to_listen.popleft())

    def tell_notes(self) -> None:
        """What was done on the keeper's thread becomes events. For the log's thread, now and then."""
        while self._notes:
            self._notes.popleft()(self._log)

    def _note_aside(self, path: Path, why: str) -> None:
        text = f"the minutes around it are kept: {why} (kanaleto wire {path})"
        self._notes.append(lambda log: log.note(EventKind.ASIDE, "", "", text, data={"file": str(path)}))


def _move(old: Path, new: Path) -> None:
    """What was kept of a site that was never saved."""
    for source in sorted(old.iterdir()) if old.is_dir() else ():
        if source.name == "tape" or source.suffix == ".db":
            with suppress(OSError):
                new.mkdir(parents=True, exist_ok=True)
                if not (new / source.name).exists():
                    shutil.move(source, new / source.name)


def _upon(site: Site) -> frozenset[str]:
    return frozenset(site.keeping.lay_aside) & frozenset(KEEPING_EVENTS)
