"""How good the weights of reading unknown words, and of searching for registers, are; and better ones.

    python -m scripts.weights types [WORD …] [--lines N] [--find]
    python -m scripts.weights search [WORD …] [--lines N]

Devices are made whose values and registers are known. Each weight (or those whose names hold a WORD) is made smaller
and larger, and what comes of it is counted: values that are cut, ordered and read rightly from twenty samples, or
addresses that are found in 300 s of a line's own time. With `--find` the better one is kept, and it is gone on until
nothing is better by more than one value in a thousand.
"""

import argparse
import random
from collections.abc import Callable, Iterator

from msgspec import Struct
from msgspec.structs import asdict, replace
from tests.judged import judged
from tests.madeup import MadeDevice, made_line
from tests.madevalues import MadePoint
from tests.virtual import run_virtual

from kanaleto.probing import likely
from kanaleto.probing import weights as search_weights
from kanaleto.unknown.everything import Everything
from kanaleto.values import weights as type_weights
from kanaleto.values.cutting import explain

_SAMPLES, _WITHIN_S = 20, 300.0
_TRIED = (0.75, 1.3)
_BETTER = 0.001
_FIRST_SEED = 500  # those of the tests and of the bench are others

Score = Callable[[], float]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("which", choices=["types", "search"])
    parser.add_argument("words", nargs="*")
    parser.add_argument("--lines", type=int, default=6, help="how many made-up lines")
    parser.add_argument("--find", action="store_true", help="keep what is better, and go on")
    given = parser.parse_args()
    seeds = range(_FIRST_SEED, _FIRST_SEED + given.lines)
    if given.which == "types":
        samples = [one for seed in seeds for one in _samples_of(seed)]
        _try(type_weights, "TYPES", given.words, lambda: _share_of_values(samples), given.find)
    else:
        _try(search_weights, "SEARCH", given.words, lambda: _share_of_addresses(seeds), given.find)


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
        for key, value in asdict(best).items():
            if not isinstance(value, float) or (words and not any(word in key for word in words)):
                continue
            tried = {number: scored(replace(best, **{key: number})) for number in (value * by for by in _TRIED)}
            told = "   ".join(f"{number:8.4g} {found:.4f}" for number, found in tried.items())
            print(f"{key:22} {value:8.4g} {known:.4f}   {told}", flush=True)
            number = max(tried, key=lambda number: tried[number])
            if finds and tried[number] > known + _BETTER:
                best, known, is_better = replace(best, **{key: number}), tried[number], True
                print(f"   {key} = {number:.4g} is better", flush=True)
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


def _share_of_values(devices: list[list[Run]]) -> float:
    """Of values that were not zero throughout: cut, ordered and read rightly."""
    right = values = 0
    for runs in devices:
        _, cuts = explain([[samples] for _, samples in runs])
        for (run, samples), found in zip(runs, cuts, strict=True):
            by_place = {one.at: one.codec for one in found}
            for point in run:
                at = 2 * (point.address - run[0].address)
                own = [sample[at : at + 2 * point.codec.registers] for sample in samples]
                if any(any(sample) for sample in own):
                    codec = by_place.get(at // 2)
                    values += 1
                    right += (
                        codec is not None
                        and codec.registers == point.codec.registers
                        and all(codec.decode(sample) == point.codec.decode(sample) for sample in own)
                    )
    return right / max(values, 1)


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
