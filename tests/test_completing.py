"""What the shell is given to complete: it is asked as bash asks, by its two variables."""

import os
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest.mock import patch

from tests.commanded import run

SITE = """[site]
name = "Weir"

[[line]]
name = "North line"
link = "tcp://127.0.0.1:15999"

[[line.device]]
name = "Upper gauge"
unit_id = 3
map = "gauge.csv"

[[line.device]]
name = "Lower gauge"
unit_id = 4
map = "gauge.csv"
"""


class WhatIsCompleted(unittest.TestCase):
    def setUp(self) -> None:
        folder = TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.site = Path(folder.name) / "weir.toml"
        self.site.write_text(SITE)
        (self.site.parent / "gauge.csv").write_text("name,table,address,type\nLevel,holding,0,uint16\n")

    def offered(self, *words: str) -> list[str]:
        asked = {
            "_KANALETO_COMPLETE": "bash_complete",
            "COMP_WORDS": "kanaleto " + " ".join(f"'{word}'" for word in words),
            "COMP_CWORD": str(len(words)),
        }
        with patch.dict(os.environ, asked):
            _, out, _ = run()
        return [line.split(",", 1)[1] for line in out.splitlines() if line]

    def test_commands(self) -> None:
        self.assertEqual(self.offered("pro"), ["proof"])

    def test_devices_of_the_site_on_the_line(self) -> None:
        site = str(self.site)
        self.assertEqual(self.offered("serve", site, "--device", ""), ["Upper gauge", "Lower gauge"])
        self.assertEqual(self.offered("serve", site, "--device", "low"), ["Lower gauge"])

    def test_lines_and_points(self) -> None:
        site = str(self.site)
        self.assertEqual(self.offered("wire", site, "--line", "N"), ["North line"])
        self.assertEqual(self.offered("proof", site, "--take", "upper"), ["Upper gauge/Level"])

    def test_links(self) -> None:
        self.assertEqual(self.offered("identify", "tc"), ["tcp://"])

    def test_a_faulty_site_offers_no_names_and_says_nothing(self) -> None:
        self.site.write_text(SITE.replace("unit_id = 4", "unit_id = "))
        self.assertEqual(self.offered("serve", str(self.site), "--device", ""), [])


if __name__ == "__main__":
    unittest.main()
