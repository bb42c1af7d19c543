"""The rows of Live in the order of the site, when nothing is left out: a heading a device and its points, each row made
when it is looked at. A site of fifty thousand points is laid out like one of five."""

from bisect import bisect_right
from collections.abc import Collection, Hashable, Iterator, Sequence
from itertools import accumulate
from typing import overload

from msgspec import Struct

from kanaleto.planning.plan import AnyPlace, DerivedPlace, DevicePlan, Plan
from kanaleto.tui.live.rows import DerivedRow, DeviceRow, LiveRow, PointRow


class _Section(Struct, frozen=True):
    """A heading, how many places are shown below it, and whose they are: a device's, or the derived ones."""

    heading: LiveRow
    shown: int
    name: str
    part: DevicePlan | None = None
    derived: Sequence[DerivedPlace] = ()

    def __iter__(self) -> Iterator[AnyPlace]:
        if self.shown:
            yield from self.part.places if self.part is not None else self.derived

    def at(self, number: int) -> AnyPlace:
        return self.part.place_at(number) if self.part is not None else self.derived[number]

    def find(self, name: str) -> int | None:
        """Which of the places is that of a point."""
        if not self.shown:
            return None
        if self.part is not None:
            return self.part.order.get(name)
        return next((at for at, entry in enumerate(self.derived) if entry.identity[1] == name), None)


class BySite(Sequence[LiveRow]):
    """See the head of this file. Points of devices that are `folded` are only counted."""

    def __init__(self, plan: Plan, folded: Collection[str]) -> None:
        self._sections = list(_sections(plan, folded))
        lengths = (2 + section.shown for section in self._sections)  # with a heading, and a blank row above it
        self._starts = list(accumulate(lengths, initial=-1))  # of the blank rows; the first has none

    def __len__(self) -> int:
        return max(self._starts[-1], 0)

    @overload
    def __getitem__(self, index: int) -> LiveRow: ...

    @overload
    def __getitem__(self, index: slice) -> list[LiveRow]: ...

    def __getitem__(self, index: int | slice) -> LiveRow | list[LiveRow]:
        if isinstance(index, slice):
            return [self[at] for at in range(*index.indices(len(self)))]
        at = index + len(self) if index < 0 else index
        if not 0 <= at < len(self):
            raise IndexError(index)
        number = bisect_right(self._starts, at) - 1
        section, below = self._sections[number], at - self._starts[number]
        return None if below == 0 else section.heading if below == 1 else PointRow(section.at(below - 2))

    def __iter__(self) -> Iterator[LiveRow]:
        for number, section in enumerate(self._sections):
            if number:
                yield None
            yield section.heading
            yield from map(PointRow, section)

    def find(self, identity: Hashable) -> int | None:
        """Where the heading of a device (by its name), or a point (by its identity), stands."""
        device, name = identity if isinstance(identity, tuple) else (identity, None)
        for start, section in zip(self._starts, self._sections, strict=False):
            if section.name == device:
                below = section.find(name) if name is not None else -1
                return start + 2 + below if below is not None else None
        return None


def _sections(plan: Plan, folded: Collection[str]) -> Iterator[_Section]:
    for part in plan.parts:
        name, count = part.device.name, len(part.places)
        if count:
            hidden = count if name in folded else 0
            yield _Section(DeviceRow(part.line, part.device, hidden), count - hidden, name, part)
    if plan.derived:
        count = len(plan.derived)
        hidden = count if "" in folded else 0
        yield _Section(DerivedRow(hidden), count - hidden, "", derived=plan.derived)
