"""Nothing but the screen writes to the terminal while it stands: what threads and libraries would print there is kept
in a file, and told as a failure."""

import logging
import sys
import threading
import warnings
from collections.abc import Iterator
from contextlib import contextmanager

from kanaleto.editing.crashes import keep_fault
from kanaleto.supervision.owned import report


@contextmanager
def quiet_terminal() -> Iterator[None]:
    """What a thread raises and nobody has foreseen is a failure."""

    def of_thread(told: threading.ExceptHookArgs) -> None:
        if told.exc_value is not None and told.exc_type is not SystemExit:
            report(told.thread.name if told.thread is not None else "a thread", told.exc_value)

    def unraisable(told: "sys.UnraisableHookArgs") -> None:
        if told.exc_value is not None:
            keep_fault(told.exc_value)

    before = threading.excepthook, sys.unraisablehook, logging.lastResort
    threading.excepthook, sys.unraisablehook, logging.lastResort = of_thread, unraisable, logging.NullHandler()
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            yield
    finally:
        threading.excepthook, sys.unraisablehook, logging.lastResort = before
