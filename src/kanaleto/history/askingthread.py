"""Asks a record for curves on a thread of its own, one question after the other; of questions that wait the last is
answered. A record that is not there has nothing to say, one that cannot be read says why."""

from collections.abc import Callable, Mapping
from pathlib import Path
from threading import Condition, Thread

from msgspec import Struct

from kanaleto.history.definition import Definition

Identity = tuple[str, str]


class HistoryQuery(Struct, frozen=True):
    """Curves of some points of a site between two moments (wall, seconds), read again where a definition is given."""

    store: str
    site: str
    begin: float
    end: float
    wanted: tuple[Identity, ...]
    today: Mapping[Identity, Definition] | None = None


class Answer(Struct, frozen=True):
    """What was found (`history.storedcurve.Told`), of those that were ever recorded; or why nothing could be."""

    question: HistoryQuery
    found: Mapping[Identity, object]
    trouble: str = ""


class Asker:
    """`on_answer` is called on the thread."""

    def __init__(self, on_answer: Callable[[Answer], None]) -> None:
        self._on_answer = on_answer
        self._wake = Condition()
        self._next: HistoryQuery | None = None
        self._is_over = False
        self._thread: Thread | None = None

    def ask(self, question: HistoryQuery) -> None:
        with self._wake:
            self._next = question
            if self._thread is None:
                self._thread = Thread(target=self._run, name="trend", daemon=True)
                self._thread.start()
            self._wake.notify()

    def stop(self) -> None:
        with self._wake:
            self._is_over = True
            self._wake.notify()

    def _run(self) -> None:
        while True:
            with self._wake:
                self._wake.wait_for(lambda: self._is_over or self._next is not None)
                question, self._next = self._next, None
                if self._is_over or question is None:
                    return
            self._on_answer(answer_to(question))


def answer_to(question: HistoryQuery) -> Answer:
    """Ask the record now."""
    if "://" not in question.store and not Path(question.store).is_file():
        return Answer(question, {})
    from kanaleto.history.query import History  # neither is needed where nothing was ever recorded
    from kanaleto.history.store import StoreError
    from kanaleto.history.store_error import CannotRecord
    from kanaleto.history.storedcurve import stored_curve

    try:
        history = History(question.store)
    except CannotRecord as error:
        return Answer(question, {}, str(error))
    try:
        wanted = set(question.wanted)
        found = {}
        for series in history.series_named(question.site, wanted):
            today = question.today.get((series.device, series.point)) if question.today is not None else None
            found[series.device, series.point] = stored_curve(history, series, question.begin, question.end, today)
        return Answer(question, found)
    except CannotRecord as error:
        return Answer(question, {}, str(error))
    except StoreError as error:
        return Answer(question, {}, f"{history.name}: {str(error).splitlines()[0]}")
    finally:
        history.close()
