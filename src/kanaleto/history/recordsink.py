"""The engine's end of a recording: hears of each record, and hands on what differs from the one before. What it hands
on are messages for `history.recording`, whose head says which; they wait in a bounded queue. Where that overflows,
words are dropped and counted, and each block is reported again with its next answer."""

import json
from collections import deque
from collections.abc import Iterator
from threading import Lock
from typing import Any

from msgspec import Struct

from kanaleto.board.board import Readings, Record
from kanaleto.board.derived import place_named
from kanaleto.board.listener import Exchange, Sink
from kanaleto.board.world import World
from kanaleto.events.log import Event, EventKind
from kanaleto.files.origins import origin_of
from kanaleto.history.definition import definition_text, derived_text
from kanaleto.history.minutes import Minutes
from kanaleto.history.recording import BREAK_US
from kanaleto.history.renames import Rename
from kanaleto.history.standing import BAD, GOOD, NEVER, STALE
from kanaleto.planning.plan import Block, DevicePlan, Identity, Place
from kanaleto.site.expression import references
from kanaleto.site.formula import labels_in, order_of
from kanaleto.site.model import Site

MOST_WAITING_BYTES = 32_000_000
_MOST_MESSAGES = 200_000
_TIMED = "time_in"
_MOST_TOLD = 200  # blocks a second; a line waits for it
_FEW = 1000


class _KnownBlock(Struct, eq=False):
    """A block as the other end knows it."""

    block: Block
    handle: int
    data: bytes | None
    quality: int
    goes_always: bool = False


