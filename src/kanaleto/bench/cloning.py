"""A device copied as it answers now, by reading alone: what its registers hold, which addresses answer, how much one
request may ask, which functions it has, how long it takes, who it says it is; and what moved while it was looked at.

What moved becomes a signal of its kind: a counter that counts on, a value that stands with its noise, or one that walks
between what was seen.
"""

import asyncio
import math
from collections.abc import Callable, Sequence
from itertools import pairwise
from statistics import mean, pstdev
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.probing.question import Ask, is_forbidden, untouchable
from kanaleto.site.model import Device, Point
from kanaleto.values.codec import Codec
from kanaleto.values.types import ByteOrder, Kind, ValueType
from kanaleto.wire.codes import ExceptionCode, Function, Table
from kanaleto.wire.diagnostics import Plain, ServerId
from kanaleto.wire.identity import Depth, Identify, Identity
from kanaleto.wire.pdu import Read, ReadAnswer, Request
from kanaleto.wire.records import FileSpan, ReadFifo, ReadFile

MOST_ROUNDS, ROUND_S = 12, 0.7
_TRIES = 3
_MOST_BESIDE = 64  # registers behind a border that are looked at
_FAR = 500
_WRITING = (0x05, 0x06, 0x0F, 0x10, 0x16, 0x17)
_CHANGES = (0x0B, 0x0C)  # answers that are another each time
_LEAST_DELAY_S = 0.001
_DRAFT = {Table.COIL: "Coil", Table.DISCRETE: "Input bit", Table.INPUT: "Input", Table.HOLDING: "Holding"}


class Silent(Exception):
    """It does not answer."""


class CopyQuestion(Struct, frozen=True):
    """A request and what came back, without unit ID and check bytes."""

    request: bytes
    answer: bytes


class Copied(Struct):
    """A device as it was found: with words at its points; further keys for the site file; moves by point; what was
    asked; which points moved."""

    device: Device
    keys: dict[str, object]
    moves: dict[str, dict[str, object]]
    asked: list[CopyQuestion] = field(default_factory=list)
    moved: list[str] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)
    """Points that it refuses to read, or that may not be read."""


Rounds = list[tuple[float, dict[Table, dict[int, int]]]]
"""When (seconds) which words or bits stood at which addresses."""


