"""Bridges of a site: at which links masters are heard, and which unit ID there is which unit on which line; with what
is served over TLS."""

from enum import Enum
from pathlib import Path

from msgspec import Struct

from kanaleto.site.counting import Numbering
from kanaleto.site.links.link import Link
from kanaleto.values.codec import Codec
from kanaleto.wire.codes import Table


class TlsServing(Struct, frozen=True):
    """With what a TLS line is served: certificate, key, and the authority that clients must be signed by; functions a
    role may use."""

    cert: Path
    key: Path
    ca: Path | None = None
    roles: tuple[tuple[str, tuple[int, ...]], ...] = ()


class RouteAccess(Enum):
    """What a route passes; the value is the word of the site file."""

    READ = "read"
    WRITE = "write"


class BridgeTarget(Struct, frozen=True):
    """Where a unit of a bridge leads: a line by its name, and the unit ID there."""

    line: str
    unit_id: int


class Route(Struct, frozen=True):
    """`targets` are those of `units`, one each. `functions` and `addresses` (table, first and last on the wire) narrow
    what passes; None and nothing are all."""

    units: tuple[int, ...]
    targets: tuple[BridgeTarget, ...]
    access: RouteAccess = RouteAccess.READ
    functions: tuple[int, ...] | None = None
    addresses: tuple[tuple[Table, int, int], ...] = ()
    retries: int = 0
    probe_s: float = 2.0


class ComposedRow(Struct, frozen=True):
    """One value of a composed device: where it stands there, in which type, order and scale, and whose value it is: a
    point's, by device and name (a derived one's has no device)."""

    name: str
    table: Table
    address: int
    end: int
    codec: Codec
    decimals: int | None
    device: str
    point: str
    sources: tuple[str, ...]
    """The devices that it comes from: several of an expression."""
    is_written: bool = False


class Composed(Struct, frozen=True):
    """A device that is put together from points of others. `stale` is what stands for a value that is not good any
    more: the last one, an exception, or that number. `status` is the first of as many registers as it has source
    devices, and as many again. `numbering` is how its map counts."""

    unit_id: int
    rows: tuple[ComposedRow, ...]
    stale: str | float = "exception"
    stale_after_s: float = 10.0
    status: tuple[Table, int] | None = None
    numbering: Numbering = Numbering.PROTOCOL

    @property
    def sources(self) -> tuple[str, ...]:
        """Its source devices in the order of the map."""
        return tuple(dict.fromkeys(device for row in self.rows for device in row.sources))


class Pass(Struct, frozen=True):
    """A value that is passed on by itself: whose (a derived one's has no device), into which point, how often or (where
    `every_s` is None) when it changes, under which condition (a derived point), and what stands for a value that is not
    good: nothing, or a number that is written once."""

    device: str
    point: str
    to_device: str
    to_point: str
    every_s: float | None = None
    condition: str = ""
    stale: str | float = "hold"

    @property
    def title(self) -> str:
        return f"{self.to_device}/{self.to_point}"


class Bridge(Struct, frozen=True):
    """One way in, or several, and its routes."""

    name: str
    listen: tuple[Link, ...]
    routes: tuple[Route, ...] = ()
    clients: tuple[str, ...] = ()
    patience_s: float = 1.0
    waiting: int = 8
    share_s: float = 0.0
    broadcast: bool = False
    tls_serving: TlsServing | None = None
    devices: tuple[Composed, ...] = ()
    passes: tuple[Pass, ...] = ()

    def route_of(self, unit_id: int) -> tuple[Route, BridgeTarget] | None:
        """By which route a unit ID goes, and where to."""
        for route in self.routes:
            if unit_id in route.units:
                return route, route.targets[route.units.index(unit_id)]
        return None

    def composed(self, unit_id: int) -> Composed | None:
        return next((device for device in self.devices if device.unit_id == unit_id), None)

    @property
    def lines(self) -> tuple[str, ...]:
        """Names of all lines that a route leads to."""
        return tuple(dict.fromkeys(target.line for route in self.routes for target in route.targets))
