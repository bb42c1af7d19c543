"""The house: no circle of imports, no file that has grown past one subject."""

import ast
import unittest
from functools import cache
from graphlib import TopologicalSorter
from pathlib import Path

import click

from kanaleto.cli.find import SECTIONS
from kanaleto.cli.find import command as find_command
from tests.mutantlist import MUTANTS, NAMED
from tests.mutants import applied

SOURCE = Path(__file__).parent.parent / "src"
MOST_LINES = 600
SMALL_LINES = 40
SMALL_ALL_THE_SAME = {
    "kanaleto.tui.frame.later": "the application itself is at the limit of lines",
    "kanaleto.tui.frame.pages": "loaded once the first frame stands: the pages cost a start too much",
}

TWICE_ALL_THE_SAME = {
    "tcp": "a kind of link has a file in each room that knows it",
    "udp": "the same",
    "weights": "each search has one table of them",
}


@cache
def tree(path: Path) -> ast.Module:
    return ast.parse(path.read_text(encoding="utf-8"))


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
    for node in ast.walk(tree(path)):
        if isinstance(node, ast.ImportFrom) and node.module is not None:
            for alias in node.names:
                inner = f"{node.module}.{alias.name}"
                found.add(inner if inner in known else node.module)
        elif isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
    return found & set(known)


def _folder(name: str) -> str:
    """Of a module of the interface: its folder there; nothing for any other."""
    parts = name.split(".")
    return parts[2] if parts[1:2] == ["tui"] and len(parts) > 3 else ""


class House(unittest.TestCase):
    def test_no_circle_of_imports(self) -> None:
        known = modules()
        self.assertGreater(len(known), 200)
        graph = {name: imported(path, known) - {name} for name, path in known.items()}
        tuple(TopologicalSorter(graph).static_order())  # a circle is a CycleError that names it

    def test_one_name_is_one_class(self) -> None:
        where: dict[str, list[str]] = {}
        for name, path in modules().items():
            for node in ast.walk(tree(path)):
                if isinstance(node, ast.ClassDef):
                    where.setdefault(node.name, []).append(name)
        self.assertGreater(len(where), 400)
        self.assertEqual({name: places for name, places in where.items() if len(places) > 1}, {})

    def test_one_file_name_of_the_core_is_one_subject(self) -> None:
        """What shows a subject, or has it as a command, may be called after it."""
        where: dict[str, list[str]] = {}
        for name in modules():
            room, _, last = name.removeprefix("kanaleto.").rpartition(".")
            if room and room.split(".")[0] not in ("tui", "cli"):
                where.setdefault(last, []).append(name)
        self.assertGreater(len(where), 200)
        twice = {last: names for last, names in where.items() if len(names) > 1}
        self.assertEqual(set(twice), set(TWICE_ALL_THE_SAME), twice)

    def test_no_two_folders_of_the_interface_import_each_other(self) -> None:
        known = modules()
        arrows: set[tuple[str, str]] = set()
        for name, path in known.items():
            for other in imported(path, known):
                ends = _folder(name), _folder(other)
                if all(ends) and ends[0] != ends[1]:
                    arrows.add(ends)
        self.assertGreater(len(arrows), 8)
        self.assertEqual({ends for ends in arrows if ends[::-1] in arrows}, set())

    def test_a_small_file_is_of_use_to_more_than_one(self) -> None:
        """What one other file alone imports, and is short, belongs there: else a reason stands here."""
        known = modules()
        users: dict[str, set[str]] = {}
        for name, path in known.items():
            for other in imported(path, known) - {name}:
                users.setdefault(other, set()).add(name)
        small = {
            name
            for name, own in users.items()
            if len(own) == 1
            and known[name].name != "__init__.py"
            and len(known[name].read_text(encoding="utf-8").splitlines()) < SMALL_LINES
        }
        self.assertEqual(small, set(SMALL_ALL_THE_SAME))

    def test_every_option_of_find_stands_in_a_section(self) -> None:
        named = [name for names in SECTIONS.values() for name in names]
        options = [str(one.name) for one in find_command.params if isinstance(one, click.Option)]
        self.assertEqual(sorted(named), sorted(options))
        context = click.Context(find_command, info_name="find")
        text = find_command.get_help(context)
        for title in SECTIONS:
            self.assertIn(f"\n{title}:\n", text)

    def test_every_mutant_stands_in_the_code(self) -> None:
        """`make mutants` takes an hour; what it changes is looked for here, and must still be Python when changed."""
        root = SOURCE.parent
        for mutant in (*NAMED, *MUTANTS):
            with self.subTest(mutant.function, text=mutant.text):
                place = applied(mutant, root)
                compile(place.text, str(place.path), "exec")

    def test_a_file_is_of_one_subject(self) -> None:
        tests = Path(__file__).parent.glob("*.py")
        long = [
            f"{path.name}: {lines}"
            for path in (*modules().values(), *tests)
            if (lines := len(path.read_text(encoding="utf-8").splitlines())) > MOST_LINES
        ]
        self.assertEqual(long, [])
