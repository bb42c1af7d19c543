"""The one door to the open site. Every edit, undo, redo, save and take-over goes through it, one after the other, on
one worker.

An edit: under the site's lock the files are read as they are now, the edit makes new texts of them, these are checked
as if they stood there, and only then written, all or none. Then the engine takes the site over, and whoever asked is
notified. What somebody else changed on disk is there before the edit is made, so an edit of other rows lands on top of
it, and one of the same is refused as a clash that may be asked for again. Between edits the worker looks whether the
files were changed by somebody else, and takes them over.

A site that was never saved lives in the user's data folder as files like any other, from its first edit on.
"""

import concurrent.futures
import queue
import shutil
import threading
from collections.abc import Callable
from contextlib import AbstractContextManager, suppress
from functools import partial
from pathlib import Path
from typing import TypeVar

from kanaleto.editing.filewatch import FileWatch
from kanaleto.editing.news import Change, Done, News, NotTakenOver, Opened, OthersHere, SoundAgain, TakenOver
from kanaleto.editing.ondisk import SiteReader, differ, first_fault, text_of, text_or_none, title_of
from kanaleto.editing.presence import Other, Presence, others_at
from kanaleto.editing.steps import Steps, Texts
from kanaleto.editing.workingcopy import NEW_NAME, CannotEdit, Draft, Edit
from kanaleto.files import devicetext
from kanaleto.files.devicetext import Said
from kanaleto.files.loading import LoadedSite
from kanaleto.files.maprows import map_text
from kanaleto.files.sitetext import new_site_text
from kanaleto.files.texts import stamp
from kanaleto.files.whole import clear_staged, complete, locked, write_together, write_whole
from kanaleto.site.filefaults import FaultyFile
from kanaleto.site.model import Device, Site
from kanaleto.supervision.owned import Owned

T = TypeVar("T")

LOOK_S = 1.0  # how often files are looked at, where the system does not tell of a change first
_SETTLE_S = 0.4  # a file with a fault may be half written: it is looked at again before it is reported
_OTHERS_EVERY = 6  # looks at files for one at who else is there
_CLOSE_S = 10.0
_AGAIN = 20  # times that files are read again which somebody writes meanwhile


class _WrittenMeanwhile(CannotEdit):
    """Somebody else wrote a file between our reading and our writing."""


TakeOver = Callable[[Change], object]
"""Makes the engine go on with a site; gives back when it does."""


