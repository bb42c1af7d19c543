"""What a serial port itself counted: characters without a stop bit, with the wrong parity, and those that nobody
fetched in time. The system keeps these counts where its driver does; a pseudo-terminal and a port of another machine
have none."""

import struct

from msgspec import Struct

_ICOUNTER = struct.Struct("=11i9i")  # cts dsr rng dcd rx tx frame overrun parity brk buf_overrun, and what is reserved
_ASK = 0x545D  # TIOCGICOUNT
_MANY = 8


class PortCounters(Struct, frozen=True):
    """Characters; `overrun` are those lost in the port and in the buffer behind it."""

    framing: int = 0
    parity: int = 0
    overrun: int = 0

    def since(self, before: "PortCounters") -> "PortCounters":
        return PortCounters(
            self.framing - before.framing, self.parity - before.parity, self.overrun - before.overrun
        )  # fmt: skip

    def plus(self, other: "PortCounters") -> "PortCounters":
        return PortCounters(
            self.framing + other.framing, self.parity + other.parity, self.overrun + other.overrun
        )  # fmt: skip

    def __bool__(self) -> bool:
        return self != PortCounters()

    def __str__(self) -> str:
        """Those that are not zero, in words."""
        named = ((self.framing, "framing error"), (self.parity, "parity error"), (self.overrun, "overrun"))
        return ", ".join(f"{count} {word}{'s' if count != 1 else ''}" for count, word in named if count)


def read_counters(descriptor: int) -> PortCounters | None:
    """Since the driver was loaded; None where it counts nothing."""
    try:
        import fcntl
    except ImportError:  # not on this system
        return None
    counts = bytearray(_ICOUNTER.size)
    try:
        fcntl.ioctl(descriptor, _ASK, counts)
    except OSError:
        return None
    _, _, _, _, _, _, framing, overrun, parity, _, lost, *_ = _ICOUNTER.unpack(counts)
    return PortCounters(framing, parity, overrun + lost)


def port_text(name: str, counted: PortCounters | None, garbled: int) -> str:
    """What that says of a line where so many answers came garbled; empty where it says nothing."""
    if counted is None or not garbled or (not counted and garbled < _MANY):
        return ""
    if not counted:
        return (
            f"{name}: its port counted no error of framing or parity: rate and parity are right; answers overlap, or"
            " were damaged before they came to this line."
        )
    meant = []
    if counted.framing:
        meant.append("framing errors mean another rate or stop bits, or noise")
    if counted.parity:
        meant.append("parity errors mean another parity, or bits turned over on the way")
    if counted.overrun:
        meant.append("overruns mean that this machine fetched bytes too late: no fault of the line")
    return f"{name}: its port itself counted {counted}; {'; '.join(meant)}."
