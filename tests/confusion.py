"""`python -m tests.confusion [SEEDS] [FIRST]`: which findings lines with one fault each bring, as a table."""

import sys
from collections import Counter

from kanaleto.evidence.finding import FindingKind
from kanaleto.evidence.findings import findings_of
from kanaleto.evidence.gathered import Gathered
from tests.faulty_lines import FAULTY, FaultyLine, healthy


def named(line: FaultyLine) -> list[FindingKind]:
    """The findings, the first first."""
    gathered = Gathered()
    for row in line.rows():
        gathered.add(row)
    return [one.kind for one in findings_of(list(gathered.lines.values()))]


def table(seeds: int, first: int = 1) -> dict[FindingKind, Counter[str]]:
    """What was named first, by what was wrong."""
    found: dict[FindingKind, Counter[str]] = {}
    for kind, make in FAULTY.items():
        for seed in range(first, first + seeds):
            kinds = named(make(seed))
            found.setdefault(kind, Counter())[kinds[0].value if kinds else "nothing"] += 1
    return found


def main() -> None:
    seeds = int(sys.argv[1]) if len(sys.argv) > 1 else 10
    first = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    right = 0
    for kind, named_first in table(seeds, first).items():
        right += named_first[kind.value]
        print(f"{kind.value:<18} {named_first[kind.value]:>3}  {dict(named_first)}")
    print(f"{right} of {seeds * len(FAULTY)} right")
    claims = Counter(kind.value for seed in range(100) for kind in named(healthy(seed)))
    print(f"100 healthy lines: {dict(claims) or 'nothing'}")


if __name__ == "__main__":
    main()
