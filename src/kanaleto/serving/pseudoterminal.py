"""Pseudo-terminals, where the system has them: two ends of our own, set to pass every byte, and the rate that others
set there."""

import os

from kanaleto.serving.network import CannotServe

try:
    import termios
    import tty
except ImportError:  # this system has none
    termios = tty = None  # type: ignore[assignment]

_CODES = {
    int(name[1:]): getattr(termios, name)
    for name in dir(termios)
    if name[0] == "B" and name[1:].isdecimal() and name != "B0"
}
_RATES = {code: baud for baud, code in _CODES.items()}


def make_terminal(name: str, baud: int) -> tuple[int, int]:
    """Our end, which does not block, and the end for others; whoever sets no rate there has `baud`. Raises
    CannotServe, with the `name` of the line."""
    if termios is None:
        raise CannotServe(
            f"{name}: this system has no pseudo-terminals: a pair of ports is needed that are "
            "joined; name one of them, and give the master the other"
        )
    near, far = os.openpty()
    os.set_blocking(near, False)
    tty.setraw(near)
    tty.setraw(far)
    if baud in _CODES:
        settings = termios.tcgetattr(far)
        settings[4] = settings[5] = _CODES[baud]
        termios.tcsetattr(far, termios.TCSANOW, settings)
    return near, far


def rate_of(near: int) -> int | None:
    """What the other side has set; None for a rate without a code of its own."""
    return _RATES.get(termios.tcgetattr(near)[5])


def drop_unread(far: int) -> None:
    """What the other side did not read is gone."""
    termios.tcflush(far, termios.TCIFLUSH)
