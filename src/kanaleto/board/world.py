"""What is polled: the site, its plan, its board, what was learned and what is switched off. It changes by lessons, by
switching and by edits, one device at a time or all at once; nothing here runs by itself.
"""

import heapq
from collections.abc import Callable, Collection, Iterable
from copy import deepcopy
from functools import partial

from msgspec import Struct

from kanaleto.board.board import Board, Heir, LastRead, Slots, Trouble, exponents_of, heirs_of, times_ten_to, words_of
from kanaleto.board.derived import Formulas
from kanaleto.planning.blocks import PlanDiff, difference
from kanaleto.planning.lessons import Lessons, learned
from kanaleto.planning.plan import Block, DevicePlan, Identity, Place, Plan, plan_device, plan_site
from kanaleto.site.expression import FormulaMemory
from kanaleto.site.model import Point, Site, shared_with
from kanaleto.wire.codes import Table

HOLES_AGAIN_S = 300.0  # points that a device does not give are tried again after this long

TellLearned = Callable[[str, str, str, bool], None]
"""Line, device, what was learned, and whether the same is only counted until it ends."""


class Planned(Struct, frozen=True):
    """A plan for a site, from what was known when planning began, with all that follows from it: the loop only
    swaps. `news` counts what was learned or switched until then; `slots` are those of the board of then, `size` how
    many there must be. Blocks that are gone, those that are fresh, and which of these ask what one of those asked; the
    rest stays. What differs, by device, from the plan before."""

    site: Site
    shared: Site
    plan: Plan
    news: int
    slots: Slots
    size: int
    gone: tuple[Block, ...]
    fresh: tuple[Block, ...]
    heirs: tuple[Heir, ...]
    exponents: dict[tuple[str, str], Place]
    formulas: Formulas
    differs: dict[str, PlanDiff]


