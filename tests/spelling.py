"""The words of the pages, of all commands' help and of all keys, for the list of words that are spelt right
(tests/words.txt): a word that is new there is looked up, and added by hand."""

import re
from pathlib import Path

_ROOT = Path(__file__).parents[1]
_WORD = re.compile(r"\b[A-Za-z]?[a-z']{2,}\b")


def known_words() -> set[str]:
    return set((Path(__file__).parent / "words.txt").read_text(encoding="utf-8").split())


def words_of_pages() -> dict[str, str]:
    """Each word, and the page that has it. Code, commands, paths and names are left out."""
    found: dict[str, str] = {}
    for page in (_ROOT / "README.md", _ROOT / "CHANGELOG.md", *sorted((_ROOT / "docs").glob("*.md"))):
        text = page.read_text(encoding="utf-8")
        if page.name != "commands.md":  # which is nothing but the help
            text = re.sub(r"```.*?```", "", text, flags=re.DOTALL)
            text = re.sub(r"^ {4}.*$", "", text, flags=re.MULTILINE)
        text = re.sub(r"`[^`]*`", " ", text)
        text = re.sub(r"\]\([^)]*\)", "]", text)
        text = re.sub(r"\S*[/_.=<>@:-]\w\S*", " ", text)
        for word in _WORD.findall(text):
            found.setdefault(word.lower().strip("'").removesuffix("'s"), page.name)
    return found
