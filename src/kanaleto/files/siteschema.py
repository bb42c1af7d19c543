"""The shape of the site file: which keys there are, and what each may be (contract of the site file). What stands in
the file is made into these tables in one go; only where that fails is it looked at key by key (`files.shape`)."""

import math
from typing import Annotated, Literal

from msgspec import Meta, Struct

from kanaleto.site.model import DEMAND

FORMAT = 1
"""Of the site file; what is newer may mean something else."""
MOST_SECONDS = 86400
LONGEST_PERIOD_S = 86400 * 31

Seconds = Annotated[float, Meta(ge=0, le=MOST_SECONDS)]
SomeSeconds = Annotated[float, Meta(gt=0, le=MOST_SECONDS)]
Period = float | str
"""As it stands in the file; `seconds_of` says what it means."""
Name = Annotated[str, Meta(min_length=1, max_length=200)]
MostPoints = Annotated[int, Meta(ge=1, le=1_000_000)] | None
Writing = Literal["unlock", "confirm", "never"] | None
FunctionCode = Annotated[int, Meta(ge=1, le=127)]


def seconds_of(period: Period) -> float:
    """A period in seconds. Raises ValueError."""
    if period == "demand":
        return DEMAND
    if isinstance(period, str) or not (period == 0 or 0.001 <= period <= LONGEST_PERIOD_S) or not math.isfinite(period):
        raise ValueError('is seconds (0, or 0.001 up to a month), or "demand"')
    return float(period)


def check_format(number: int) -> None:
    """Raises ValueError for another format of the site file than this."""
    if number != FORMAT:
        newer = "is newer than this Kanaleto reads" if number > FORMAT else "is no format of a site file"
        raise ValueError(f"{newer}: it reads {FORMAT}")


