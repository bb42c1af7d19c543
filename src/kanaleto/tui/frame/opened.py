"""The site that is open, as the screen deals with it: edits and what came of them, opening, saving, and what others do
to its files."""

from collections.abc import Callable
from concurrent.futures import CancelledError, Future
from pathlib import Path
from threading import Thread
from typing import Any, Protocol

from kanaleto.board.snapshot import Snapshot
from kanaleto.demo.start import CannotStart
from kanaleto.editing.adding import keep_lessons
from kanaleto.editing.crashes import crash_to_offer
from kanaleto.editing.door import Door
from kanaleto.editing.news import Change, Done, News, NotTakenOver, Opened, OthersHere, SoundAgain, TakenOver
from kanaleto.editing.workingcopy import CannotEdit, Clash, Edit
from kanaleto.files.loading import LoadedSite
from kanaleto.polling.engine import Engine
from kanaleto.site.filefaults import FaultyFile
from kanaleto.tui.frame.keeping import AppKeeping
from kanaleto.tui.frame.writing import AppWriting
from kanaleto.tui.shared.bench import AppBench
from kanaleto.tui.shared.context import Then
from kanaleto.tui.shared.holder import SiteHolder


class _OpenedHost(Protocol):
    """What this needs of the screen."""

    engine: Engine

    @property
    def snapshot(self) -> Snapshot: ...

    def tell(self, notice: str, gives_way: bool = False) -> None: ...

    def trouble(self, kind: str, text: str) -> None: ...

    def ask(self, question: str, answer: str, then: Then) -> None: ...

    def later(self, what: Callable[[], None]) -> None: ...

    def close_prompt(self) -> None: ...

    def action_view(self, digit: str) -> None: ...

    def is_sure(self, key: str, what: str, lines: set[str] | None = None) -> bool: ...

    @property
    def writing(self) -> AppWriting: ...


