"""The shape of the site file: which keys there are, and what each may be (contract of the site file)."""

import math
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field

from kanaleto.site.model import DEMAND


def _period(value: Any) -> float:
    if value == "demand":
        return DEMAND
    if (
        isinstance(value, bool)
        or not isinstance(value, int | float)
        or not (value == 0 or 0.001 <= value <= 86400 * 31)
        or not math.isfinite(value)
    ):
        raise ValueError('is seconds (0, or 0.001 up to a month), or "demand"')
    return float(value)


Seconds = Annotated[float, Field(ge=0, le=86400, allow_inf_nan=False)]
SomeSeconds = Annotated[float, Field(gt=0, le=86400, allow_inf_nan=False)]
Period = Annotated[float, BeforeValidator(_period)]
Name = Annotated[str, Field(min_length=1, max_length=200)]


MostPoints = Annotated[int, Field(ge=1, le=1_000_000)] | None
Writing = Literal["unlock", "confirm", "never"] | None
FORMAT = 1
"""Of the site file; what is newer may mean something else."""


def _format(value: int) -> int:
    if value != FORMAT:
        newer = "is newer than this Kanaleto reads" if value > FORMAT else "is no format of a site file"
        raise ValueError(f"{newer}: it reads {FORMAT}")
    return value


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True, allow_inf_nan=False)


class OwnNumberingTable(_Strict):
    base: Annotated[int, Field(ge=-65535, le=65535)] = 0
    group: Annotated[int, Field(ge=0, le=65535)] = 0
    index: Annotated[int, Field(ge=1, le=65535)] = 1


class ScaleTable(_Strict):
    factor: float | None = None
    offset: float | None = None
    raw_low: float | None = None
    raw_high: float | None = None
    eng_low: float | None = None
    eng_high: float | None = None
    curve: str = ""
    signal: str = ""
    clamp: bool = False


class DerivedTable(_Strict):
    name: Name
    formula: Annotated[str, Field(min_length=1, max_length=4000)]
    unit: str = ""
    decimals: Annotated[int, Field(ge=0, le=12)] | None = None
    range_low: float | None = None
    range_high: float | None = None
    warn_low: float | None = None
    warn_high: float | None = None
    alarm_low: float | None = None
    alarm_high: float | None = None
    note: str = ""


class BehavesTable(_Strict):
    strict: bool = False


class DeviceTable(_Strict):
    name: Name
    unit_id: Annotated[int, Field(ge=0, le=255)]
    map: str | None = None
    numbering: Literal["protocol", "one", "reference"] = "protocol"
    own_numbering: OwnNumberingTable | None = None
    order: str | None = None
    period_s: Period | None = None
    max_registers: Annotated[int, Field(ge=1, le=125)] = 125
    max_bits: Annotated[int, Field(ge=1, le=2000)] = 2000
    max_write_registers: Annotated[int, Field(ge=1, le=123)] = 123
    max_write_bits: Annotated[int, Field(ge=1, le=1968)] = 1968
    max_gap: Annotated[int, Field(ge=0, le=124)] = 0
    functions: list[Annotated[int, Field(ge=1, le=127)]] | None = None
    write_with: Literal["auto", "single", "multiple"] = "auto"
    never_read: list[str] = []
    watchdog_s: SomeSeconds | None = None
    enabled: bool = True
    enabled_by: str = ""
    timeout_s: SomeSeconds | None = None
    retries: Annotated[int, Field(ge=0, le=20)] | None = None
    pause_after_connect_s: Seconds = 0.0
    pause_after_write_s: Seconds = 0.0
    baud: Annotated[int, Field(ge=50, le=4_000_000)] | None = None
    parity: Literal["none", "even", "odd"] | None = None
    stop: Annotated[int, Field(ge=1, le=2)] | None = None
    gaps: Literal["refuse", "zero"] = "refuse"
    identity: dict[str, str] = {}
    server_id: Annotated[str, Field(max_length=100)] = ""
    files: list[str] = []
    fifos: dict[str, list[Annotated[int, Field(ge=0, le=0xFFFF)]]] = {}
    behaves: BehavesTable = BehavesTable()
    max_points: MostPoints = None
    writing: Writing = None
    tag: str = ""
    note: str = ""


class LineTable(_Strict):
    name: Name
    link: str
    max_points: MostPoints = None
    writing: Writing = None
    prefer_port: str = ""
    timeout_s: SomeSeconds = 1.0
    retries: Annotated[int, Field(ge=0, le=20)] = 1
    gap_s: Seconds = 0.0
    connect_timeout_s: SomeSeconds = 3.0
    reconnect_s: SomeSeconds = 1.0
    in_flight: Annotated[int, Field(ge=1, le=16)] = 1
    connection: Literal["keep", "request"] = "keep"
    serve_cert: str | None = None
    serve_key: str | None = None
    serve_ca: str | None = None
    roles: dict[str, list[Annotated[int, Field(ge=1, le=127)]]] = {}
    device: list[DeviceTable] = []


class SiteTable(_Strict):
    name: Name
    format: Annotated[int, AfterValidator(_format)] = FORMAT
    max_points: MostPoints = None
    writing: Writing = None
    period_s: Period = 1.0


class SiteFile(_Strict):
    site: SiteTable
    constants: dict[str, float] = {}
    scale: dict[str, ScaleTable] = {}
    states: dict[str, dict[str, str]] = {}
    line: list[LineTable] = []
    derived: list[DerivedTable] = []


KEYS: dict[str, list[str]] = {
    "file": list(SiteFile.model_fields),
    "site": list(SiteTable.model_fields),
    "line": list(LineTable.model_fields),
    "device": list(DeviceTable.model_fields),
    "scale": list(ScaleTable.model_fields),
    "derived": list(DerivedTable.model_fields),
    "behaves": list(BehavesTable.model_fields),
    "own_numbering": list(OwnNumberingTable.model_fields),
}
