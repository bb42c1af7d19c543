"""Seventeen tasks of a technician, by keys on the demo, none with a wrong turn and none with more keys than it may
take."""

import tempfile
import time
import unittest
from pathlib import Path

from tests.tasks import TASKS, replay
from tests.terminal import KANALETO, Terminal


class Tasks(unittest.TestCase):
    def test_each_by_its_keys(self) -> None:
        self.assertEqual(len(TASKS), 17)
        with tempfile.TemporaryDirectory() as folder, Terminal() as terminal:
            terminal.run(f"{KANALETO} demo")
            terminal.wait_for("Alder Lock")
            time.sleep(8)  # values that move
            for task in TASKS:
                with self.subTest(task.what):
                    self.assertLessEqual(task.keys, task.most)
                    replay(task, terminal, Path(folder))
            terminal.type("C-q", "C-q")


if __name__ == "__main__":
    unittest.main()
