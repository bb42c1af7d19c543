"""Words of a unit, read again and again: what of a run was read when, joined over the requests that read it."""

from collections.abc import Iterable

from msgspec import Struct, field

from kanaleto.probing.known import Span
from kanaleto.probing.tables import TableSearch
from kanaleto.wire.codes import Table

MOST_ROUNDS = 60


class Round(Struct, frozen=True):
    """Everything of a unit, read once: when it was over (loop time), and what each request brought by its table and
    first address."""

    at_s: float
    words: dict[tuple[Table, int], tuple[int, ...]]

    def of(self, table: Table, first: int, last: int) -> tuple[int, ...] | None:
        """The words of a run, joined; None where one of them is missing."""
        found: list[int] = []
        at = first
        while at <= last:
            piece = self.words.get((table, at))
            if piece is None:
                piece = self._inside(table, at)
            if not piece:
                return None
            found += piece
            at += len(piece)
        return tuple(found[: last - first + 1])

    def _inside(self, table: Table, address: int) -> tuple[int, ...]:
        for (of, first), words in self.words.items():
            if of is table and first < address < first + len(words):
                return words[address - first :]
        return ()


class Samples(Struct):
    """The rounds of a unit, at most so many: when there are more every second of them goes."""

    rounds: list[Round] = field(default_factory=list)
    round_s: float = 0.0

    def add(self, at_s: float, words: dict[tuple[Table, int], tuple[int, ...]], took_s: float) -> None:
        self.rounds.append(Round(at_s, words))
        self.round_s = took_s
        if len(self.rounds) > MOST_ROUNDS:
            self.rounds = self.rounds[1::2]

    def of(self, table: Table, run: Span) -> list[tuple[int, ...]]:
        """The words of a run in each round that read all of it."""
        found = [round_.of(table, *run) for round_ in self.rounds]
        return [words for words in found if words is not None]

    def as_rounds(self) -> list[tuple[float, dict[Table, dict[int, int]]]]:
        """When (loop time) which words or bits stood at which addresses, by table."""
        rounds: list[tuple[float, dict[Table, dict[int, int]]]] = []
        for round_ in self.rounds:
            found: dict[Table, dict[int, int]] = {}
            for (table, first), words in round_.words.items():
                found.setdefault(table, {}).update({first + at: word for at, word in enumerate(words)})
            rounds.append((round_.at_s, found))
        return rounds

    def fewest_of(self, tables: Iterable[TableSearch]) -> int:
        """How often the run was read that was read least."""
        counts = [len(self.of(table.table, run)) for table in tables for run in table.runs]
        return min(counts, default=0)
