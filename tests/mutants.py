"""Small changes to rules and bounds, and whether a test notices each: `make mutants`, or `python -m tests.mutants WORD`
for those whose function or text has the word. Each is applied to a copy of the tree, the tests that hold it run there,
and it is printed as killed or survived. This is no part of `make test`: it takes about a quarter of an hour.

A mutant is named by its function (or the name of a constant) and the text that is changed, so that it follows code that
moves; it stands once in the whole source.
"""

import ast
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import cache
from pathlib import Path
from typing import NamedTuple

from tests.mutantlist import MUTANTS, NAMED, Mutant

_ROOT = Path(__file__).parent.parent
_LONGEST_S = 300
_AT_ONCE = max(2, os.cpu_count() or 1)


class Place(NamedTuple):
    """A file below the root, and what it holds once the mutant is applied."""

    path: Path
    text: str


def _definitions(node: ast.AST, within: str = "") -> Iterator[tuple[str, ast.stmt]]:
    """Functions and assigned names, each by its full name."""
    for child in ast.iter_child_nodes(node):
        if isinstance(child, ast.ClassDef):
            yield from _definitions(child, f"{within}{child.name}.")
        elif isinstance(child, ast.FunctionDef | ast.AsyncFunctionDef):
            yield f"{within}{child.name}", child
        elif isinstance(child, ast.Assign | ast.AnnAssign):
            targets = child.targets if isinstance(child, ast.Assign) else [child.target]
            for target in targets:
                for name in target.elts if isinstance(target, ast.Tuple) else [target]:
                    if isinstance(name, ast.Name):
                        yield f"{within}{name.id}", child


@cache
def _all_places(root: Path) -> list[tuple[Path, str, str, int]]:
    return list(places(root))


def places(root: Path) -> Iterator[tuple[Path, str, str, int]]:
    """Each function and constant of the source: its file, its full name, its text, and where that begins."""
    for path in sorted((root / "src").rglob("*.py")):
        text = path.read_text(encoding="utf-8")
        lines = text.splitlines(keepends=True)
        for name, node in _definitions(ast.parse(text)):
            first, last = node.lineno - 1, node.end_lineno or node.lineno
            yield path, name, "".join(lines[first:last]), len("".join(lines[:first]))


def applied(mutant: Mutant, root: Path) -> Place:
    """Raises LookupError where its text does not stand in just one function of that name."""
    found = [
        (path, source, at)
        for path, name, source, at in _all_places(root)
        if name == mutant.function and mutant.text in source
    ]
    if len(found) != 1 or found[0][1].count(mutant.text) != 1:
        times = sum(source.count(mutant.text) for _, source, _ in found)
        raise LookupError(f"{mutant.function} has {mutant.text!r} {times} times in {len(found)} places, once is due")
    path, source, at = found[0]
    text = path.read_text(encoding="utf-8")
    changed = text[:at] + source.replace(mutant.text, mutant.becomes) + text[at + len(source) :]
    return Place(path.relative_to(root), changed)


def _fails(copy: Path, name: str) -> bool:
    command = [sys.executable, "-m", "unittest", "-f", f"tests.{name}"]
    env = {**os.environ, "PYTHONPATH": str(copy / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
    try:
        done = subprocess.run(
            command, cwd=copy, env=env, capture_output=True, timeout=_LONGEST_S, stdin=subprocess.DEVNULL
        )
    except subprocess.TimeoutExpired:
        return True  # it hangs: that is noticed
    return done.returncode != 0


def killer(mutant: Mutant) -> str:
    """The first of its tests that fails on a copy with the mutant; empty where it survives. Raises LookupError."""
    with tempfile.TemporaryDirectory(prefix="mutant-") as folder:
        copy = Path(folder)
        place = applied(mutant, _ROOT)
        for name in ("src", "tests", "scripts", "docs"):
            shutil.copytree(_ROOT / name, copy / name, ignore=shutil.ignore_patterns("__pycache__"))
        for path in (*_ROOT.glob("*.toml"), *_ROOT.glob("*.md"), _ROOT / "Makefile"):
            shutil.copy(path, copy / path.name)
        (copy / place.path).write_text(place.text, encoding="utf-8")
        return next((name for name in mutant.tests.split() if _fails(copy, name)), "")


def main() -> int:
    word = sys.argv[1] if len(sys.argv) > 1 else ""
    wanted = [mutant for mutant in (*NAMED, *MUTANTS) if word in mutant.function or word in mutant.text]
    killed: dict[Mutant, str] = {}
    with ThreadPoolExecutor(_AT_ONCE) as pool:
        for mutant, by in zip(wanted, pool.map(killer, wanted), strict=True):
            killed[mutant] = by
            text = f"killed by {by}" if by else "SURVIVED"
            print(f"{text:28} {mutant.function}: {mutant.text} -> {mutant.becomes}", flush=True)
    for title, mutants_here in (("named", NAMED), ("others", MUTANTS)):
        asked = [mutant for mutant in mutants_here if mutant in killed]
        dead = sum(bool(killed[mutant]) for mutant in asked)
        print(f"{title}: {dead} killed, {len(asked) - dead} survived, of {len(asked)}")
    return 0 if all(killed.values()) else 1


if __name__ == "__main__":
    sys.exit(main())
