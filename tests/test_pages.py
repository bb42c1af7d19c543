"""Pages that are made from the code are what the code says today; links between pages hold; the README is short."""

import re
import unittest

from scripts.pages import DOCS, PAGES

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

    def test_the_readme_is_short(self) -> None:
        self.assertLessEqual(len((ROOT / "README.md").read_text(encoding="utf-8").splitlines()), 120)


if __name__ == "__main__":
    unittest.main()
