"""How likely it is that an address reads, before it is asked: one table for the search of registers.

All are likelihoods from 0 (never) to 1 (as sure as an address can be before it is asked), unless it is said otherwise;
only their order and their ratios matter. Where makers begin their ranges follows from how manuals count: round numbers,
decimal or hexadecimal, or one behind them. The numbers were found by trying on made-up lines: `python -m
scripts.weights search` makes such whose registers are known, searches them for 300 s of their own time with each weight
smaller and larger, and says how many addresses are found.
"""

from typing import NamedTuple

from msgspec import Struct

from kanaleto.wire.codes import Table


class Begins(NamedTuple):
    """Ranges begin at `first` … `last` times `step`; of several that name an address the likeliest holds."""

    step: int
    first: int
    last: int
    likely: float


class Stride(NamedTuple):
    """Every so many addresses, up to one: for what no rule names."""

    up_to: int
    step: int
    likely: float


class SearchWeights(Struct, frozen=True):
    # where ranges begin
    rounds: tuple[Begins, ...] = (
        Begins(1, 0, 0, 1.0),
        Begins(10, 1, 5, 0.2), Begins(10, 6, 10, 0.12), Begins(10, 11, 29, 0.06), Begins(10, 30, 199, 0.022),
        Begins(50, 1, 19, 0.2),
        Begins(100, 1, 5, 0.5), Begins(100, 6, 9, 0.35), Begins(100, 10, 99, 0.08), Begins(100, 100, 655, 0.017),
        Begins(500, 2, 19, 0.13),
        Begins(1000, 1, 5, 0.45), Begins(1000, 6, 9, 0.3), Begins(1000, 10, 65, 0.08),
        Begins(10000, 1, 1, 0.3), Begins(10000, 2, 3, 0.25), Begins(10000, 4, 4, 0.35), Begins(10000, 5, 5, 0.15),
        Begins(10000, 6, 6, 0.1),
        Begins(16, 1, 2, 0.28), Begins(16, 4, 4, 0.28), Begins(16, 8, 8, 0.28), Begins(16, 1, 15, 0.1),
        Begins(16, 16, 159, 0.018),
        Begins(256, 1, 5, 0.3), Begins(256, 6, 15, 0.2), Begins(256, 16, 255, 0.03), Begins(2048, 2, 31, 0.045),
        Begins(4096, 1, 5, 0.3), Begins(4096, 6, 15, 0.2),
    )  # fmt: skip
    at_zero: float = 1.1
    at_round: float = 0.15  # times that of the address behind it, which speaks for both
    strides: tuple[Stride, ...] = (
        Stride(2000, 16, 0.016), Stride(10000, 64, 0.014), Stride(2000, 8, 0.012), Stride(10000, 16, 0.010),
        Stride(0xFFFF, 64, 0.008), Stride(10000, 8, 0.006), Stride(0xFFFF, 16, 0.005),
    )  # fmt: skip
    every: tuple[Stride, ...] = (
        Stride(10000, 2, 0.003), Stride(0xFFFF, 4, 0.002), Stride(10000, 1, 0.0012), Stride(0xFFFF, 1, 0.0006)
    )  # fmt: skip
    end: float = 0.004  # below it nobody would look: a dozen registers far from every round number were asked by then
    bits_far: float = 0.15  # times so much of coils and discrete inputs beyond 2000

    # beside a run that reads
    behind_hole: tuple[tuple[int, float], ...] = ((4, 0.22), (10, 0.11), (16, 0.05))  # holes up to so long
    before_hole: tuple[tuple[int, float], ...] = ((3, 0.09), (8, 0.05))
    next_round: tuple[tuple[int, float], ...] = (
        (10, 0.2), (16, 0.15), (20, 0.15), (50, 0.25), (64, 0.1), (100, 0.3), (256, 0.2), (1000, 0.2)
    )  # fmt: skip
    at_next_round: float = 0.6  # times that of the address behind it
    distances: tuple[int, ...] = (
        10, 16, 20, 32, 40, 50, 64, 100, 128, 200, 256, 300, 500, 512, 1000, 1024, 2000, 2048, 4096, 10000
    )  # fmt: skip
    a_distance_on: float = 0.12
    a_distance_back: float = 0.07  # of 50 and more
    same_offset: float = 0.05  # who begins at 312 may begin at 412 and 512
    mirrored: float = 0.35  # as far on again as two runs lie apart
    beside_known: float = 1.0  # what an earlier search knew, or what stands beside what is not zero
    behind_block: float = 0.9  # where a block ends with what is not zero
    go_on: float = 0.5  # of a run that is longer than others should wait for

    # of a whole table
    tables: dict[Table, float] = {}
    patience: float = 5.0  # so much likelihood asked in vain makes a table e times less likely
    patience_with_runs: float = 12.0
    least: float = 0.1  # and never less than this
    hope: float = 2.0  # times so much where the unit must have something, and nothing was found

    # of other units and tables
    said_by_map: float = 3.0  # that a map says of such devices
    like_another: float = 0.9  # of a unit that is quite like the one on which it was found
    of_another: float = 0.3  # of any other
    other_table: float = 0.5  # in the table beside it
    alike: float = 0.4  # how much two units are alike that say nothing of themselves: so many spans in common
    unlike: float = 4.0  # how much a span counts that one has and the other has not
    least_eager: float = 0.06  # of looking where nothing speaks for it, on a unit like one that was searched
    hurry: float = 0.6  # how much the time that an answer takes counts, as a power of it


SEARCH = SearchWeights(
    tables={Table.HOLDING: 1.0, Table.INPUT: 0.95, Table.COIL: 0.6, Table.DISCRETE: 0.6},
)
"""Looked up at each use, so that whoever tries others puts them here."""
