"""The rows of Proof: a device, then its claims: expected, seen, error, how it stands, and since when."""

from collections.abc import Hashable, Sequence
from datetime import datetime

from msgspec import Struct

from kanaleto.board.board import Quality
from kanaleto.board.snapshot import Snapshot
from kanaleto.proof.claims import Claim, ClaimState, error_of, expected_at
from kanaleto.proof.sheet import ClaimKey, SheetLine
from kanaleto.proof.there import There
from kanaleto.site.model import Device, Point
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.readings import value_text
from kanaleto.tui.shared.rows import Rows

SHAPES = {
    ClaimState.PROVED: ("✓", "verdigris"), ClaimState.REHEARSED: ("◇", "sky"), ClaimState.FAILED: ("✕", "terracotta"),
    ClaimState.DISPUTED: ("≠", "violet"), ClaimState.AGAIN: ("↻", "ochre"), ClaimState.SKIPPED: ("–", "muted"),
    ClaimState.OPEN: ("◌", "muted"),
}  # fmt: skip


_WITH_WHO = 108
_TO_TAKE = (ClaimState.OPEN, ClaimState.AGAIN, ClaimState.DISPUTED)


class CheckedDevice(Struct, frozen=True):
    """The heading of a device; `left` of its `count` claims are still to be proved."""

    device: str
    count: int
    left: int


class ClaimRow(Struct, frozen=True):
    claim: Claim
    is_first: bool
    """Of its point: the name stands there once."""


class ThereRow(Struct, frozen=True):
    """Something that is not as the site says."""

    there: There


ProofRow = CheckedDevice | ClaimRow | ThereRow | None


