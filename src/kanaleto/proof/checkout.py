"""The checkout of a site: its sheet on disk, all claims as they stand, and what is kept there."""

import asyncio
import math
from collections.abc import Collection, Iterable, Sequence
from pathlib import Path
from threading import RLock

from kanaleto.control.condition import ConditionFailed
from kanaleto.control.routine import ProveWanted
from kanaleto.editing.presence import user_name
from kanaleto.files.beside import folder_beside
from kanaleto.polling.session import Session
from kanaleto.proof.claims import Claim, ClaimState, claims_of, kind_of, replacing
from kanaleto.proof.sheet import NAME, CannotKeep, CheckoutSheet, ClaimKey, SheetLine, append, merged, read_sheet
from kanaleto.proof.taking import Expected, NoEvidence, expected_by_itself, expected_of, iso_of, judged, read_now
from kanaleto.site.filefaults import suggestion
from kanaleto.site.model import Device, Line, Point, Site
from kanaleto.site.proving import Tolerance, parse_tolerance
from kanaleto.values.digits import number


def sheet_path(site: Path) -> Path:
    return folder_beside(site) / NAME


class Checkout:
    """The sheet of a site, read once and read again where somebody else has appended. For whoever has its `turn`."""

    def __init__(self, site: Site, path: Path) -> None:
        """`path` is the sheet. Raises CannotKeep where it is none."""
        self.site = site
        self.turn = RLock()
        self.sheet: CheckoutSheet = read_sheet(path)

    def look(self) -> bool:
        """Read it again where its size is another; whether it was. Raises CannotKeep."""
        path = self.sheet.path
        size = path.stat().st_size if path.exists() else 0
        if size == self.sheet.size:
            return False
        self.sheet = read_sheet(path)
        return True

    def claims(self, devices: Collection[str] = (), chosen: Iterable[ClaimKey] = ()) -> list[Claim]:
        return claims_of(self.site, self.sheet.lines, devices, chosen)

    def keep(self, lines: Sequence[SheetLine], now_s: float) -> None:
        """Append; on disk when it returns. Raises CannotKeep."""
        if not lines:
            return
        sheet = self.sheet
        added = append(sheet.path, self.site.name, iso_of(now_s), lines)
        if sheet.size and sheet.path.stat().st_size == sheet.size + added:  # nobody else, and nothing torn, between
            sheet.lines += lines
            sheet.size += added
        else:
            self.sheet = read_sheet(sheet.path)

    def merge(self, other: Path, now_s: float) -> int:
        """Take the lines of another sheet; how many were new. Raises CannotKeep."""
        if not other.exists():
            raise CannotKeep(f"{other}: there is no such sheet")
        theirs = read_sheet(other)
        lines = merged(self.sheet, theirs)
        self.keep(lines, now_s)
        self.sheet.messages += theirs.messages
        return len(lines)

    def gone(self, claims: Sequence[Claim]) -> list[str]:
        """What the sheet has of points that are no more, in words."""
        return [
            f"{claim.key}: no point of the site any more, its lines stay in the sheet"
            for claim in claims
            if claim.is_gone
        ]


def find_point(site: Site, text: str) -> tuple[Line, Device, Point]:
    """`Device/Point`. Raises ValueError."""
    known: list[str] = []
    for line, device in site.devices():
        for point in device.points:
            name = f"{device.name}/{point.name}"
            if name == text:
                return line, device, point
            known.append(name)
    raise ValueError(f"{text!r} is no point of this site{suggestion(text, known)}")


def key_for(point: Point, device: str, level: str, is_left: bool) -> ClaimKey:
    """The claim that a value at that level (empty: once) belongs to."""
    level = level.strip()
    if level.endswith("%"):
        try:
            share = number(level[:-1].strip().replace(",", "."))
        except ValueError:
            share = math.inf
        if not math.isfinite(share):
            raise ValueError(f"level {level!r} must read like 25 %")
        level = f"{share:g} %"
    return ClaimKey(kind_of(point), device, point.name, level, "left" if is_left else "found")


async def take(
    checkout: Checkout, session: Session, line: Line, device: Device, point: Point, key: ClaimKey, expected: Expected,
    who: str = "", note: str = "",
) -> SheetLine:  # fmt: skip
    """One fresh reading, judged and kept. Raises NoEvidence, CannotKeep, ValueError."""
    seen = await read_now(session, line, device, point)
    who = who or user_name()

    def keep() -> SheetLine:
        with checkout.turn:
            checkout.look()
            replaces = replacing(checkout.claims([device.name]), key, checkout.sheet.lines, who)
            made = judged(key, point, seen, expected, who, note, replaces)
            checkout.keep([made], session.clock.now())
            return made

    return await asyncio.to_thread(keep)  # a disk may be slow


def expectation(point: Point, key: ClaimKey, text: str, tolerance: Tolerance | None) -> Expected:
    """What is expected: what was typed, or what the claim says itself. Raises ValueError."""
    text = text.strip() or expected_by_itself(point, key)
    if not text:
        raise ValueError(f"what does {point.name} show there? Type what its display says")
    if key.claim == "state" and key.level:
        if text.casefold() != key.level.casefold() and str(expected_of(point, text, None).value) != key.level:
            raise ValueError(f"{point.name} at {key.level} is to show {key.level}, not {text}")
        return Expected(key.level, Tolerance(0.0))
    return expected_of(point, text, tolerance)


def state_of(claims: Sequence[Claim], key: ClaimKey) -> ClaimState:
    return next((claim.state for claim in claims if claim.key == key), ClaimState.OPEN)


async def take_for_routine(
    checkout: Checkout, session: Session, wanted: ProveWanted, who: str = ""
) -> tuple[bool, str]:
    """Evidence that a routine takes. Raises ConditionFailed where nothing was taken."""
    try:
        line, device, point = find_point(session.site, f"{wanted.device}/{wanted.point}")
        key = key_for(point, device.name, wanted.level, False)
        tolerance = parse_tolerance(wanted.tolerance) if wanted.tolerance else None
        expected = expectation(point, key, wanted.expected, tolerance)
        made = await take(checkout, session, line, device, point, key, expected, who, "by routine")
    except (ValueError, NoEvidence, CannotKeep) as error:
        raise ConditionFailed(str(error)) from None
    return made.verdict == "passed", f"{wanted.point} {made.verdict}: expected {made.expected}, seen {made.seen}"
