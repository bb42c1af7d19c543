"""Pages that are made from the code are what the code says today; links between pages hold; the README is short."""

import os
import re
import shlex
import time
import unittest
from pathlib import Path

import click
from scripts.pages import DOCS, PAGES

from kanaleto.cli.main import kanaleto
from tests.spelling import known_words, words_of_pages
from tests.terminal import KANALETO, Terminal

ROOT = DOCS.parent


class Pages(unittest.TestCase):
    def test_commands_and_keys_are_as_the_code_says(self) -> None:
        for name, make in PAGES.items():
            with self.subTest(name):
                now = (DOCS / name).read_text(encoding="utf-8")
                self.assertTrue(
                    now == make(), f"docs/{name} is not as the code says: python -m scripts.pages writes it"
                )

    def test_links_between_pages_and_pictures_hold(self) -> None:
        for page in [ROOT / "README.md", *DOCS.glob("*.md")]:
            for link in re.findall(r"\]\(([^)#\s]+)", page.read_text(encoding="utf-8")):
                if "://" not in link:
                    self.assertTrue((page.parent / link).exists(), f"{page.name}: {link} is not there")

    def test_commands_of_pages_have_the_options_that_pages_give_them(self) -> None:
        count = 0
        for page in [ROOT / "README.md", *DOCS.glob("*.md")]:
            if page.name in PAGES:
                continue
            for line in re.findall(r"^ {4}(kanaleto .+)$", page.read_text(encoding="utf-8"), re.MULTILINE):
                words = shlex.split(re.split(r" {2,}|  ?[—…]|;| \[", line)[0])[1:]
                with self.subTest(page=page.name, line=line):
                    command = kanaleto.get_command(click.Context(kanaleto), words[0]) if words else None
                    if command is None:
                        continue  # a site, or nothing: the application itself
                    count += 1
                    while isinstance(command, click.Group) and len(words) > 1:
                        command, words = command.get_command(click.Context(command), words[1]), words[1:]
                        assert command is not None, words
                    known = {option for parameter in command.params for option in parameter.opts}
                    given = {word.split("=")[0] for word in words if word.startswith("--")}
                    self.assertEqual(given - known - {"--help"}, set())
        self.assertGreater(count, 60)

    def replay(self, page: Path, command: str, most: int = 99) -> int:
        """Each row's keys are pressed in the demo; what is bold in its last cell stands on the screen then. How many
        rows were. KANALETO_PAGES=all presses every row of every page."""
        rows = re.findall(r"^\| (.+?) \| (`.+) \| (.*\*\*.*) \|$", page.read_text(encoding="utf-8"), re.MULTILINE)
        rows = rows if os.environ.get("KANALETO_PAGES") == "all" else rows[:most]
        with Terminal() as terminal:
            terminal.run(f"{KANALETO} {command}")
            terminal.wait_for("all answering", 60)
            for what, keys, seen in rows:
                key = text = ""
                for key, text in re.findall(r"`([^`]+)`|\"([^\"]+)\"", keys):
                    terminal.type(text or key)
                    time.sleep(1.0 if text else 0.3)  # a person looks before the next
                    if key == "u":
                        terminal.wait_pressing("◆ writes", key)
                for words in re.findall(r"\*\*(.+?)\*\*", seen):
                    with self.subTest(what, words=words):
                        pattern = r"18\d\b" if words == "183" else re.escape(words)  # the water is not still
                        terminal.wait_pressing(pattern, key)
        return len(rows)

    def test_the_ten_minutes_of_the_readme_are_as_it_says(self) -> None:
        self.assertGreaterEqual(self.replay(ROOT / "README.md", "demo"), 6)

    def test_the_lesson_is_as_its_page_says(self) -> None:
        self.assertEqual(self.replay(DOCS / "wrong-value.md", "demo --lesson"), 3)

    def test_pages_by_task_are_as_they_say(self) -> None:
        for name in (
            "unknown-line",
            "manual-to-map",
            "fault-at-night",
            "programmers-bench",
            "writing",
            "keeping",
            "bridge",
            "proof",
        ):
            with self.subTest(name):
                self.assertGreaterEqual(self.replay(DOCS / f"{name}.md", "demo", 1), 1)

    def test_each_word_is_spelt_as_the_list_has_it(self) -> None:
        known = known_words()
        self.assertGreater(len(known), 1000)
        self.assertEqual({}, {word: page for word, page in words_of_pages().items() if word not in known})

    def test_the_readme_is_short(self) -> None:
        self.assertLessEqual(len((ROOT / "README.md").read_text(encoding="utf-8").splitlines()), 120)


if __name__ == "__main__":
    unittest.main()