class TomlTable(Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One table of the file."""


class OwnNumberingTable(TomlTable, frozen=True):
    base: Annotated[int, Meta(ge=-65535, le=65535)] = 0
    group: Annotated[int, Meta(ge=0, le=65535)] = 0
    index: Annotated[int, Meta(ge=1, le=65535)] = 1


class ScaleTable(TomlTable, frozen=True):
    factor: float | None = None
    offset: float | None = None
    raw_low: float | None = None
    raw_high: float | None = None
    eng_low: float | None = None
    eng_high: float | None = None
    curve: str = ""
    signal: str = ""
    clamp: bool = False


class DerivedTable(TomlTable, frozen=True):
    name: Name
    formula: Annotated[str, Meta(min_length=1, max_length=4000)]
    unit: str = ""
    decimals: Annotated[int, Meta(ge=0, le=12)] | None = None
    range_low: float | None = None
    range_high: float | None = None
    warn_low: float | None = None
    warn_high: float | None = None
    alarm_low: float | None = None
    alarm_high: float | None = None
    hysteresis: Annotated[float, Meta(ge=0)] = 0.0
    delay_s: Annotated[float, Meta(ge=0, le=86400)] = 0.0
    note: str = ""


class BehavesTable(TomlTable, frozen=True):
    strict: bool = False
    delay_ms: float | list[float] = 0.0
    receive_bytes: Annotated[int, Meta(ge=4, le=1000)] | None = None
    too_long: Literal["exception", "silent", "02"] = "exception"
    connections: Annotated[int, Meta(ge=1, le=400)] | None = None
    with_more: Literal["refused", "oldest"] = "refused"
    idle_s: SomeSeconds | None = None
    settings_after: Literal["at once", "power"] = "at once"
    errors_in: str = ""


FormulaText = Annotated[str, Meta(min_length=1, max_length=4000)]


class MoveTable(TomlTable, frozen=True, rename={"condition": "while", "list_file": "list"}):
    """What moves a point: one of `wave`, `follow`, `formula`, `counts_s`, `list`, `clock`, `walk`, with the keys of
    that kind."""

    wave: Literal["sine", "triangle", "square", "saw"] | None = None
    low: float | None = None
    high: float | None = None
    period_s: SomeSeconds | None = None
    phase_s: float | None = None
    follow: str | None = None
    rate: Annotated[float, Meta(gt=0)] | None = None
    lag_s: Seconds | None = None
    formula: FormulaText | None = None
    counts_s: SomeSeconds | None = None
    by: float | None = None
    list_file: str | None = None
    column: str | None = None
    every_s: SomeSeconds | Literal["at"] | None = None
    then: Literal["again", "hold"] | None = None
    clock: Literal["unix", "ymdhms"] | None = None
    walk: Annotated[float, Meta(ge=0)] | None = None
    noise: Annotated[float, Meta(ge=0)] = 0.0
    condition: str = ""


class QuantityTable(TomlTable, frozen=True):
    next: FormulaText
    start: float = 0.0
    low: float | None = None
    high: float | None = None


class StateTable(TomlTable, frozen=True):
    bits: list[str | int] | None = None
    value: str | float | None = None
    to: dict[str, FormulaText] = {}
    after_s: Seconds = 0.0


class DeviceTable(TomlTable, frozen=True):
    name: Name
    unit_id: Annotated[int, Meta(ge=0, le=255)]
    map: str | None = None
    numbering: Literal["protocol", "one", "reference"] = "protocol"
    own_numbering: OwnNumberingTable | None = None
    order: str | None = None
    period_s: Period | None = None
    max_registers: Annotated[int, Meta(ge=1, le=125)] = 125
    max_bits: Annotated[int, Meta(ge=1, le=2000)] = 2000
    max_write_registers: Annotated[int, Meta(ge=1, le=123)] = 123
    max_write_bits: Annotated[int, Meta(ge=1, le=1968)] = 1968
    max_gap: Annotated[int, Meta(ge=0, le=124)] = 0
    functions: list[FunctionCode] | None = None
    write_with: Literal["auto", "single", "multiple"] = "auto"
    never_read: list[str] = []
    watchdog_s: SomeSeconds | None = None
    enabled: bool = True
    enabled_by: str = ""
    timeout_s: SomeSeconds | None = None
    retries: Annotated[int, Meta(ge=0, le=20)] | None = None
    pause_after_connect_s: Seconds = 0.0
    pause_after_write_s: Seconds = 0.0
    baud: Annotated[int, Meta(ge=50, le=4_000_000)] | None = None
    parity: Literal["none", "even", "odd"] | None = None
    stop: Annotated[int, Meta(ge=1, le=2)] | None = None
    gaps: Literal["refuse", "zero"] = "refuse"
    identity: dict[str, str] = {}
    server_id: Annotated[str, Meta(max_length=100)] = ""
    files: list[str] = []
    fifos: dict[str, list[Annotated[int, Meta(ge=0, le=0xFFFF)]]] = {}
    behaves: BehavesTable = BehavesTable()
    moves: dict[str, MoveTable] = {}
    quantity: dict[str, QuantityTable] = {}
    machine: dict[str, dict[str, StateTable]] = {}
    max_points: MostPoints = None
    writing: Writing = None
    tag: str = ""
    note: str = ""


class WiringTable(TomlTable, frozen=True):
    order: list[Name] = []
    terminators: list[Name] = []
    bias: str = ""
    wires: Annotated[int, Meta(ge=2, le=4)] | None = None
    length_m: Annotated[float, Meta(gt=0, le=100_000)] | None = None
    note: str = ""


class LineTable(TomlTable, frozen=True):
    name: Name
    link: str
    max_points: MostPoints = None
    writing: Writing = None
    prefer_port: str = ""
    origin: Literal["", "real", "stand-in", "replay", "bridge", "overheard"] = ""
    timeout_s: SomeSeconds = 1.0
    retries: Annotated[int, Meta(ge=0, le=20)] = 1
    gap_s: Seconds = 0.0
    connect_timeout_s: SomeSeconds = 3.0
    reconnect_s: SomeSeconds | None = None
    in_flight: Annotated[int, Meta(ge=1, le=16)] = 1
    connection: Literal["keep", "request"] = "keep"
    serve_cert: str | None = None
    serve_key: str | None = None
    serve_ca: str | None = None
    roles: dict[str, list[FunctionCode]] = {}
    wiring: WiringTable = WiringTable()
    device: list[DeviceTable] = []


class RouteTable(TomlTable, frozen=True):
    units: Annotated[int, Meta(ge=0, le=255)] | str
    to: str | list[str]
    there: Annotated[int, Meta(ge=0, le=255)] | str | None = None
    access: Literal["read", "write"] = "read"
    functions: list[FunctionCode] | None = None
    addresses: list[str] = []
    retries: Annotated[int, Meta(ge=0, le=20)] = 0
    probe_s: SomeSeconds = 2.0


class ComposedTable(TomlTable, frozen=True):
    unit_id: Annotated[int, Meta(ge=0, le=255)]
    map: str
    numbering: Literal["protocol", "one", "reference"] = "protocol"
    order: str | None = None
    stale: Literal["last", "exception"] | float = "exception"
    stale_after_s: SomeSeconds = 10.0
    status: str = ""


class PassTable(TomlTable, frozen=True, rename={"source": "from", "condition": "while"}):
    source: Annotated[str, Meta(min_length=1, max_length=4000)]
    to: Name
    every_s: SomeSeconds | None = None
    change: bool = False
    condition: str = ""
    stale: Literal["hold"] | float = "hold"


class BridgeTable(TomlTable, frozen=True, rename={"passes": "pass"}):
    name: Name
    listen: str | list[str]
    serve_cert: str | None = None
    serve_key: str | None = None
    serve_ca: str | None = None
    roles: dict[str, list[FunctionCode]] = {}
    clients: list[str] = []
    patience_s: SomeSeconds = 1.0
    waiting: Annotated[int, Meta(ge=1, le=1000)] = 8
    share_s: Seconds = 0.0
    broadcast: bool = False
    route: list[RouteTable] = []
    device: list[ComposedTable] = []
    passes: list[PassTable] = []


class SiteTable(TomlTable, frozen=True):
    name: Name
    format: int = FORMAT
    max_points: MostPoints = None
    writing: Writing = None
    period_s: Period = 1.0
    bench_seed: int = 0
    lay_aside: list[Annotated[str, Meta(max_length=4000)]] | None = None
    keep_days: Annotated[int, Meta(ge=1, le=36500)] = 400
    keep_mb: Annotated[int, Meta(ge=10, le=1_000_000)] = 2000


class SiteFile(TomlTable, frozen=True):
    site: SiteTable
    constants: dict[str, float] = {}
    scale: dict[str, ScaleTable] = {}
    states: dict[str, dict[str, str]] = {}
    line: list[LineTable] = []
    derived: list[DerivedTable] = []
    bridge: list[BridgeTable] = []


KEYS: dict[str, list[str]] = {
    "file": list(SiteFile.__struct_fields__),
    "site": list(SiteTable.__struct_fields__),
    "line": list(LineTable.__struct_fields__),
    "device": list(DeviceTable.__struct_fields__),
    "scale": list(ScaleTable.__struct_fields__),
    "derived": list(DerivedTable.__struct_fields__),
    "behaves": list(BehavesTable.__struct_fields__),
    "own_numbering": list(OwnNumberingTable.__struct_fields__),
}
