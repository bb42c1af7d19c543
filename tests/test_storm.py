"""A minute of the storm; `make storm` goes on longer."""

import unittest

from tests.storm import storm


class Storms(unittest.TestCase):
    def test_a_minute_of_it(self) -> None:
        for seed in (11, 12):
            with self.subTest(again=f"python -m tests.storm --seconds 30 --seed {seed}"):
                self.assertGreater(storm(30, seed)[0], 50)
