"""How far the survey of one table is."""

from collections.abc import Iterable

from msgspec import Struct, field

from kanaleto.wire.codes import Table


class TableSurvey(Struct):
    """What is known of one table. Runs and dangerous spans are (first, last); `most` is how many items one request may
    ask, as learned."""

    table: Table
    first: int
    last: int
    next: int
    most: int
    longest: int = 0  # items that one request was seen to give
    runs: list[tuple[int, int]] = field(default_factory=list)
    dangerous: list[tuple[int, int]] = field(default_factory=list)
    why_none: str = ""
    hole_from: int = -1  # where the hole began that `next` stands in
    careful_until: int = -1  # up to here so few at a time as `careful` says, since something here restarts the unit
    careful: int = 0

    @property
    def is_over(self) -> bool:
        return bool(self.why_none) or self.next > self.last

    @property
    def items(self) -> int:
        return sum(last - first + 1 for first, last in self.runs)

    def add_run(self, first: int, last: int) -> None:
        if self.runs and self.runs[-1][1] == first - 1:
            first = self.runs.pop()[0]
        self.runs.append((first, last))


def words_of_runs(runs: Iterable[tuple[int, int]]) -> str:
    """Runs of addresses in words: `0–17, 40, 101–104`."""
    return ", ".join(str(first) if first == last else f"{first}–{last}" for first, last in runs)
