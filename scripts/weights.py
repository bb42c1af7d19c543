"""How good the weights of reading unknown words, and of searching for registers, are; and better ones.

    python -m scripts.weights types [WORD …] [--lines N] [--find]
    python -m scripts.weights search [WORD …] [--lines N]
    python -m scripts.weights sure [--lines N]

Devices are made whose values and registers are known: of `types` those of `tests.madeup` and the even seeds of
`tests.layouts` (the odd ones are to judge by: `python -m tests.layouts`). Each weight (or those whose names hold a
WORD) is made smaller and larger, and what comes of it is counted: values that are cut, ordered and read rightly from
twenty samples, or addresses that are found in 300 s of a line's own time. With `--find` the better one is kept, and it
is gone on until nothing is better.
"""

import argparse
import multiprocessing
import os
import random
from collections.abc import Callable, Iterator
from multiprocessing.pool import Pool

import numpy as np
from msgspec import Struct
from msgspec.structs import asdict, replace
from tests.judged import judged
from tests.layouts import read, read_of_run
from tests.madeup import MadeDevice, made_line
from tests.madevalues import MadePoint
from tests.virtual import run_virtual

from kanaleto.probing import likely
from kanaleto.probing import weights as search_weights
from kanaleto.unknown.everything import Everything
from kanaleto.values import weights as type_weights
from kanaleto.values.columns import Shape
from kanaleto.values.cutting import explain
from kanaleto.values.types import Kind

_SAMPLES, _WITHIN_S = 20, 300.0
_TRIED = (0.7, 1.4)
_APART = 1.0  # bits, in a table
_BETTER = 0.0005
_FEWEST, _HELD = 30, 0.5
_FIRST_SEED = 500  # those of the tests and of the bench are others

Score = Callable[[], float]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("which", choices=["types", "search", "sure"])
    parser.add_argument("words", nargs="*")
    parser.add_argument("--lines", type=int, default=6, help="how many made-up lines")
    parser.add_argument("--find", action="store_true", help="keep what is better, and go on")
    given = parser.parse_args()
    seeds = range(_FIRST_SEED, _FIRST_SEED + given.lines)
    if given.which == "sure":
        _fit_sure(seeds)
    elif given.which == "types":
        with multiprocessing.get_context("fork").Pool(os.cpu_count() or 1) as pool:
            _try(type_weights, "TYPES", given.words, lambda: _share_of_values(pool, seeds), given.find)
    else:
        _try(search_weights, "SEARCH", given.words, lambda: _share_of_addresses(seeds), given.find)


def _fit_sure(seeds: range) -> None:
    """How sure a reading is by the bits that the next best one takes more: for each shape the two numbers that make
    what was right most likely."""
    values = read(range(0, 20 * len(seeds), 2))
    for seed in seeds:
        for runs in _samples_of(seed):
            _, cuts = explain([[samples] for _, samples in runs])
            for (run, samples), found in zip(runs, cuts, strict=True):
                values += read_of_run("", run, samples, found)
    for shape in Shape:
        shown = [(value.found.excess, value.is_right) for value in values if value.found and value.found.shape is shape]
        if len(shown) < _FEWEST:
            print(f"{shape.name}: only {len(shown)} values")
            continue
        bits = np.minimum(np.array([excess for excess, _ in shown]), type_weights.TYPES.most_excess)
        right = np.array([is_right for _, is_right in shown], float)
        begin, slope = _fitted(bits, right)
        print(f"Shape.{shape.name}: ({begin:.2f}, {slope:.3f}),  # {len(shown)} values, {right.mean():.3f} right")


def _fitted(bits: np.ndarray, right: np.ndarray) -> tuple[float, float]:  # type: ignore[type-arg]
    """Of a logistic curve, by Newton's steps, held a little towards none."""
    known = np.zeros(2)
    inputs = np.stack([np.ones_like(bits), bits])
    for _ in range(50):
        share = 1 / (1 + np.exp(-(known @ inputs)))
        slope = inputs @ (right - share) - _HELD * known
        curve = (inputs * (share * (1 - share))) @ inputs.T + _HELD * np.eye(2)
        known = known + np.linalg.solve(curve, slope)
    return float(known[0]), max(float(known[1]), 0.0)


def _numbers_of(weights: Struct) -> dict[tuple[str, ...], float]:
    """Each weight by its name; those of a table by its row and column too."""
    found: dict[tuple[str, ...], float] = {}
    for key, value in asdict(weights).items():
        if isinstance(value, float):
            found[(key,)] = value
        elif key == "against":
            for kind, (prior, by_shape) in value.items():
                found[key, kind.value] = prior
                found |= {(key, kind.value, str(at)): bits for at, bits in enumerate(by_shape)}
    return found


