"""Pictures from memory: the same twice, and each can be made."""

import os
import re
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from scripts.shots.pictures import PICTURES

_ROOT = Path(__file__).parent.parent
_COLOURS = r"\x1b\[[0-9;]*m"


def made(name: str, folder: Path) -> str:
    kept = {"XDG_DATA_HOME": str(folder / "data"), "XDG_STATE_HOME": str(folder / "state")}
    subprocess.run(
        [sys.executable, "-m", "scripts.shots", str(folder), name], check=True, cwd=_ROOT, env=os.environ | kept,
        timeout=200,
    )  # fmt: skip
    return (folder / f"{name}.ansi").read_text(encoding="utf-8")


class Pictures(unittest.TestCase):
    def test_a_picture_is_the_same_twice(self) -> None:
        pictures = []
        for _ in range(2):
            with tempfile.TemporaryDirectory() as folder:
                pictures.append(made("across", Path(folder)))
        self.assertEqual(*pictures)
        text = re.sub(_COLOURS, "", pictures[0])
        self.assertRegex(text, r"3 Live .* 02:40:\d\d")
        self.assertRegex(text, r"● Upper pool level +\d\.\d{3} +1\d\.\d")

    def test_each_picture_is_one_of_those_kept(self) -> None:
        kept = {path.stem for path in (_ROOT / "docs" / "screenshots").glob("*.png")}
        self.assertEqual(kept, set(PICTURES))
        shown = "".join(
            page.read_text(encoding="utf-8") for page in [_ROOT / "README.md", *(_ROOT / "docs").glob("*.md")]
        )
        self.assertEqual([], [name for name in sorted(kept) if f"screenshots/{name}.png" not in shown])


if __name__ == "__main__":
    unittest.main()
