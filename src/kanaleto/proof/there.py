"""What is really there, against what the site says: read only, each question asked once, in turns with whoever polls.

A device is asked what its map has, in as few requests as its noted limits allow. One that does not answer the first is
asked nothing more. A refused request is asked again in halves: if all pieces are answered it was the limit, else the
points that are refused are found.
"""

import asyncio
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from pathlib import Path

from msgspec import Struct, ValidationError
from msgspec.json import decode

from kanaleto.control.sameness import FILE, KnownDevice
from kanaleto.control.snapshots import Held, load, spans_of, writable
from kanaleto.files.beside import folder_beside
from kanaleto.files.texts import CannotRead, read_bounded
from kanaleto.lines.outcome import Outcome
from kanaleto.polling.session import Session
from kanaleto.probing.own_settings import in_use, meaning_of
from kanaleto.site.filefaults import FaultyFile
from kanaleto.site.model import Device, Line, Point, PointRole, Site
from kanaleto.values.codec import NoValue
from kanaleto.values.text import shown
from kanaleto.wire.codes import Function, Table
from kanaleto.wire.identity import OBJECT_NAMES, Depth, Identify, Identity
from kanaleto.wire.pdu import Read, ReadAnswer

_LIMIT_CODES = (2, 3)
_ALL_OF_THEM = 40
"""More others than this at a network's place are a gateway or a device that answers for every unit ID."""


class There(Struct, frozen=True):
    """One question and how it came out. `what` is answers, identity, setting, limit, refused, parameter or other;
    `outcome` same, differs or silent."""

    line: str
    device: str
    what: str
    expected: str
    found: str
    outcome: str
    point: str = ""

    @property
    def is_same(self) -> bool:
        return self.outcome == "same"


class KnownThere(Struct, frozen=True):
    """What the site knows beside its file: devices by their identification, and what stood in their parameters."""

    devices: Mapping[str, KnownDevice]
    parameters: Mapping[tuple[str, str], Held]


OnThere = Callable[[There], None]


def known_of(site: Site, path: Path) -> KnownThere:
    """Out of the folder beside the site; the newest snapshot of each device counts."""
    folder = folder_beside(path)
    devices: dict[str, KnownDevice] = {}
    try:
        devices = decode(read_bounded(folder / FILE, 4_000_000), type=dict[str, KnownDevice])
    except (OSError, ValidationError, ValueError, CannotRead):
        devices = {}
    found: dict[tuple[str, str], Held] = {}
    seen: set[str] = set()
    try:
        files = sorted((folder / "snapshots").glob("*.csv"), key=lambda path: path.stat().st_mtime, reverse=True)
    except OSError:
        files = []
    for file in files:
        try:
            rows = writable(site, load(file))
        except (FaultyFile, OSError):
            continue
        fresh = {row.device for row in rows} - seen
        found |= {(row.device, row.point): row for row in rows if row.device in fresh and row.point}
        seen |= fresh
    return KnownThere(devices, found)


async def check_there(
    session: Session, known: KnownThere, devices: Collection[str], with_others: bool, on_each: OnThere
) -> list[There]:
    """All lines at once, one device after the other on each."""
    found: list[There] = []

    def take(one: There) -> None:
        found.append(one)
        on_each(one)

    async def one_line(line: Line) -> None:
        for device in line.devices:
            if device.is_enabled and (not devices or device.name in devices):
                await _Asking(session, line, device, known, take).run()
        if with_others:
            await _others(session, line, take)

    await asyncio.gather(*(one_line(line) for line in session.site.lines))
    return found