class Door:
    """`opened` may be read from any thread, and every method called from any. Each gives back at once, with a future of
    what came of it; CannotEdit in one sentence is what comes where nothing was done."""

    def __init__(
        self,
        loaded: LoadedSite,
        path: Path,
        is_unsaved: bool,
        take_over: TakeOver,
        on_news: Callable[[News], None] = lambda news: None,
    ) -> None:
        self.opened = Opened(path, is_unsaved, 0)
        self._take_over, self._on_news = take_over, on_news
        self._loaded = loaded
        self._reader = SiteReader(loaded.cache)
        self._steps = Steps()
        self._others: tuple[Other, ...] = ()
        self._presence: Presence | None = None
        self._watch = FileWatch(lambda: self._jobs.put(self._look_at_change))
        self._has_said_fault = False
        self._jobs: queue.SimpleQueue[Callable[[], None] | None] = queue.SimpleQueue()
        self._worker = threading.Thread(target=self._work, name="door", daemon=True)
        self._worker.start()

    # What can be asked for

    def edit(self, edit: Edit, opened: Opened | None = None, anyway: bool = False) -> "concurrent.futures.Future[Done]":
        """Change the site. With `opened` only if that is open still. Clash where somebody else changed the same."""
        number = (opened or self.opened).number
        return self._ask(lambda: self._edit(edit, number, anyway))

    def undo(self, anyway: bool = False) -> "concurrent.futures.Future[Done]":
        number = self.opened.number
        return self._ask(lambda: self._turn(is_undo=True, number=number, anyway=anyway))

    def redo(self, anyway: bool = False) -> "concurrent.futures.Future[Done]":
        number = self.opened.number
        return self._ask(lambda: self._turn(is_undo=False, number=number, anyway=anyway))

    def open(self, path: Path, is_unsaved: bool = False) -> "concurrent.futures.Future[Done]":
        """Another site. FaultyFile where it is not sound, CannotEdit where it is taken; what was open stays open
        then."""
        return self._ask(lambda: self._open(path, is_unsaved))

    def begin(self, path: Path) -> "concurrent.futures.Future[Done]":
        """A new site, with nothing on disk before its first edit."""
        return self._ask(lambda: self._begin(path))

    def save_as(self, path: Path) -> "concurrent.futures.Future[Done]":
        """Copy the site file and its maps to `path`, and go on there."""
        return self._ask(lambda: self._save_as(path))

    def take_over_again(self, what: str) -> "concurrent.futures.Future[object]":
        """The site as it stands, once more: something else than its files has changed how it is polled."""
        return self._ask(lambda: self._take_over(Change(self._loaded.site, self.opened.path, what)))

    def look(self) -> "concurrent.futures.Future[None]":
        """Look at the files now."""
        return self._ask(self._look)

    def cells_of(self, device: Device, name: str) -> dict[str, str]:
        """What the row of a point said when the files were read last; nothing where there is none."""
        text = self._loaded.texts.get(device.map_path) if device.map_path is not None else None
        rows = map_text(text) if text is not None else None
        return rows.cells_of(name) if rows is not None and name in rows.names else {}

    def said_of(self, device: str) -> Said | None:
        """What the site file said of a device when it was read last, of its line and of the site."""
        return devicetext.said_of(self._loaded.texts.get(self.opened.path, "")).get(device)

    def close(self) -> None:
        """Finish what was asked for, and leave."""
        self._jobs.put(None)
        self._worker.join(_CLOSE_S)

    # The worker

    def _ask(self, what: Callable[[], T]) -> "concurrent.futures.Future[T]":
        future: concurrent.futures.Future[T] = concurrent.futures.Future()

        def job() -> None:
            if not future.set_running_or_notify_cancel():
                return
            try:
                future.set_result(what())
            except OSError as error:
                where = f"{error.filename}: " if error.filename else ""
                future.set_exception(CannotEdit(f"{where}{error.strerror or error}"))
            except Exception as error:  # the future's, whatever it is
                future.set_exception(error)

        if self._worker.is_alive():
            self._jobs.put(job)
        else:
            future.set_exception(CannotEdit("nothing is edited any more: the application ends"))
        return future

    def _work(self) -> None:
        owned = Owned("the site's editor")
        with owned:
            self._arrive()
            self._watch.follow(self._loaded.stamps)
        looks = 0
        while True:
            job: Callable[[], None] | None = partial(self._look_around, looks % _OTHERS_EVERY == 0)
            try:
                job = self._jobs.get(timeout=LOOK_S)
            except queue.Empty:
                looks += 1
            if job is None:
                break
            with owned:
                job()
        with owned:
            self._watch.stop()
        with owned:
            self._depart()
        owned.finish()

    def _arrive(self) -> None:
        """Be seen at the site, if it is on disk yet; take away what edits that were cut short have left."""
        path = self.opened.path
        if self._presence is not None or not path.exists():
            return
        with suppress(OSError):
            self._presence = Presence(path)
            with locked(path, 1):
                clear_staged(path, {path.parent, path.parent / "maps"})

    def _depart(self) -> None:
        if self._presence is not None:
            self._presence.leave()
            self._presence = None

    def _look_at_change(self) -> None:
        self._look_around(with_others=False)

    def _look_around(self, with_others: bool) -> None:
        try:
            self._look()
            if with_others and self.opened.path.exists():
                others = tuple(others_at(self.opened.path, self._presence))
                if others != self._others:
                    self._others = others
                    self._on_news(OthersHere(others))
        except OSError as error:  # a disk that is gone comes back, or does not: the site in memory goes on
            self._tell_fault(f"the site's files cannot be looked at: {error.strerror or error}")

    # Reading

    def _now(self) -> LoadedSite:
        """The site as it is on disk now, with what somebody else changed. Raises CannotEdit where it is not sound."""
        path = self.opened.path
        if self.opened.is_unsaved and not path.exists():
            return LoadedSite(Site(NEW_NAME, ()))
        complete(path, holds_lock=True)
        if self._loaded.stamps and all(stamp(path) == seen for path, seen in self._loaded.stamps.items()):
            return self._loaded
        try:
            return self._reader.read(path)
        except FaultyFile as faulty:
            raise CannotEdit(f"the files have a fault, mend it first: {first_fault(faulty)}") from None

    def _look(self) -> None:
        """Take over what somebody else changed."""
        path = self.opened.path
        if not self._loaded.stamps and not path.exists():
            return
        complete(path)
        if self._loaded.stamps and not differ(self._loaded.stamps):
            self._reader.faulty = {}
            self._tell_sound()
            return
        if self._reader.faulty and not differ(self._reader.faulty):
            return  # reported already
        self._read_changed(path)

    def _read_changed(self, path: Path) -> None:
        try:
            loaded = self._reader.read(path)
        except FaultyFile:
            threading.Event().wait(_SETTLE_S)
            try:
                loaded = self._reader.read(path)
            except FaultyFile as faulty:
                self._tell_fault(first_fault(faulty))
                return
        self._reader.faulty = {}
        if loaded.texts == self._loaded.texts:
            self._loaded = loaded
            self._watch.follow(loaded.stamps)
            self._tell_sound()
            return
        self._go_on(loaded, "the site's files were edited by somebody else, and taken over", is_own=False)
        self._has_said_fault = False
        self._on_news(TakenOver(loaded.site))

    def _tell_fault(self, text: str) -> None:
        self._has_said_fault = True
        self._on_news(NotTakenOver(text))

    def _tell_sound(self) -> None:
        """The files say what is open, whatever was reported of them before."""
        if self._has_said_fault:
            self._has_said_fault = False
            self._on_news(SoundAgain())

    def _go_on(self, loaded: LoadedSite, what: str, is_own: bool) -> None:
        """The engine takes it over; then it is what others see."""
        if loaded.site != self._loaded.site or not self._loaded.texts:
            self._take_over(Change(loaded.site, self.opened.path, what, is_own))
        self._loaded = loaded
        self._watch.follow(loaded.stamps)

    # Writing

    def _check_number(self, number: int) -> None:
        if number != self.opened.number:
            raise CannotEdit("another site was opened meanwhile, so nothing was changed")

    def _edit(self, edit: Edit, number: int, anyway: bool) -> Done:
        self._check_number(number)

        def change(now: LoadedSite) -> Done:
            draft = Draft(self.opened.path, now.site, partial(text_of, now), anyway)
            try:
                what = edit(draft)
            except ValueError as error:
                raise CannotEdit(str(error)) from None
            before = {path: text_or_none(now, path) for path in draft.changed}
            return self._apply(what, before, dict(draft.changed), now, is_step=True)

        return self._attempt(change)

    def _attempt(self, what: Callable[[LoadedSite], Done]) -> Done:
        """Under the lock, with the site as it is now; again where somebody who knows no lock wrote between our reading
        and our writing."""
        with self._held():
            for _ in range(_AGAIN):
                try:
                    return what(self._now())
                except _WrittenMeanwhile:
                    continue
            return what(self._now())

    def _turn(self, is_undo: bool, number: int, anyway: bool) -> Done:
        self._check_number(number)

        def turn(now: LoadedSite) -> Done:
            step = self._steps.next_undo() if is_undo else self._steps.next_redo()
            current = {path: text_or_none(now, path) for path in step.after}
            texts = step.turned(current, is_undo, anyway)
            done = self._apply(step.what, current, texts, now, is_step=False)
            self._steps.turn(is_undo, current, texts)
            return done

        return self._attempt(turn)

    def _held(self) -> AbstractContextManager[None]:
        path = self.opened.path
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise CannotEdit(f"{path.parent} cannot be made: {error.strerror}") from None
        return locked(path)

    def _apply(self, what: str, before: Texts, after: Texts, now: LoadedSite, is_step: bool) -> Done:
        """Check the texts, write them, go on with them. Raises CannotEdit, with the files as they were."""
        path = self.opened.path
        changed = {path: text for path, text in after.items() if text != before.get(path)}
        is_gone = path in after and after[path] is None
        try:
            loaded = LoadedSite(Site(NEW_NAME, ())) if is_gone else self._reader.read(path, after)
        except FaultyFile as faulty:
            raise CannotEdit(f"not taken: {first_fault(faulty, names_only=True)}") from None
        if differ({path: seen for path, seen in now.stamps.items() if path in changed}):
            raise _WrittenMeanwhile("the files are being written by somebody else again and again; nothing was changed")
        try:
            write_together(path, {path: text for path, text in changed.items() if text is not None})
            for file in sorted((path for path, text in changed.items() if text is None), key=lambda file: file != path):
                file.unlink(missing_ok=True)
        except OSError as error:
            raise CannotEdit(f"{error.filename or path} cannot be written: {error.strerror or error}") from None
        loaded.stamps.update({path: stamp(path) for path in changed if path in loaded.texts})
        self._reader.faulty = {}
        if is_step:
            self._steps.note(what, before, after)
        self._go_on(loaded, what if is_step else f"undone or done again: {what}", is_own=True)
        self._arrive()
        return Done(what, loaded.site)

    # Other sites

    def _open(self, path: Path, is_unsaved: bool) -> Done:
        others = others_at(path)
        if is_unsaved and others:
            raise CannotEdit(f"that unsaved site is open elsewhere: {others[0]}")
        complete(path)
        loaded = self._reader.read(path)
        self._depart()
        self._change_to(Opened(path, is_unsaved, self.opened.number + 1), loaded, is_another=True)
        self._arrive()
        return Done("open", loaded.site)

    def _begin(self, path: Path) -> Done:
        self._depart()
        self._change_to(Opened(path, True, self.opened.number + 1), LoadedSite(Site(NEW_NAME, ())), is_another=True)
        return Done("begin", self._loaded.site)

    def _change_to(
        self, opened: Opened, loaded: LoadedSite, moved_from: Path | None = None, is_another: bool = False
    ) -> None:
        self._take_over(Change(loaded.site, opened.path, moved_from=moved_from, is_another=is_another))
        self._has_said_fault = False
        self.opened, self._loaded = opened, loaded
        self._watch.follow(loaded.stamps)
        self._reader.faulty, self._others = {}, ()
        self._steps = Steps()

    def _save_as(self, path: Path) -> Done:
        if path.suffix != ".toml":
            raise CannotEdit(f"a site file ends in .toml; save it as {path.name}.toml")
        if path.exists():
            raise CannotEdit(f"{path} is there already; name another file")
        source, was_unsaved = self.opened.path, self.opened.is_unsaved
        try:
            with self._held():
                now = self._now()
                copies = self._copies(now, source, path)
            path.parent.mkdir(parents=True, exist_ok=True)
            with locked(path):
                text = now.texts.get(source) or new_site_text(NEW_NAME)
                text = text.replace(f'name = "{NEW_NAME}"', f'name = "{title_of(path)}"', 1)
                for target, copied in copies.items():
                    target.parent.mkdir(parents=True, exist_ok=True)
                    write_whole(target, copied)
                write_whole(path, text)
            loaded = self._reader.read(path)
        except FaultyFile as faulty:
            raise CannotEdit(f"not saved: {first_fault(faulty)}") from None
        except OSError as error:
            raise CannotEdit(f"{error.filename or path} cannot be written: {error.strerror or error}") from None
        self._depart()
        moved_from = source if was_unsaved else None
        self._change_to(Opened(path, False, self.opened.number + 1), loaded, moved_from)
        if was_unsaved:
            shutil.rmtree(source.parent, ignore_errors=True)
        self._arrive()
        return Done(f"saved as {path}", loaded.site)

    def _copies(self, now: LoadedSite, source: Path, path: Path) -> dict[Path, str]:
        copies: dict[Path, str] = {}
        for file, text in now.texts.items():
            if file == source or not file.is_relative_to(source.parent):
                continue
            target = path.parent / file.relative_to(source.parent)
            if target.exists():
                raise CannotEdit(f"{target} is there already; save the site in a folder of its own")
            copies[target] = text
        return copies
