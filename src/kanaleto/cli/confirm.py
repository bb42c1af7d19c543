"""A question on the terminal whose answer writes: only what is typed after it could be read counts."""

import select
import sys
import time
from contextlib import suppress

from kanaleto.cli.output import say

_READ_S = 0.3
_YES = ("y", "yes")


def ask_yes(question: str) -> bool:
    """Ask on the terminal; what was typed before is thrown away, and what comes before it can have been read is asked
    again."""
    while True:
        forget_typed()
        say(question, err=True)
        shown_s = time.monotonic()
        answer = sys.stdin.readline()
        if not answer or time.monotonic() - shown_s >= _READ_S:
            return answer.strip().lower() in _YES
        say("that came before the question could be read:", err=True)


def forget_typed() -> None:
    """What the terminal holds, and what of it was read already."""
    with suppress(ImportError, OSError, ValueError):
        import termios

        termios.tcflush(sys.stdin.fileno(), termios.TCIFLUSH)
        while select.select([sys.stdin], [], [], 0)[0] and sys.stdin.readline():
            continue