class _Asking:
    """One device."""

    def __init__(self, session: Session, line: Line, device: Device, known: KnownThere, on_there: OnThere) -> None:
        self._session, self._line, self._device, self._known, self._on_there = session, line, device, known, on_there
        self._words: dict[tuple[Table, int], bytes] = {}
        self._refused: list[tuple[Table, int, int, int | None]] = []

    def _tell(self, what: str, expected: str, found: str, outcome: str = "", point: str = "") -> None:
        outcome = outcome or ("same" if expected == found else "differs")
        self._on_there(There(self._line.name, self._device.name, what, expected, found, outcome, point))

    async def run(self) -> None:
        device = self._device
        spans = spans_of(device)
        if not spans:
            await self._first_of_nothing()
            return
        for number, span in enumerate(spans):
            outcome = await self._ask(*span)
            if number == 0 and not outcome.is_answer:
                self._tell("answers", "an answer", outcome.reason or outcome.kind.value, "silent")
                return
            if number == 0:
                self._tell("answers", "an answer", "an answer")
            if outcome.is_answer and not self._took(span, outcome):
                await self._refusal(span, outcome)
            elif not outcome.is_answer:
                table, first, end = span
                self._tell(
                    "answers", f"{table.value} {first}-{end - 1}", outcome.reason or outcome.kind.value, "silent"
                )
        self._refusals()
        await self._identity()
        self._settings()
        self._parameters()

    async def _first_of_nothing(self) -> None:
        """A device without points is only asked whether it answers."""
        outcome = await self._ask(Table.HOLDING, 0, 1)
        found = "an answer" if outcome.is_answer else outcome.reason or outcome.kind.value
        self._tell("answers", "an answer", found, "same" if outcome.is_answer else "silent")
        if outcome.is_answer:
            await self._identity()

    async def _ask(self, table: Table, first: int, end: int) -> Outcome:
        poller = self._session.named(self._line.name)
        device = self._device
        return await poller.ask(device.unit_id, Read(table, first, end - first), device.timeout_s, device)

    def _took(self, span: tuple[Table, int, int], outcome: Outcome) -> bool:
        table, first, end = span
        content = outcome.content
        if not isinstance(content, ReadAnswer):
            return False
        width = 1 if table.is_bits else 2
        data = bytes(content.bits(end - first)) if table.is_bits else content.data
        for at in range(end - first):
            self._words[table, first + at] = data[width * at : width * (at + 1)]
        return True

    async def _refusal(self, span: tuple[Table, int, int], outcome: Outcome) -> None:
        """Halves, until what is refused for good is found; where nothing is, the request was too long."""
        table, first, end = span
        before = len(self._refused)
        longest = await self._halves(table, first, end, outcome)
        if len(self._refused) == before and longest:
            noted = self._device.limits.most_read(table)
            self._tell("limit", f"{noted} in a request", f"{longest} answered, {end - first} refused", "differs")

    async def _halves(self, table: Table, first: int, end: int, outcome: Outcome) -> int:
        """The longest piece that was answered."""
        cut = self._cut(table, first, end)
        if outcome.code not in _LIMIT_CODES or cut is None:
            self._refused.append((table, first, end, outcome.code))
            return 0
        longest = 0
        for begin, stop in ((first, cut), (cut, end)):
            again = await self._ask(table, begin, stop)
            if again.is_answer and self._took((table, begin, stop), again):
                longest = max(longest, stop - begin)
            elif again.is_answer:
                longest = max(longest, await self._halves(table, begin, stop, again))
            else:
                self._tell("answers", f"{table.value} {begin}-{stop - 1}", again.reason or again.kind.value, "silent")
        return longest

    def _cut(self, table: Table, first: int, end: int) -> int | None:
        """Between two points, near the middle; None where there is only one."""
        ends = {point.end for point in self._device.points if point.table is table}
        torn = {
            at for point in self._device.points if point.table is table for at in range(point.address + 1, point.end)
        }
        cuts = [at for at in ends if first < at < end and at not in torn]
        return min(cuts, key=lambda at: abs(2 * at - first - end)) if cuts else None

    def _refusals(self) -> None:
        for table, first, end, code in self._refused:
            for point in self._device.points:
                if point.table is table and point.access.is_read and point.address < end and first < point.end:
                    self._tell("refused", "a value", f"exception {code}", "differs", point.name)

    # What was read says

    def _value(self, point: Point) -> bytes | None:
        pieces = [self._words.get((point.table, at)) for at in range(point.address, point.end)]
        return b"".join(piece for piece in pieces if piece is not None) if all(p is not None for p in pieces) else None

    async def _identity(self) -> None:
        expected = self._expected_identity()
        tag = self._known.devices.get(self._device.name, KnownDevice()).tag
        point = next((point for point in self._device.points if point.name == self._device.tag), None)
        data = self._value(point) if point is not None else None
        if tag and point is not None and data is not None:
            self._tell("identity", _tag_text(point, bytes.fromhex(tag)), _tag_text(point, data), "", point.name)
        functions = self._device.limits.functions
        if not expected or (functions is not None and Function.ENCAPSULATED not in functions):
            return
        poller = self._session.named(self._line.name)
        outcome = await poller.ask(self._device.unit_id, Identify(Depth.BASIC), self._device.timeout_s, self._device)
        content = outcome.content
        if not isinstance(content, Identity):
            self._tell("identity", _identity_text(expected), outcome.reason or outcome.kind.value, "differs")
            return
        now = {OBJECT_NAMES.get(number, str(number)): raw.decode("utf-8", "replace") for number, raw in content.objects}
        seen = {name: now.get(name, "") for name in expected}
        self._tell("identity", _identity_text(expected), _identity_text(seen))

    def _expected_identity(self) -> dict[str, str]:
        """What is known of it; else what its simulation would say, as a clone noted it."""
        known = self._known.devices.get(self._device.name)
        if known is not None and known.identity:
            return dict(known.identity)
        noted = self._device.simulated.identity
        return {OBJECT_NAMES[number]: text for number, text in noted if number in (0, 1, 2)}

    def _settings(self) -> None:
        for point in self._device.points:
            if point.setting is None:
                continue
            data, used = self._value(point), in_use(point.setting, self._line, self._device)
            if data is None or used is None:
                continue
            value = point.codec.decode(data)
            meaning = meaning_of(point, int(value)) if isinstance(value, int | float) else None
            self._tell("setting", used, meaning if meaning is not None else str(value), "", point.name)

    def _parameters(self) -> None:
        for point in self._device.points:
            row = self._known.parameters.get((self._device.name, point.name))
            data = self._value(point)
            is_command = point.writing.role in (PointRole.COMMAND, PointRole.SETPOINT)
            if row is None or data is None or is_command or point.setting is not None or not point.access.is_written:
                continue
            if len(row.data) == len(data):
                outcome = "same" if row.data == data else "differs"
                self._tell("parameter", _tag_text(point, row.data), _tag_text(point, data), outcome, point.name)


