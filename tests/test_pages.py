"""Pages that are made from the code are what the code says today; links between pages hold; the README is short."""

import re
import time
import unittest
from pathlib import Path

from scripts.pages import DOCS, PAGES

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

    def replay(self, page: Path, command: str) -> int:
        """Each row's keys are pressed in the demo; what is bold in its last cell stands on the screen then. How many
        rows there are."""
        rows = re.findall(r"^\| (.+?) \| (`.+) \| (.*\*\*.*) \|$", page.read_text(encoding="utf-8"), re.MULTILINE)
        with Terminal() as terminal:
            terminal.run(f"{KANALETO} {command}")
            terminal.wait_for("all answering", 60)
            for what, keys, seen in rows:
                for key, text in re.findall(r"`([^`]+)`|\"([^\"]+)\"", keys):
                    terminal.type(text or key)
                    time.sleep(1.0 if text or key == "u" else 0.3)  # a person looks before the next
                for words in re.findall(r"\*\*(.+?)\*\*", seen):
                    with self.subTest(what, words=words):
                        pattern = r"18\d\b" if words == "183" else re.escape(words)  # the water is not still
                        terminal.wait_for(pattern, 30)
        return len(rows)

    def test_the_ten_minutes_of_the_readme_are_as_it_says(self) -> None:
        self.assertGreaterEqual(self.replay(ROOT / "README.md", "demo"), 6)

    def test_the_lesson_is_as_its_page_says(self) -> None:
        self.assertEqual(self.replay(DOCS / "wrong-value.md", "demo --lesson"), 3)

    def test_the_readme_is_short(self) -> None:
        self.assertLessEqual(len((ROOT / "README.md").read_text(encoding="utf-8").splitlines()), 120)


if __name__ == "__main__":
    unittest.main()