def _with(weights: Struct, key: tuple[str, ...], number: float) -> Struct:
    if len(key) == 1:
        return replace(weights, **{key[0]: number})
    against = dict(asdict(weights)["against"])
    kind = Kind(key[1])
    prior, by_shape = against[kind]
    if len(key) == 2:
        against[kind] = number, by_shape
    else:
        at = int(key[2])
        against[kind] = prior, (*by_shape[:at], number, *by_shape[at + 1 :])
    return replace(weights, against=against)


def _try(module: object, name: str, words: list[str], score: Score, finds: bool) -> None:
    def scored(weights: Struct) -> float:
        setattr(module, name, weights)
        likely.likely_places.cache_clear()
        return score()

    best: Struct = getattr(module, name)
    known = scored(best)
    print(f"as they are: {known:.4f}")
    is_better = True
    while is_better:
        is_better = False
        for key, value in _numbers_of(best).items():
            title = " ".join(key)
            if words and not any(word in title for word in words):
                continue
            numbers = [value * by for by in _TRIED] if len(key) == 1 else [value - _APART, value + _APART]
            tried = {number: scored(_with(best, key, number)) for number in numbers}
            text = "   ".join(f"{number:8.4g} {found:.4f}" for number, found in tried.items())
            print(f"{title:22} {value:8.4g} {known:.4f}   {text}", flush=True)
            number = max(tried, key=lambda number: tried[number])
            if finds and tried[number] > known + _BETTER:
                best, known, is_better = _with(best, key, number), tried[number], True
                print(f"   {title} = {number:.4g} is better", flush=True)
    setattr(module, name, best)


Run = tuple[list[MadePoint], list[bytes]]


def _samples_of(seed: int) -> Iterator[list[Run]]:
    """The runs of each device of a made-up line, with samples of each."""
    for device in made_line(seed).devices.values():
        chance, times = random.Random(seed), [1000.0]
        while len(times) < _SAMPLES:
            times.append(times[-1] + chance.uniform(2, 12))
        runs = _runs_of(device)
        if runs:
            yield [(run, [b"".join(point.data(at) for point in run) for at in times]) for run in runs]


def _runs_of(device: MadeDevice) -> list[list[MadePoint]]:
    runs: list[list[MadePoint]] = []
    for point in sorted(device.points, key=lambda point: (point.table.value, point.address)):
        if point.table.is_bits:
            continue
        if runs and runs[-1][-1].table is point.table and runs[-1][-1].end == point.address:
            runs[-1].append(point)
        else:
            runs.append([point])
    return runs


def _share_of_values(pool: Pool, seeds: range) -> float:
    """Of values that were not zero throughout: cut, ordered and read rightly; of both kinds of devices, half each."""
    jobs = [(type_weights.TYPES, seed, 0) for seed in seeds]
    jobs += [(type_weights.TYPES, 0, seed) for seed in range(0, 20 * len(seeds), 2)]
    counts = pool.map(_right_of, jobs, chunksize=2)
    shares = []
    for part in (counts[: len(seeds)], counts[len(seeds) :]):
        shares.append(sum(right for right, _ in part) / max(sum(values for _, values in part), 1))
    return sum(shares) / 2


def _right_of(job: tuple[Struct, int, int]) -> tuple[int, int]:
    """Values that are right, and all of them, of a made-up line, or of a layout where the first seed is 0."""
    type_weights.TYPES, line, seed = job  # type: ignore[assignment]
    if not line:
        counted = [value.is_right for value in read(range(seed, seed + 1)) if not value.is_zero]
        return sum(counted), len(counted)
    right = values = 0
    for runs in _samples_of(line):
        _, cuts = explain([[samples] for _, samples in runs])
        for (run, samples), found in zip(runs, cuts, strict=True):
            counted = [value.is_right for value in read_of_run("", run, samples, found) if not value.is_zero]
            right, values = right + sum(counted), values + len(counted)
    return right, values


def _share_of_addresses(seeds: range) -> float:
    """Of those that read: found in time."""
    found = addresses = 0
    for seed in seeds:
        line = made_line(seed, tells_parity=False)
        search = Everything(line.link, True, _WITHIN_S, opener=line.opener)
        run_virtual(search.run())
        result = judged(line, search)
        found, addresses = found + result.found, addresses + result.addresses
    return found / max(addresses, 1)


if __name__ == "__main__":
    main()
