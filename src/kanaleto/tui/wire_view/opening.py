"""Asks for a capture, a tape or what was laid aside; whether it is one is looked at on a thread, since the disk may be
slow."""

from collections.abc import Callable
from concurrent.futures import Future
from pathlib import Path
from threading import Thread

from kanaleto.capture.jsonlines import NoCapture
from kanaleto.capture.reading import Capture
from kanaleto.capture.tape import aside_of
from kanaleto.tui.shared.context import Context, Stoppable
from kanaleto.tui.shared.elsewhere import begin_elsewhere
from kanaleto.tui.shared.holder import expanded

_LISTING_S = 0.1


def ask_capture(context: Context, opened: Callable[[Path], None]) -> None:
    """`opened` is called with what is a capture."""

    def answer(text: str) -> Stoppable | str:
        if not text.strip():
            return "name a capture (.jsonl, .pcapng, .pcap) or a tape"
        try:
            path = expanded(text)
        except ValueError as error:
            return str(error)

        def look() -> str:
            try:
                Capture(path)
            except OSError as error:
                raise NoCapture(f"{path} cannot be read: {error.strerror or error}") from None
            return f"{path.name} is listed"

        begins = f"{path.name} is looked at …"
        return begin_elsewhere(context, "capture", begins, look, (NoCapture,), lambda: opened(path))

    listed = _laid_aside(context.keeping.seam.folder)
    context.ask("open a capture or a tape", listed[0][0] if listed else "", answer, listed=listed)


def _laid_aside(folder: Path | None) -> list[tuple[str, str]]:
    """Each with what it was laid aside for, the newest first; nothing where a disk takes too long to tell."""
    found = Future[list[tuple[str, str]]]()

    def look() -> None:
        try:
            aside = [path for path, _ in aside_of(folder)] if folder is not None else []
            found.set_result([(str(path), Capture(path).why) for path in reversed(aside)])
        except (OSError, NoCapture):  # it goes away just now
            found.set_result([])

    Thread(target=look, name="what was laid aside", daemon=True).start()
    try:
        return found.result(_LISTING_S)
    except TimeoutError:
        return []
