"""What every link answers for itself, whatever its kind. A kind of link is a class of this in a file of its own.

Nobody else asks what kind a link is, but where its channel (`lines.opening`) and its server (`serving.opening`) are
made.
"""

from enum import Enum
from pathlib import Path

from msgspec import Struct

from kanaleto.site.links.cost import NETWORK_BYTE_S, ROUND_TRIP_S, THINKING_S, LineCost
from kanaleto.wire.ascii import LINE_FEED


class FramingKind(Enum):
    RTU = "rtu"
    ASCII = "ascii"
    TCP = "tcp"


class Parity(Enum):
    NONE = "none"
    EVEN = "even"
    ODD = "odd"


class SerialSettings(Struct, frozen=True):
    """Baud in bits a second, data and stop bits, parity."""

    baud: int = 19200
    parity: Parity = Parity.EVEN
    stop: int = 1
    data: int = 8

    @property
    def character_bits(self) -> int:
        """Bits on the wire for one character, start bit included."""
        return 1 + self.data + (self.parity is not Parity.NONE) + self.stop

    @property
    def character_s(self) -> float:
        return self.character_bits / self.baud

    @property
    def gap_s(self) -> float:
        """Silence between frames: 3.5 characters, fixed at 1.75 ms above 19 200 baud (serial line 1.02, 2.5.1.1)."""
        return 0.00175 if self.baud > 19200 else 3.5 * self.character_s

    def __str__(self) -> str:
        return f"{self.baud} {self.data}{self.parity.value[0].upper()}{self.stop}"


class Link(Struct, frozen=True):
    """How a line is reached; `str` of it is its LINK text. What stands here is true of a network."""

    @property
    def scheme(self) -> str:
        """What stands before `://` in its LINK text."""
        raise NotImplementedError

    @property
    def framing(self) -> FramingKind:
        return FramingKind.TCP

    @property
    def place(self) -> str:
        """What a person calls it; two lines of one place cannot both be polled."""
        raise NotImplementedError

    @property
    def title(self) -> str:
        """A short name for a line that has none."""
        return self.place

    @property
    def where(self) -> tuple[str, ...]:
        """The same for all links that lead to the same port, whatever else they say."""
        raise NotImplementedError

    @property
    def address(self) -> tuple[str, int] | None:
        """Host and port of the far end in the network."""
        return None

    @property
    def delimiter(self) -> int:
        """What ends a request in ASCII."""
        return LINE_FEED

    @property
    def has_echo(self) -> bool | None:
        """Whether what is sent comes back first; None where nobody has said so, and it is found out by reads."""
        return False

    @property
    def settings(self) -> SerialSettings | None:
        """Baud rate, parity and bits of a serial line; None on a network."""
        return None

    @property
    def is_serial(self) -> bool:
        return self.settings is not None

    @property
    def character_s(self) -> float:
        """How long a character lasts on the wire; 0 where that is not known."""
        return self.settings.character_s if self.settings is not None else 0.0

    @property
    def serial_port(self) -> str | None:
        """The serial port, which has one master at a time."""
        return None

    @property
    def local_port(self) -> str | None:
        """The serial port where it is one of this machine."""
        return None

    @property
    def setup(self) -> str:
        """Framing and settings of a serial line, of others the LINK text."""
        return f"{self.framing.value.upper()} {self.settings}" if self.is_serial else str(self)

    @property
    def has_transactions(self) -> bool:
        """Whether several requests can be under way at once, distinguished by their number."""
        return False

    @property
    def may_repeat_units(self) -> bool:
        """Whether one unit ID may mean two devices: a gateway asks one of several lines."""
        return False

    def with_serial(self, settings: SerialSettings, framing: FramingKind) -> "Link":
        """The same port with other settings. Raises ValueError where it has none."""
        raise ValueError(f"{self.place} is no serial line, and has no settings")

    def at_home(self, port_path: str, port: int, is_secured: bool) -> "Link":
        """The same kind of link with its far end on this machine: a pseudo-terminal at that path, or that port of the
        loopback address; inside TLS only where it `is_secured`."""
        raise NotImplementedError

    def beside(self, folder: Path) -> "Link":
        """With its relative paths, of a port or of certificates, beside the site file in that folder."""
        return self

    @property
    def assumed_s(self) -> float:
        """The part of a request's cost that is only assumed: how long the far end takes."""
        return ROUND_TRIP_S

    def cost(self, gap_s: float = 0.0, thinking_s: float = THINKING_S) -> LineCost:
        """What requests cost; `gap_s` is the line's own least gap, `thinking_s` how long its devices take to begin an
        answer."""
        return LineCost(ROUND_TRIP_S + gap_s, NETWORK_BYTE_S)


def is_same_place(one: Link, other: Link) -> bool:
    """Whether both lead to the same port of a host, or the same serial port, whatever else they say."""
    return one.where == other.where


LOOPBACK = "127.0.0.1"
_THIS_MACHINE = ("localhost", "127.0.0.1", "::1", "0.0.0.0")


def is_loopback(host: str) -> bool:
    """Whether an address is this machine's alone."""
    host = host.lower().rstrip(".")
    return host in ("localhost", "::1") or host.startswith("127.")


def network_place(host: str, port: int) -> str:
    return f"[{host}]:{port}" if ":" in host else f"{host}:{port}"


def network_where(host: str, port: int) -> tuple[str, ...]:
    """The same for all names of this machine."""
    host = host.lower().rstrip(".")
    return (_THIS_MACHINE[0] if host in _THIS_MACHINE else host, str(port))
