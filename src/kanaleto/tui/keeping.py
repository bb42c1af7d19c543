"""What is kept of the open site while the application runs. It begins once the first frame stands, on a thread of its
own: a start waits for no disk."""

from collections.abc import Callable
from pathlib import Path
from threading import Lock, Thread
from typing import TYPE_CHECKING, Protocol

from kanaleto.demo.start import is_demo
from kanaleto.polling.engine import Engine, EngineEnded
from kanaleto.site.model import Site

if TYPE_CHECKING:
    from kanaleto.capture.kept import Kept
    from kanaleto.capture.row import Origin


class _Screen(Protocol):
    engine: Engine

    def trouble(self, kind: str, text: str) -> None: ...

    def later(self, what: Callable[[], object]) -> None: ...


class Keeping:
    """`follow` may be called from any thread; the site that it was told last is the one that is kept."""

    def __init__(self, screen: _Screen) -> None:
        self._screen = screen
        self._lock = Lock()
        self._kept: Kept | None = None
        self._is_over = False
        self._where: Path | None = None
        self._site: Site | None = None

    @property
    def failure(self) -> Exception | None:
        return self._kept.failure if self._kept is not None else None

    def begin(self) -> None:
        """Begin, in a moment."""
        Thread(target=self._begin, name="keeping", daemon=True).start()

    def _begin(self) -> None:
        from kanaleto.capture.kept import Kept  # a start need not wait for it

        session = self._screen.engine.session
        with self._lock:
            if self._is_over or self._site is None:
                return
            kept = Kept("kanaleto", session.events, session.clock, self._tell)
            try:
                self._screen.engine.do(kept.listen_to).result(10)
            except (EngineEnded, TimeoutError):
                return
            kept.start(self._where, self._site, _origin(self._where))
            self._kept = kept

    def follow(self, where: Path | None, site: Site, moved_from: Path | None = None) -> None:
        """That site is open now, as it stands; it was at `moved_from` before it was saved."""
        with self._lock:
            self._where, self._site = where, site
            if self._kept is not None and not self._is_over:
                self._kept.follow(where, site, _origin(where), moved_from)

    def stop(self) -> None:
        """Polling has ended: what came of it is written down."""
        with self._lock:
            self._is_over = True
            if self._kept is not None:
                self._kept.stop()

    def _tell(self, kind: str, text: str) -> None:
        self._screen.later(lambda: self._screen.trouble(f"kept {kind}", text))


def _origin(where: Path | None) -> "Origin":
    from kanaleto.capture.row import Origin

    return Origin.STAND_IN if where is not None and is_demo(where) else Origin.REAL