class OpenedSite:
    """`loaded` is what is open at the start. Methods are for the interface's thread; what comes of them is reported
    there."""

    def __init__(self, context: _OpenedHost, loaded: LoadedSite, keeping: AppKeeping, bench: AppBench) -> None:
        self._context = context
        self.holder = SiteHolder()
        path = loaded.site.path
        where = path if path is not None else self.holder.where_new()
        is_unsaved = path is None or self.holder.is_unsaved(path)
        engine = context.engine

        def go_on(change: Change) -> None:
            change = bench.led(change)
            keeping.before(change)
            engine.take_over(change.site, change.what).result()
            keeping.follow(change)
            bench.follow(change)

        keeping.follow(Change(loaded.site, where if path is None else path))
        self.door = Door(loaded, where, is_unsaved, go_on, self._on_news)
        if path is not None:
            self.holder.note_opened(path)

    def edit(
        self, edit: Edit, opened: Opened | None = None, then: Callable[[Done], None] | None = None
    ) -> "Future[Done]":
        opened = opened or self.door.opened
        return self._follow(self.door.edit(edit, opened), lambda: self.door.edit(edit, opened, anyway=True), then)

    def _follow(
        self, done: "Future[Done]", anyway: "Callable[[], Future[Done]]", then: Callable[[Done], None] | None
    ) -> "Future[Done]":
        """Tell what comes of an edit; a clash is asked about."""

        def came() -> None:
            error = error_of(done)
            if error is None:
                self._context.trouble("edit", "")
                what = done.result()
                if then is not None:
                    then(what)
                else:
                    self._context.tell(f"{what.what}; ctrl+z takes it back")
            elif isinstance(error, Clash):
                self._ask_about(error, anyway, then)
            else:
                self._context.trouble("edit", sentence(error))

        done.add_done_callback(lambda _: self._context.later(came))
        return done

    def _ask_about(
        self, clash: Clash, anyway: "Callable[[], Future[Done]]", then: Callable[[Done], None] | None
    ) -> None:
        def answer(text: str) -> None:
            if text.strip().lower() in ("y", "yes"):
                self._follow(anyway(), anyway, then)
            else:
                self._context.tell("left as it is")

        self._context.trouble("edit", "")
        self._context.ask(f"{clash}: y does it all the same, anything else leaves it", "", answer)

    def offer_crash(self) -> None:
        """What ended the last run, where that was an internal error."""
        path = crash_to_offer()
        if path is not None:
            self._context.trouble(
                "crash", f"the last run ended by an error of Kanaleto's own: its details are in {path}"
            )

    # The site that is open

    def _on_news(self, news: News) -> None:
        self._context.later(lambda: self._tell_news(news))

    def _tell_news(self, news: News) -> None:
        if isinstance(news, TakenOver):
            self._context.trouble("files", "")
            self._context.tell(f"{news.site.name} was edited and taken over", gives_way=True)
        elif isinstance(news, SoundAgain):
            self._context.trouble("files", "")
            self._context.tell("the site's files are sound again", gives_way=True)
        elif isinstance(news, NotTakenOver):
            self._context.trouble("files", f"the site was edited and not taken over: {news.text}")
        elif isinstance(news, OthersHere):
            names = "; ".join(str(other) for other in news.others)
            self._context.trouble("others", f"also open here: {names}" if names else "")

    def open_site(self, path: Path | None) -> None:
        """A site file, or the demo; what is open now stays on disk as it is."""
        if self._context.writing.users_of(None) and not self._context.is_sure("open", "opening another site"):
            return
        self._context.tell("starting the demo's devices …" if path is None else f"opening {path.name} …")
        Thread(target=self._open, args=(path,), name="open", daemon=True).start()

    def _open(self, path: Path | None) -> None:
        try:
            path = self.holder.start_demo() if path is None else path
        except (CannotStart, OSError) as error:
            text = str(error)
            self._context.later(lambda: self._context.trouble("open", text))
            return
        self._context.writing.leave()
        self._opened(self.door.open(path, self.holder.is_unsaved(path)), f"{path.name} is open")

    def _opened(self, done: "Future[Done]", text: str) -> None:
        def came() -> None:
            error = error_of(done)
            if error is not None:
                self._context.trouble("open", sentence(error))
                return
            for kind in ("open", "files", "edit", "others"):
                self._context.trouble(kind, "")
            self._context.close_prompt()
            site = done.result().site
            if site.path is not None:
                self.holder.note_opened(site.path)
            self.holder.refresh()
            self._context.action_view("3" if site.point_count else "1")
            self._context.tell(text)

        done.add_done_callback(lambda _: self._context.later(came))

    def new_site(self) -> None:
        self._opened(
            self.door.begin(self.holder.where_new()),
            "a new site: what is added is kept, and saved with ctrl+s where you want it",
        )

    def save_as(self) -> None:
        start = "~/" if self.door.opened.is_unsaved else str(self.door.opened.path)
        self._context.ask("save the site as", start, self._save_as)

    def _save_as(self, text: str) -> "Future[Done] | str":
        try:
            path = self.holder.save_path(text)
        except CannotEdit as error:
            return str(error)
        done = self.door.save_as(path)

        def saved(done_so: Done) -> None:
            self.holder.note_opened(path)
            self.holder.refresh()
            self._context.tell(done_so.what)

        return self._follow(done, lambda: self.door.save_as(path), saved)

    def undo(self) -> None:
        self._follow(
            self.door.undo(),
            lambda: self.door.undo(anyway=True),
            lambda done: self._context.tell(f"undone: {done.what}"),
        )

    def redo(self) -> None:
        self._follow(
            self.door.redo(),
            lambda: self.door.redo(anyway=True),
            lambda done: self._context.tell(f"done again: {done.what}"),
        )

    def save_lessons(self) -> None:
        learned = self._context.engine.do(lambda session: session.learned())

        def came() -> None:
            error = error_of(learned)
            if error is not None or not learned.result() or self._context.snapshot.site.path is None:
                self._context.tell(
                    sentence(error) if error is not None else "nothing was learned yet that the site file does not say"
                )
                return
            self.edit(
                keep_lessons(learned.result()),
                then=lambda done: self._context.tell(f"saved to the site file: {done.what}"),
            )

        learned.add_done_callback(lambda _: self._context.later(came))


def error_of(done: "Future[Any]") -> BaseException | None:
    try:
        return done.exception()
    except CancelledError:
        return CannotEdit("polling has ended")


def sentence(error: BaseException | None) -> str:
    """What is reported of an error: expected ones are sentences already."""
    if isinstance(error, FaultyFile):
        more = f", and {len(error.faults) - 1} more" if len(error.faults) > 1 else ""
        return f"{error.faults[0]}{more}"
    if isinstance(error, KeyError):
        return str(error.args[0])
    return str(error) or type(error).__name__
