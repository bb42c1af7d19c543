"""What is refused before it is polled, and how a plan knows its points."""

import tempfile
import unittest
from pathlib import Path

from kanaleto.planning.plan import plan_site
from kanaleto.site.model import Derived, Site
from tests.simulated import SimulatedLine, device
from tests.test_promises import ROWS


class Checked(unittest.TestCase):
    def test_in_flight_needs_a_connection_that_is_kept(self) -> None:
        from kanaleto.files.loading import load_site
        from kanaleto.site.filefaults import FaultyFile

        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "s.toml"
            path.write_text(
                '[site]\nname = "S"\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1"\nin_flight '
                '= 4\nconnection = "request"\n'
            )
            with self.assertRaises(FaultyFile) as caught:
                load_site(path)
        self.assertRegex(str(caught.exception.faults[0]), r"s\.toml:6: in_flight = 4 needs a connection that is kept")

    def test_a_plan_knows_every_point_by_device_and_name(self) -> None:
        site = Site("S", (SimulatedLine(device("D", 7, ROWS)).line,), None, (Derived("Sum", "1"),))
        plan = plan_site(site)
        self.assertEqual({plan.place_of(identity).identity for identity in plan.identities}, set(plan.identities))  # type: ignore[union-attr]
        self.assertEqual(len(set(plan.identities)), 7)
        self.assertIsNone(plan.place_of(("D", "Nobody")))