class Cloner:
    """Copies one device by `ask`; `for_s` is how long it is looked at, `tell` hears what is done."""

    def __init__(
        self, ask: Ask, device: Device, timeout_s: float, for_s: float = MOST_ROUNDS * ROUND_S,
        is_serial: bool = True, tell: Callable[[str], None] = lambda text: None,
    ) -> None:  # fmt: skip
        self._ask, self.device, self._timeout_s, self._for_s = ask, device, timeout_s, for_s
        self._is_serial, self._tell = is_serial, tell
        self._never = untouchable(device)
        self._log: list[CopyQuestion] = []
        self._took_s: list[float] = []
        self._refused: set[tuple[Table, int]] = set()

    async def run(self) -> Copied:
        """Raises Silent."""
        device = self.device
        tables = [table for table in Table if any(point.table is table for point in device.points)]
        await self._knock(tables)
        limits: dict[str, object] = {}
        registers = await self._limit([table for table in tables if not table.is_bits], 125)
        bits = await self._limit([table for table in tables if table.is_bits], 2000)
        if registers is not None:
            limits["max_registers"] = registers
        if bits is not None:
            limits["max_bits"] = bits
        most = {table: (bits or device.limits.max_bits) if table.is_bits else
                (registers or device.limits.max_registers) for table in Table}  # fmt: skip
        self._tell(f"{device.name}: reads {len(device.points)} points")
        areas = {table: _areas(device.points, table) for table in tables}
        first = await self._round(areas, most)
        zeros, more = await self._beside(areas, most)
        functions = await self._functions()
        identity = await self._identity()
        rounds: Rounds = [(asyncio.get_running_loop().time(), first)]
        await self._look_again(areas, most, rounds)
        points, left_out = self._points(rounds[-1][1], more)
        keys: dict[str, object] = dict(limits)
        if zeros:
            keys["gaps"] = "zero"
        if functions is not None:
            keys["functions"] = functions
        keys |= identity
        delay = _delay(self._took_s)
        if delay is not None:
            keys["behaves"] = {"delay_ms": delay}
        moves, moved = moves_of(points, rounds)
        points = with_guesses(points, moves, moved)
        return Copied(replace(device, points=tuple(points)), keys, moves, self._log, moved, left_out)

    # Asking

    async def _one(self, request: Request) -> Outcome:
        """One request, again where it was lost or damaged. Raises Silent."""
        outcome = None
        for _ in range(_TRIES):
            outcome = await self._ask(self.device.unit_id, request, self._timeout_s)
            if outcome.is_answer:
                if outcome.content is not None:
                    self._log.append(CopyQuestion(request.encode(), outcome.content.encode()))
                if outcome.first_at > outcome.sent_at:
                    self._took_s.append(outcome.first_at - outcome.sent_at)
                return outcome
            if outcome.kind is OutcomeKind.UNREACHABLE:
                raise Silent(outcome.reason or "it cannot be reached")
        assert outcome is not None
        return outcome

    async def _knock(self, tables: Sequence[Table]) -> None:
        for table in tables:
            for point in self.device.points:
                if point.table is table and not is_forbidden(self._never, table, point.address, point.end - 1):
                    outcome = await self._one(Read(table, point.address, point.size))
                    if outcome.is_answer:
                        return
                    raise Silent("it does not answer")
        raise Silent("its map has no point that may be read")

    async def _items(self, table: Table, first: int, count: int) -> dict[int, int] | None:
        """What stands there; None where it is refused or silent."""
        outcome = await self._one(Read(table, first, count))
        content = outcome.content
        if not outcome.is_good or not isinstance(content, ReadAnswer):
            return None
        data = content.data
        if table.is_bits:
            return {first + at: data[at // 8] >> at % 8 & 1 for at in range(count)}
        return {first + at: int.from_bytes(data[2 * at : 2 * at + 2]) for at in range(count)}

    async def _limit(self, tables: Sequence[Table], most: int) -> int | None:
        """How many of them one request may ask; None where that cannot be known, since a long one is refused for its
        place."""
        for table in tables:
            start = next((
                point.address for point in self.device.points
                if point.table is table and point.address + most <= 0x10000
                and not is_forbidden(self._never, table, point.address, point.address + most - 1)
            ), None)  # fmt: skip
            if start is None:
                continue
            outcome = await self._one(Read(table, start, most))
            if outcome.code != ExceptionCode.ILLEGAL_DATA_VALUE:
                return most if outcome.is_good else None
            low, high = 1, most
            while high - low > 1:
                middle = (low + high) // 2
                if await self._is_too_long(table, start, middle):
                    high = middle
                else:
                    low = middle
            return low
        return None

    async def _is_too_long(self, table: Table, first: int, count: int) -> bool:
        return (await self._one(Read(table, first, count))).code == ExceptionCode.ILLEGAL_DATA_VALUE

    async def _round(
        self, areas: dict[Table, list[tuple[int, int]]], most: dict[Table, int]
    ) -> dict[Table, dict[int, int]]:
        """All that the map names, once."""
        found: dict[Table, dict[int, int]] = {table: {} for table in areas}
        for table, spans in areas.items():
            for first, last in spans:
                for at in range(first, last + 1, most[table]):
                    count = min(most[table], last + 1 - at)
                    await self._span(table, at, count, found[table])
        return found

    async def _span(self, table: Table, first: int, count: int, found: dict[int, int]) -> None:
        """A span, or point by point where the whole of it is refused."""
        if is_forbidden(self._never, table, first, first + count - 1):
            for point in self._points_in(table, first, count):
                if not is_forbidden(self._never, table, point.address, point.end - 1):
                    await self._point(table, point, found)
            return
        points = [
            point for point in self._points_in(table, first, count) if (table, point.address) not in self._refused
        ]
        is_whole = len(points) == len(self._points_in(table, first, count))
        items = await self._items(table, first, count) if is_whole else None
        if items is not None:
            found |= items
            return
        for point in points:
            await self._point(table, point, found)

    async def _point(self, table: Table, point: Point, found: dict[int, int]) -> None:
        items = await self._items(table, point.address, point.size)
        if items is None:
            self._refused.add((table, point.address))
        else:
            found |= items

    def _points_in(self, table: Table, first: int, count: int) -> list[Point]:
        return [p for p in self.device.points if p.table is table and p.address < first + count and first < p.end]

    async def _beside(
        self, areas: dict[Table, list[tuple[int, int]]], most: dict[Table, int]
    ) -> tuple[bool, dict[Table, dict[int, int]]]:
        """Whether what the map leaves out is answered with zero; else what else is there beside it."""
        more: dict[Table, dict[int, int]] = {}
        probes = [
            (table, at)
            for table, spans in areas.items()
            for at in sorted({
                *(first - 1 for first, _ in spans), *(last + 1 for _, last in spans), spans[-1][1] + _FAR,
            })
            if 0 <= at <= 0xFFFF and not any(low <= at <= high for low, high in spans)
            and not is_forbidden(self._never, table, at, at)
        ]  # fmt: skip
        answers = {(table, at): await self._items(table, at, 1) for table, at in probes}
        if probes and all(items is not None and not any(items.values()) for items in answers.values()):
            return True, more
        for (table, at), items in answers.items():
            step = 1 if any(high + 1 == at for _, high in areas[table]) else -1
            beside = more.setdefault(table, {})
            while items is not None and len(beside) < _MOST_BESIDE:
                beside |= items
                at += step
                taken = any(low <= at <= high for low, high in areas[table])
                if taken or not 0 <= at <= 0xFFFF or is_forbidden(self._never, table, at, at):
                    break
                items = await self._items(table, at, 1)
        return False, more

    async def _functions(self) -> list[int] | None:
        """Those that it has, where it has not all that a device of its kind may have."""
        asks: list[tuple[int, Request]] = [(table.function, Read(table, self._somewhere(table), 1)) for table in Table]
        asks += [
            (Function.READ_FILE_RECORD, ReadFile((FileSpan(1, 0, 1),))),
            (Function.READ_FIFO_QUEUE, ReadFifo(0)),
            (Function.ENCAPSULATED, Identify(Depth.BASIC)),
        ]
        if self._is_serial:
            asks += [(code, Plain(code)) for code in
                     (Function.READ_EXCEPTION_STATUS, Function.COMM_EVENT_COUNTER, Function.COMM_EVENT_LOG,
                      Function.REPORT_SERVER_ID)]  # fmt: skip
        has, lacks = set[int](), set[int]()
        for code, request in asks:
            if isinstance(request, Read) and is_forbidden(self._never, request.table, request.address, request.address):
                continue
            outcome = await self._one(request)
            if not outcome.is_answer:
                continue
            (lacks if outcome.code == ExceptionCode.ILLEGAL_FUNCTION else has).add(int(code))
        if not lacks:
            return None
        noted = self.device.limits.functions
        writing = [code for code in _WRITING if noted is None or code in noted]
        rest = [0x08] if self._is_serial and (noted is None or 0x08 in noted) else []
        return sorted({*has, *writing, *rest})

    def _somewhere(self, table: Table) -> int:
        return next((point.address for point in self.device.points if point.table is table), 0)

    async def _identity(self) -> dict[str, object]:
        keys: dict[str, object] = {}
        objects: dict[int, bytes] = {}
        next_id: int | None = 0
        for _ in range(20):
            if next_id is None:
                break
            content = (await self._one(Identify(Depth.EXTENDED, next_id))).content
            if not isinstance(content, Identity):
                break
            objects |= dict(content.objects)
            next_id = content.next_id
        texts = {str(number): text for number, data in sorted(objects.items()) if (text := _text(data)) is not None}
        if texts:
            keys["identity"] = texts
        if self._is_serial:
            content = (await self._one(Plain(Function.REPORT_SERVER_ID))).content
            text = _text(content.data[:-1]) if isinstance(content, ServerId) else None
            if text:
                keys["server_id"] = text[:100]
        return keys

    async def _look_again(
        self, areas: dict[Table, list[tuple[int, int]]], most: dict[Table, int], rounds: Rounds
    ) -> None:
        """As long as it is to be looked at: what moves shows itself."""
        loop = asyncio.get_running_loop()
        end_s = loop.time() + self._for_s
        while len(rounds) < MOST_ROUNDS and loop.time() < end_s:
            await asyncio.sleep(min(ROUND_S, max(end_s - loop.time(), 0.0)))
            rounds.append((loop.time(), await self._round(areas, most)))
            self._tell(f"{self.device.name}: looked at it {len(rounds)} times")

    # What comes of it

    def _points(
        self, words: dict[Table, dict[int, int]], more: dict[Table, dict[int, int]]
    ) -> tuple[list[Point], list[str]]:
        points: list[Point] = []
        left_out: list[str] = []
        for point in self.device.points:
            data = data_at(point, words)
            if data is None and point.access.is_read:
                left_out.append(point.name)
            elif data is None:
                points.append(point)
            else:
                points.append(replace(point, words=data, initial=None))
        names = {point.name for point in points}
        for table, items in more.items():
            for address, item in sorted(items.items()):
                name = f"{_DRAFT[table]} {address}"
                if name in names:
                    continue
                codec = Codec(ValueType(Kind.BOOL if table.is_bits else Kind.UINT16), ByteOrder.AB)
                data = bytes((item,)) if table.is_bits else item.to_bytes(2)
                note = "not in the map that was copied"
                points.append(Point(name, table, address, codec, self.device.period_s, note=note, words=data))
        return points, left_out


def _areas(points: Sequence[Point], table: Table) -> list[tuple[int, int]]:
    """Addresses of the map that touch each other, first and last."""
    areas: list[tuple[int, int]] = []
    for point in sorted((p for p in points if p.table is table), key=lambda p: p.address):
        if areas and point.address <= areas[-1][1] + 1:
            areas[-1] = (areas[-1][0], max(areas[-1][1], point.end - 1))
        else:
            areas.append((point.address, point.end - 1))
    return areas


def data_at(point: Point, words: dict[Table, dict[int, int]]) -> bytes | None:
    """The registers of a point, or its one byte; None where they were not all read."""
    known = words.get(point.table, {})
    items = [known.get(address) for address in range(point.address, point.end)]
    if any(item is None for item in items):
        return None
    return b"".join(bytes((item,)) if point.table.is_bits else item.to_bytes(2) for item in items if item is not None)


def moves_of(points: Sequence[Point], rounds: Rounds) -> tuple[dict[str, dict[str, object]], list[str]]:
    """What moves each point, as a site file says it, by the look of its samples; and which points moved at all."""
    moves: dict[str, dict[str, object]] = {}
    moved: list[str] = []
    for point in points:
        seen = [(at_s, data) for at_s, words in rounds if (data := data_at(point, words)) is not None]
        if len({data for _, data in seen}) < 2:
            continue
        moved.append(point.name)
        if point.table.is_bits or point.is_state or point.codec.bits is not None or point.access.is_written:
            continue  # what switches stands, and what masters write is theirs
        values = [
            (at_s, float(value)) for at_s, data in seen if isinstance(value := point.codec.decode(data), int | float)
        ]
        move = _signal(point, values)
        if move is not None:
            moves[point.name] = move
    return moves, moved


def _signal(point: Point, values: Sequence[tuple[float, float]]) -> dict[str, object] | None:
    numbers = [value for _, value in values if math.isfinite(value)]
    if len(numbers) < 3 or len(numbers) != len(values):
        return None
    steps = [later - earlier for earlier, later in pairwise(numbers)]
    lasts_s = values[-1][0] - values[0][0]
    is_count = not point.codec.type.is_float and point.codec.scale is None
    if is_count and all(step >= 0 for step in steps) and lasts_s > 0:
        risen = numbers[-1] - numbers[0]
        by = min(step for step in steps if step > 0)
        return {"counts_s": _rounded(max(lasts_s * by / risen, 0.1)), "by": _rounded(by)}
    middle, spread = mean(numbers), pstdev(numbers)
    between = pstdev(steps) if len(steps) > 1 else 0.0
    if between >= 1.2 * spread:  # each is as far from the last as from any other: noise
        return {"formula": f"{_rounded(middle):g}", "noise": _rounded(spread)}
    step_s = lasts_s / max(len(steps), 1)
    low, high = min(numbers), max(numbers)
    room = high - low
    limits = point.limits
    low = max(low - room, limits.range_low) if limits.range_low is not None else low - room
    high = min(high + room, limits.range_high) if limits.range_high is not None else high + room
    walk = math.sqrt(mean(step * step for step in steps) / max(step_s, 0.1))
    return {"walk": _rounded(walk), "low": _rounded(low), "high": _rounded(high)}


def with_guesses(points: Sequence[Point], moves: dict[str, dict[str, object]], moved: Sequence[str]) -> list[Point]:
    """Each point that moved says in its note what that was taken for."""
    found: list[Point] = []
    for point in points:
        if point.name not in moved:
            found.append(point)
            continue
        move = moves.get(point.name, {})
        if "counts_s" in move:
            guess = f"a guess: counts {move['by']:g} each {move['counts_s']:g} s"
        elif "noise" in move:
            guess = f"a guess: stands at {move['formula']}, with noise"
        elif "walk" in move:
            guess = f"a guess: walks between {move['low']:g} and {move['high']:g}"
        elif point.access.is_written:
            guess = "it moved while it was copied, and is left to masters"
        else:
            guess = "it moved while it was copied, and stands still here"
        found.append(replace(point, note=f"{point.note}; {guess}" if point.note else guess))
    return found


def _rounded(number: float) -> float:
    """To five digits."""
    return float(f"{number:.5g}")


def _delay(took_s: Sequence[float]) -> list[float] | None:
    """How long it thinks, from the quick tenth to the slow one (ms); None where that is hardly anything."""
    if len(took_s) < 5:
        return None
    ranked = sorted(took_s)
    low, high = ranked[len(ranked) // 10], ranked[len(ranked) * 9 // 10]
    return [round(1000 * low, 1), round(1000 * high, 1)] if high >= _LEAST_DELAY_S else None


def _text(data: bytes) -> str | None:
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError:
        return None
    return text if text.isprintable() else None


def differs(asked: Sequence[CopyQuestion], answer: Callable[[bytes], Any], moved: set[tuple[Table, int]]) -> int:
    """How many of these requests `answer` (of the copy) answers otherwise; what moved, and what is another each time,
    does not count."""
    count = 0
    for one in asked:
        if one.request[0] in _CHANGES:
            continue
        answered = answer(one.request)
        count += answered != one.answer and not _is_but_moved(one, answered, moved)
    return count


def _is_but_moved(one: CopyQuestion, payload: Any, moved: set[tuple[Table, int]]) -> bool:
    table = next((table for table in Table if table.function == one.request[0]), None)
    if (
        table is None
        or not isinstance(payload, bytes)
        or len(payload) != len(one.answer)
        or payload[0] != one.answer[0]
    ):
        return False
    first, count = int.from_bytes(one.request[1:3]), int.from_bytes(one.request[3:5])
    if payload[0] & 0x80:
        return False
    for at in range(count):
        if table.is_bits:
            same = payload[2 + at // 8] >> at % 8 & 1 == one.answer[2 + at // 8] >> at % 8 & 1
        else:
            same = payload[2 + 2 * at : 4 + 2 * at] == one.answer[2 + 2 * at : 4 + 2 * at]
        if not same and (table, first + at) not in moved:
            return False
    return True