class RecordSink(Sink):
    """All but `take` is for the engine's thread."""

    def __init__(self) -> None:
        self._lock = Lock()
        self._messages: deque[tuple[str, Any]] = deque()
        self._rows: list[tuple[int, int, str]] = []
        self._bytes = 0
        self._known_blocks: dict[int, _KnownBlock] = {}
        self._handles = 0
        self._points: dict[tuple[str, str], tuple[str, int]] = {}
        self._parts: dict[str, DevicePlan] = {}
        self._derived_names: set[str] = set()
        self._renamed: dict[Identity, Identity] = {}
        self._timed_names: set[str] = set()
        self._minutes = Minutes()
        self._late: dict[tuple[str, str], int] = {}
        self._beat_us: int | None = None
        self._site: Site | None = None
        self.lost = 0
        self._is_over = False
        self._renames: deque[list[Rename]] = deque()
        self.must_begin_again = False
        """Set by whoever finds that the other end is another; done at the next second."""

    def take(self) -> list[dict[str, Any]]:
        """All messages that wait, in order. From any thread."""
        with self._lock:
            messages = [{kind: content} for kind, content in self._messages]
            self._messages.clear()
            if self._rows:
                messages.append({"rows": self._rows})
            self._rows, self._bytes = [], 0
        return messages

    def _say(self, kind: str, content: Any) -> None:
        """What is said comes behind all words that were handed on before."""
        with self._lock:
            if len(self._messages) >= _MOST_MESSAGES:  # the writer hangs: it gets all of it again once it goes on
                self.lost += 1
                self.must_begin_again = True
                return
            if self._rows:
                self._messages.append(("rows", self._rows))
                self._rows = []
            self._messages.append((kind, content))

    # What is polled

    def on_record(self, block: Block, record: Record, board: Readings) -> None:
        if self._is_over:
            return
        known_block = self._known_blocks.get(block.index)
        if known_block is None or known_block.block is not block:
            known_block = self._tell_block(block)
        data = record.data
        if data == known_block.data and known_block.quality == GOOD and not known_block.goes_always:
            return
        if self._bytes > MOST_WAITING_BYTES:
            self.lost += len(block.points)
            self._forget_words()
            return
        known_block.data, known_block.quality = data, GOOD
        with self._lock:
            self._rows.append((known_block.handle, round(record.wall_s * 1e6), data.hex()))
            self._bytes += 2 * len(data) + 40

    def on_exchange(self, exchange: Exchange) -> None:
        self._minutes.add(exchange)

    def on_event(self, event: Event) -> None:
        """For the log: late answers are counted by line and device."""
        if event.kind is EventKind.LATE and event.ended_wall_s is None:
            for device in {event.device, ""}:
                key = (event.line, device)
                self._late[key] = self._late.get(key, 0) + 1

    def _tell_block(self, block: Block) -> _KnownBlock:
        self._handles += 1
        is_timed = self._feeds_timed(block)
        known_block = self._known_blocks[block.index] = _KnownBlock(block, self._handles, None, NEVER, is_timed)
        points = [
            {"name": point.name, "told": definition_text(point), "deadband": point.deadband, "offset": offset}
            for point, offset in zip(block.points, block.offsets, strict=True)
        ]
        request = block.request
        content = {"handle": known_block.handle, "device": block.device.name, "points": points, "count": request.count}
        self._say("block", {**content, "is_bits": request.table.is_bits})
        return known_block

    def _feeds_timed(self, block: Block) -> bool:
        """Whether a formula with a clock of its own needs one of its points: such a block is reported at each
        answer."""
        timed, device = self._timed_names, block.device.name
        return bool(timed) and any(f"{device}/{point.name}" in timed for point in block.points)

    def on_plan(self, world: World) -> None:
        """Only what differs from the plan before is looked at: a line may wait for it."""
        if self._is_over:
            return
        self._take_renames()
        plan, site = world.plan, world.site
        before, self._parts = self._parts, {part.device.name: part for part in plan.parts}
        changed = [part for name, part in before.items() if self._parts.get(name) is not part]
        for part in changed:
            self._forget_blocks(part, self._parts.get(part.device.name))
        if site is self._site:
            return
        self._site = site
        gone = {identity for part in changed for identity in self._gone_of(part)}
        derived_names = {formula.name for formula in site.derived}
        gone |= {("", name) for name in self._derived_names - derived_names}
        self._derived_names = derived_names
        gone = {identity for old in gone if plan.place_of(identity := self._renamed.get(old, old)) is None}
        self._renamed.clear()
        for identity in gone:
            self._points.pop(identity, None)
        if gone and self._beat_us is not None:
            self._say("gone", [[device, point, self._beat_us] for device, point in sorted(gone)])
        self._tell_derived(world, site)

    def _gone_of(self, part: DevicePlan) -> Iterator[Identity]:
        """Points of a device that it has no more."""
        name = part.device.name
        new = self._parts.get(name)
        has = new.by_name if new is not None else {}
        if not part.by_name.keys() <= has.keys():
            yield from ((name, point) for point in part.by_name if point not in has)

    def _forget_blocks(self, part: DevicePlan, new: DevicePlan | None) -> None:
        stays = new.blocks_by_index if new is not None else dict[int, Block]()
        for index, block in part.blocks_by_index.items():
            known_block = self._known_blocks.get(index)
            if stays.get(index) is not block and known_block is not None and known_block.block is block:
                del self._known_blocks[index]

    def _tell_derived(self, world: World, site: Site) -> None:
        """The formulas, and before them the blocks of points that they name, which may not have been read yet."""
        ordered = order_of(site.derived)
        names = {derived.name: references(derived.formula) for derived in ordered}
        self._timed_names = {name for derived in ordered if _TIMED in derived.formula for name in names[derived.name]}
        for name in {name for named in names.values() for name in named}:
            place = place_named(world.plan, name)
            block = place.block if isinstance(place, Place) else None
            if block is not None and block.index not in self._known_blocks:
                self._tell_block(block)
        labels = labels_in(site.lines) if ordered else {}
        derived = [
            {
                "name": derived.name,
                "formula": derived.formula,
                "told": derived_text(derived),
                "labels": {name: labels[name] for name in names[derived.name] if name in labels},
            }
            for derived in ordered
        ]
        self._say("derived", derived)

    def rename(self, renamed: list[Rename]) -> None:
        """Points are called otherwise, and are the same: from the next plan on. From any thread."""
        self._renames.append(renamed)

    def _take_renames(self) -> None:
        while self._renames:
            renamed = self._renames.popleft()
            self._say("renamed", [[*old, *new] for old, new in renamed])
            new_names = dict(renamed)
            self._renamed = {old: new_names.get(new, new) for old, new in self._renamed.items()} | new_names

    def on_second(self, world: World, now_s: float, wall_s: float) -> None:
        if self._is_over:
            return
        if self.must_begin_again:
            self.must_begin_again = False
            self.begin_again(world)
        self._take_renames()
        wall_us = round(wall_s * 1e6)
        if self._beat_us is not None and not -BREAK_US <= wall_us - self._beat_us <= BREAK_US:
            self._forget_words()  # the other end begins again
        self._beat_us = wall_us
        self._look_at_blocks(world, now_s, wall_us)
        self._look_at_points(world, wall_us)
        minutes = self._minutes.due(wall_us, self._late)
        if minutes:
            self._say("minutes", [self._minute(minute) for minute in minutes])
            self._late.clear()
        self._say("beat", wall_us)

    def _look_at_blocks(self, world: World, now_s: float, wall_us: int) -> None:
        """Who is not good any more. Blocks of which nothing was said yet are reported some at a time."""
        board, changed = world.board, []
        may_tell = _MOST_TOLD
        records, troubles = board.records, board.troubles
        for block in world.plan.blocks:
            trouble, record = troubles[block.index], records[block.index]
            if trouble is None and record is not None and now_s - record.at_s < 3 * block.period_s:
                continue
            known_block = self._known_blocks.get(block.index)
            if known_block is None or known_block.block is not block:
                if not may_tell:
                    continue
                may_tell -= 1
                known_block = self._tell_block(block)
            if trouble is not None and trouble.is_refusal:
                quality, reason = BAD, trouble.reason
            elif record is None:
                quality, reason = NEVER, trouble.reason if trouble is not None else "not asked yet"
            elif now_s - record.at_s > board.stale_after_s(Place(block.line, block.device, block.points[0], block, 0)):
                quality, reason = STALE, trouble.reason if trouble is not None else "not read in time"
            else:
                continue
            if known_block.quality != quality or (known_block.quality == NEVER and known_block.data is None):
                known_block.quality, known_block.data = quality, known_block.data or b""
                changed.append([known_block.handle, wall_us, quality, reason])
        if changed:
            self._say("quality", changed)

    def _look_at_points(self, world: World, wall_us: int) -> None:
        """Points that no block reads."""
        changed = []
        for part in world.plan.parts:
            for place in part.unread:
                quality = BAD if place.is_refused else NEVER
                standing = (place.why_not, quality)
                if self._points.get(place.identity) != standing:
                    self._points[place.identity] = standing
                    text = definition_text(place.point)
                    changed.append([*place.identity, text, wall_us, quality, place.why_not or "not polled"])
        if changed:
            self._say("points", changed)

    def _minute(self, minute: dict[str, Any]) -> dict[str, Any]:
        line = minute["line"]
        codes = {str(code): count for code, count in sorted(minute["exceptions"].items())}
        return {**minute, "line": [line.name, str(line.link), origin_of(line).value], "exceptions": json.dumps(codes)}

    def _forget_words(self) -> None:
        for block in self._known_blocks.values():
            block.data, block.quality = None, NEVER
        self._points.clear()

    def begin_again(self, world: World) -> None:
        """Another end listens, which knows nothing yet."""
        with self._lock:
            self._messages.clear()
            self._rows, self._bytes = [], 0
        self._known_blocks.clear()
        self._points.clear()
        self._parts, self._derived_names = {}, set()
        self._site = None
        self.on_plan(world)

    def end(self, wall_us: int) -> None:
        """The last that is said. From any thread."""
        self._is_over = True
        minutes = self._minutes.due(wall_us, self._late, is_over=True)
        if minutes:
            self._say("minutes", [self._minute(minute) for minute in minutes])
        self._say("end", wall_us)
