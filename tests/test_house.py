"""The house: no circle of imports, no file that has grown past one subject."""

import ast
import unittest
from graphlib import TopologicalSorter
from pathlib import Path

SOURCE = Path(__file__).parent.parent / "src"
MOST_LINES = 600


def modules() -> dict[str, Path]:
    """Every module by its name."""
    found = {}
    for path in SOURCE.rglob("*.py"):
        name = ".".join(path.with_suffix("").relative_to(SOURCE).parts)
        found[name.removesuffix(".__init__")] = path
    return found


def imported(path: Path, known: dict[str, Path]) -> set[str]:
    """What a module imports of ours, late imports and those for types included."""
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.ImportFrom) and node.module is not None:
            for alias in node.names:
                inner = f"{node.module}.{alias.name}"
                found.add(inner if inner in known else node.module)
        elif isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
    return found & set(known)


class House(unittest.TestCase):
    def test_no_circle_of_imports(self) -> None:
        known = modules()
        self.assertGreater(len(known), 200)
        graph = {name: imported(path, known) - {name} for name, path in known.items()}
        tuple(TopologicalSorter(graph).static_order())  # a circle is a CycleError that names it

    def test_one_name_is_one_class(self) -> None:
        """Of those that other files may name; what is private to a file may be called as in another."""
        where: dict[str, list[str]] = {}
        for name, path in modules().items():
            for node in ast.parse(path.read_text(encoding="utf-8")).body:
                if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
                    where.setdefault(node.name, []).append(name)
        self.assertGreater(len(where), 400)
        self.assertEqual({name: places for name, places in where.items() if len(places) > 1}, {})

    def test_a_file_is_of_one_subject(self) -> None:
        tests = Path(__file__).parent.glob("*.py")
        long = [
            f"{path.name}: {lines}"
            for path in (*modules().values(), *tests)
            if (lines := len(path.read_text(encoding="utf-8").splitlines())) > MOST_LINES
        ]
        self.assertEqual(long, [])