class World:
    """`version` counts plans. Methods that change it give the new plan of the device that changed, or None where there
    is none."""

    def __init__(self, site: Site, tell_learned: TellLearned) -> None:
        self.site = site
        self.lessons: dict[str, Lessons] = {}
        self.plan: Plan = plan_site(site)
        self.board = Board(self.plan)
        self.version = 0
        self._tell = tell_learned
        self._memory = FormulaMemory()
        self._formulas = self._formulas_of(site, self.plan)
        self._formulas.begin()
        self._switched_off: dict[str, set[str]] = {}  # names of points by device
        self._news: dict[str, int] = {}  # devices that were planned again, and by which count of it last
        self._news_count = 0

    def _formulas_of(self, site: Site, plan: Plan) -> Formulas:
        return Formulas(site, plan, self._memory)

    def derive(self, now_s: float) -> None:
        """Evaluate the formulas."""
        if self.site.derived or self.site.composing:
            self.board.note_derived(self._formulas.evaluate(self.board, now_s), now_s)

    def _lessons_of(self, block: Block) -> Lessons:
        limits = block.device.limits
        return self.lessons.setdefault(block.device.name, Lessons(limits.max_registers, limits.max_bits))

    def note_read(self, block: Block, now_s: float) -> DevicePlan | None:
        """A block was read well."""
        lessons = self.lessons.get(block.device.name) or self._lessons_of(block)
        has_news = lessons.note_read(block.request.table, block.request.count, block.points)
        if lessons.holes and now_s - lessons.holes_since_s > HOLES_AGAIN_S:
            lessons.try_holes_again()
            has_news = True
        return self.replan(block.device.name) if has_news else None

    def note_refused(self, block: Block, why: str, now_s: float) -> DevicePlan | None:
        """A block was refused again and again, or is never answered: it is asked in parts."""
        lessons = self._lessons_of(block)
        text = lessons.note_refused(block.request.table, block.request.count, block.points, why)
        if text:
            lessons.holes_since_s = now_s
            self._tell(block.line.name, block.device.name, text, True)
            return self.replan(block.device.name)
        what = "bits" if block.request.table.is_bits else "registers"
        narrowing = f"{block.request.count} {what} in one request brought {why}; asked in parts to find out which"
        return self.replan(block.device.name, Trouble(narrowing, is_refusal=True))

    def try_holes_again(self, device_name: str) -> DevicePlan | None:
        """Points that the device did not give are asked for again."""
        lessons = self.lessons.get(device_name)
        if lessons is None or not lessons.holes:
            return None
        lessons.try_holes_again()
        return self.replan(device_name)

    def switch_points(self, device_name: str, is_on: bool, point_names: set[str] | None = None) -> DevicePlan | None:
        """Poll points of a device, or leave them out; all of them when none are named. Raises KeyError."""
        part = self.plan.part_of(device_name)
        if part is None:
            raise KeyError(f"there is no device {device_name!r} any more")
        names = point_names or {point.name for point in part.device.points}
        off = self._switched_off.get(device_name, set())
        self._switched_off[device_name] = off - names if is_on else off | names
        self.board.note_left(self._left(device_name, names, is_on))
        return self.replan(device_name)

    def _left(self, device_name: str, names: set[str], is_on: bool) -> dict[Identity, LastRead]:
        """What was read last of the points that are switched off."""
        changed = {(device_name, name) for name in names}
        left = {identity: one for identity, one in self.board.left.items() if identity not in changed or not is_on}
        for identity in changed if not is_on else ():
            place = self.plan.place_of(identity)
            block = place.block if isinstance(place, Place) else None
            record = self.board.records[block.index] if block is not None else None
            if isinstance(place, Place) and record is not None:
                value, data = record.values[place.number], words_of(record.data, place)
                power = self.board.exponent_of(device_name, place.point)
                if isinstance(value, int | float) and power:
                    value = times_ten_to(value, power)
                left[identity] = LastRead(place.point, value, data, record.at_s, record.wall_s)
        return left

    def shorten_reads(self, device_name: str, most: int | None) -> DevicePlan | None:
        """Ask so few registers of a device in one request, for now; None for as many as it bears."""
        part = self.plan.part_of(device_name)
        if part is None or not part.blocks:
            return None
        self._lessons_of(part.blocks[0]).most_for_now = most
        return self.replan(device_name)

    def replan(self, device_name: str, trouble: Trouble | None = None) -> DevicePlan | None:
        """Plan one device again; the rest goes on as it is. New blocks have `trouble` until their first answer."""
        part = self.plan.part_of(device_name)
        if part is None:
            return None
        line, device = part.line, part.device
        slots: set[int] = set()

        def next_index() -> int:
            slot = self.board.take_slot()
            slots.add(slot)
            return slot

        lessons = self.lessons.get(device_name)
        new = plan_device(line, device, lessons, next_index, self._switched_off.get(device_name, ()), part)
        for block in new.blocks:
            if block.index in slots:
                self.board.begin(block, trouble)
        stays = {block.index for block in new.blocks}
        for block in part.blocks:
            if block.index not in stays:
                self.board.leave_slot(block.index)
        self.plan = self.plan.with_part(new)
        self._news_count += 1
        self._news[device_name] = self._news_count
        self._note_plan()
        self._settle_lessons(new)
        return new

    def _settle_lessons(self, part: DevicePlan) -> None:
        lessons = self.lessons.get(part.device.name)
        for table in Table:
            if lessons is None or not lessons.is_seeking(table):
                continue
            largest = max((block.request.count for block in part.blocks if block.request.table is table), default=0)
            text = lessons.settle(table, largest)
            if text:
                self._tell(part.line.name, part.device.name, text, False)

    def _note_plan(self) -> None:
        """Points stand elsewhere now: formulas and powers of ten follow."""
        self._note(exponents_of(self.plan), self._formulas_of(self.site, self.plan))

    def _note(self, exponents: dict[tuple[str, str], Place], formulas: Formulas) -> None:
        self.board.note_exponents(exponents)
        self._formulas = formulas
        formulas.begin()
        self.version += 1

    # Another site, or the same edited

    def planning(self, site: Site) -> Callable[[], Planned]:
        """What makes a plan for `site` of all that is known now. It touches nothing of the session, and may be called
        in any thread."""
        lessons, news = deepcopy(self._lessons_for(site)), self._news_count
        off = {name: frozenset(points) for name, points in self._switched_off.items()}
        return partial(self._planned, site, self.site, self.plan, self.board.slots(), lessons, off, news)

    def _planned(
        self,
        site: Site,
        old_site: Site,
        old: Plan,
        slots: Slots,
        lessons: dict[str, Lessons],
        off: dict[str, frozenset[str]],
        news: int,
    ) -> Planned:
        shared = shared_with(site, old_site)
        free, size = list(slots.free), slots.size

        def next_index() -> int:
            nonlocal size
            if free:
                return heapq.heappop(free)
            size += 1
            return size - 1

        plan = plan_site(shared, lessons, off, old, next_index)
        stays, old_indexes = {block.index for block in plan.blocks}, {block.index for block in old.blocks}
        gone = tuple(block for block in old.blocks if block.index not in stays)
        fresh = tuple(block for block in plan.blocks if block.index not in old_indexes)
        for part in plan.parts:
            part.look_up()  # here, not on the loop
        exponents, formulas = exponents_of(plan), self._formulas_of(shared, plan)
        parts = [(old.part_of(part.device.name), part) for part in plan.parts]
        differs = {part.device.name: difference(old_part, part) for old_part, part in parts if old_part is not part}
        heirs = heirs_of(gone, fresh)
        return Planned(site, shared, plan, news, slots, size, gone, fresh, heirs, exponents, formulas, differs)

    def is_current(self, planned: Planned) -> bool:
        """Whether the board still is the one that the plan was made for."""
        return planned.slots.generation == self.board.generation

    def _lessons_for(self, site: Site) -> dict[str, Lessons]:
        """What was learned and still holds: the same unit at the same place, with the same limits."""
        old_devices = {
            device.name: (line, device) for line, device in self.site.devices() if device.name in self.lessons
        }
        kept: dict[str, Lessons] = {}
        for line, device in site.devices():
            if device.name not in old_devices:
                continue
            old_line, old = old_devices[device.name]
            if (line.link, device.unit_id, device.limits) != (old_line.link, old.unit_id, old.limits):
                continue
            lessons = self.lessons[device.name]
            if device.points != old.points:
                there, were = (_where(each.points, lessons.holes) for each in (device, old))
                lessons = lessons.for_edited({name for name in there if there[name] == were.get(name)})
            kept[device.name] = lessons
        return kept

    def take_over(self, site: Site, planned: Planned | None = None) -> list[str]:
        """Go on with an edited site. Blocks that ask the same keep their words, and points that were switched off stay
        off. Gives the devices that were learned of since the plan was made: they are to be planned once more."""
        if planned is None or planned.site is not site or not self.is_current(planned):
            planned = self.planning(site)()
        site = planned.shared
        self.lessons = self._lessons_for(site)
        self.site, self.plan = site, planned.plan
        self.board.change(planned.gone, planned.fresh, planned.size, planned.heirs)
        derived = {formula.name for formula in (*site.derived, *site.composing)} & set(self.board.derived)
        self.board.derived = {name: self.board.derived[name] for name in derived}
        names = {device.name for _, device in site.devices()}
        self._switched_off = {name: off for name, off in self._switched_off.items() if name in names and off}
        self._news = {name: count for name, count in self._news.items() if name in names}
        self.board.note_left({identity: left for identity, left in self.board.left.items() if identity[0] in names})
        self._note(planned.exponents, planned.formulas)
        return [name for name, count in self._news.items() if count > planned.news]

    def learned(self) -> dict[str, dict[str, object]]:
        """What was learned, as keys of the site file by device name: limits, and addresses that a device does not
        give."""
        return learned(self.site, self.lessons)


def _where(points: Iterable[Point], names: Collection[str]) -> dict[str, tuple[Table, int, int]]:
    """Where those of these names stand, and how many registers or bits they take."""
    wanted = [point for point in points if point.name in names] if names else []
    return {point.name: (point.table, point.address, point.size) for point in wanted}