class ProofRows(Rows[ProofRow]):
    DEFAULT_CSS = "ProofRows { width: 1fr; height: 1fr; scrollbar-size: 1 1; background: $background; }"
    points: dict[tuple[str, str], Point] = {}
    under_way: ClaimKey | None = None

    def fill(self, claims: Sequence[Claim], devices: Sequence[Device]) -> None:
        self.points = {(device.name, point.name): point for device in devices for point in device.points}
        by_device: dict[str, list[Claim]] = {}
        for claim in claims:
            by_device.setdefault(claim.key.device, []).append(claim)
        rows: list[ProofRow] = []
        for name, of_device in by_device.items():
            rows.append(CheckedDevice(name, len(of_device), sum(claim.is_left for claim in of_device)))
            before = ""
            for claim in of_device:
                text = claim.key.point or claim.key.claim
                rows.append(ClaimRow(claim, text != before))
                before = text
            rows.append(None)
        self.set_rows(rows)

    def may_rest(self, row: ProofRow) -> bool:
        return isinstance(row, ClaimRow | CheckedDevice | ThereRow)

    def identity(self, row: ProofRow) -> Hashable:
        if isinstance(row, ClaimRow):
            return row.claim.key
        if isinstance(row, ThereRow):
            return row.there
        return row.device if isinstance(row, CheckedDevice) else None

    def fill_there(self, found: Sequence[There]) -> None:
        """What differs, instead of the claims."""
        self.set_rows([ThereRow(one) for one in found])

    def draw(self, row: ProofRow, width: int, ground: str) -> Cells:
        cells = Cells(self.palette, ground).put(" ")
        if isinstance(row, CheckedDevice):
            shape, tone = ("◌", "muted") if row.left else ("●", "verdigris")
            cells.put(f"{shape} ", tone).put(row.device, bold=True)
            return cells.put(f"  {row.left} of {row.count} to go" if row.left else f"  all {row.count} done", "muted")
        if isinstance(row, ClaimRow):
            self._claim(cells, row, width)
        if isinstance(row, ThereRow):
            self._there(cells, row.there, width)
        return cells

    def _there(self, cells: Cells, one: There, width: int) -> None:
        cells.put("✕ " if one.outcome == "silent" else "≠ ", "terracotta" if one.outcome == "silent" else "ochre")
        who = f"{one.device}/{one.point}" if one.point else one.device or one.line
        cells.put(who, "ink", min(36, max(width // 3, 12))).put(f" {one.what}", "muted", 11)
        text = f"silent: {one.found}" if one.outcome == "silent" else f"noted {one.expected}, found {one.found}"
        cells.put(text, "ink", max(width - cells.width - 1, 4))

    def _claim(self, cells: Cells, row: ClaimRow, width: int) -> None:
        claim, key = row.claim, row.claim.key
        point, line = self.points.get((key.device, key.point)), row.claim.line
        name, level, value, error = column_widths(width)
        cells.put("  ").put(title_of(key) if row.is_first else "", "ink", name)
        cells.put(f" {key.level}{' left' if key.when == 'left' else ''}", "muted", level)
        cells.put(expected_text(claim, point), "ink", value, right=True)
        cells.put(
            self._seen(claim, point), "ink" if line is not None else "muted", value, right=True, bold=line is not None
        )
        if error:
            off = error_of(line, point) if line is not None else None
            cells.put(f"{off:+.2f} %" if off is not None else "", "muted", error, right=True)
        shape, tone = SHAPES[claim.state]
        word = "made good" if claim.is_made_good else claim.state.value
        word = "looking …" if self.under_way == key else "no point any more" if claim.is_gone else word
        cells.put(f"  {shape} {word}", tone, 14)
        if line is not None and width >= _WITH_WHO:
            cells.put(f" {_when(line)}", "sky", 9).put(f" {line.who}", "muted", max(width - cells.width - 1, 0))

    def _seen(self, claim: Claim, point: Point | None) -> str:
        line = claim.line
        if line is not None:
            return seen_text(line, point)
        place = self.snapshot.place_of((claim.key.device, claim.key.point)) if claim.key.point else None
        if place is None or claim.key.claim not in ("value", "state"):
            return ""
        reading = self.snapshot.reading(place)
        return f"{value_text(place.point, reading)} now" if reading.quality is Quality.GOOD else "not read"

    def head(self, width: int) -> Cells:
        name, level, value, error = column_widths(width)
        cells = Cells(self.palette).put("   point", "muted", name + 3).put(" level", "muted", level)
        cells.put("expected", "muted", value, right=True).put("seen", "muted", value, right=True)
        return cells.put("of span" if error else "", "muted", error, right=True).put("    stands", "muted")


def column_widths(width: int) -> tuple[int, int, int, int]:
    """Of name, level, values and error; 0 leaves it out."""
    error = 10 if width >= 84 else 0
    level = 13 if width >= 84 else 11
    value = 15 if width >= 100 else 13
    left = width - 4 - level - 2 * value - error - 14 - (22 if width >= _WITH_WHO else 0)
    return max(min(left, 30), 10), level, value, error


def title_of(key: ClaimKey) -> str:
    if key.point:
        return f"{key.point} (write)" if key.claim == "write" else key.point
    return "cable pulled" if key.claim == "loss" else f"{key.claim} {key.level}"


def expected_text(claim: Claim, point: Point | None) -> str:
    line, key = claim.line, claim.key
    unit = f" {point.unit}" if point is not None and point.unit else ""
    if line is not None and line.expected is not None:
        return f"{line.expected:.6g}{unit}" if isinstance(line.expected, int | float) else line.expected
    if key.claim == "state":
        return key.level
    if key.claim == "limit" and point is not None:
        limit = getattr(point.limits, key.level, None)
        return f"{limit:g}{unit}" if isinstance(limit, int | float) else ""
    if key.claim == "loss":
        return "back by itself"
    level = expected_at(point, key.level) if point is not None else None
    return f"{level:g}{unit}" if level is not None else ""


def seen_text(line: SheetLine, point: Point | None) -> str:
    unit = f" {point.unit}" if point is not None and point.unit else ""
    if line.seen is None:
        return "by hand"
    return f"{line.seen:.6g}{unit}" if isinstance(line.seen, int | float) else line.seen


def moment_of(line: SheetLine) -> datetime | None:
    """Local time; None where it is none."""
    try:
        return datetime.fromisoformat(line.at.replace("Z", "+00:00")).astimezone()
    except ValueError:
        return None


def _when(line: SheetLine) -> str:
    at = moment_of(line)
    if at is None:
        return line.at[:8]
    return f"{at:%H:%M:%S}" if at.date() == datetime.now().astimezone().date() else f"{at:%d %b}"


def next_left(rows: Sequence[ProofRow], after: int) -> int | None:
    """The next row, round to the first, whose claim nobody has taken yet or must be taken again; where there is none
    the next that failed."""
    count = len(rows)
    for states in (_TO_TAKE, (ClaimState.FAILED,)):
        for step in range(1, count + 1):
            row = rows[(after + step) % count]
            if isinstance(row, ClaimRow) and row.claim.is_left and row.claim.state in states:
                return (after + step) % count
    return None


def key_here(row: ProofRow) -> ClaimKey | None:
    return row.claim.key if isinstance(row, ClaimRow) else None


def device_here(row: ProofRow) -> str:
    if isinstance(row, ClaimRow):
        return row.claim.key.device
    if isinstance(row, ThereRow):
        return row.there.device
    return row.device if isinstance(row, CheckedDevice) else ""


def of_snapshot(snapshot: Snapshot) -> list[Device]:
    return [device for _, device in snapshot.site.devices()]