def _tag_text(point: Point, data: bytes) -> str:
    try:
        value = int(data[0] != 0) if point.table.is_bits else point.codec.decode(data)
    except (ValueError, IndexError):
        return data.hex(" ", 2).upper()
    if isinstance(value, NoValue):
        return data.hex(" ", 2).upper()
    text = shown(value, point.codec, point.decimals, point.labels)
    return f"{text} {point.unit}".strip()


def _identity_text(objects: Mapping[str, str]) -> str:
    return ", ".join(text for text in objects.values() if text) or "nothing"


async def _others(session: Session, line: Line, on_there: OnThere) -> None:
    """Units that nobody noted: each asked once."""
    noted = {device.unit_id for device in line.devices}
    poller = session.named(line.name)
    if poller.connection.why_unreachable:
        return
    found: list[There] = []
    for unit in range(1, 248):
        if unit in noted:
            continue
        outcome = await poller.ask(unit, Read(Table.HOLDING, 0, 1), line.timeout_s, None)
        if outcome.is_answer and outcome.code not in (0x0A, 0x0B):
            what = f"exception {outcome.code}" if outcome.code is not None else "a value"
            found.append(There(line.name, f"unit {unit}", "other", "nobody", f"unit {unit} answers {what}", "differs"))
    if len(found) > _ALL_OF_THEM and line.link.framing.value == "tcp":
        found = [There(line.name, "", "other", "nobody", f"{len(found)} unit IDs answer that nobody noted", "differs")]
    for one in found:
        on_there(one)


def differing(found: Iterable[There]) -> Sequence[There]:
    return [one for one in found if not one.is_same]
