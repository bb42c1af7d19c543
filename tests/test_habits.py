"""Lines with habits of their own: garbage at wrong rates. Judged by seeds that nobody looked at while it was built."""

import asyncio
import unittest
from unittest import mock

from kanaleto.probing.settings import SettingsSurvey
from kanaleto.site.links.serial import SerialLink
from tests.madeup import made_line
from tests.virtual import run_virtual

FIRST_JUDGED = 1000


def settings_found_s(seed: int, garbage_share: float) -> float | None:
    """How long until the settings of a made-up line were found at which something answers garbage at all other rates;
    None where others were found, or none."""
    line = made_line(seed, is_serial=True, tells_parity=False)
    line.garbage_share = garbage_share

    async def work() -> float | None:
        survey = SettingsSurvey(SerialLink("/virtual"), opener=line.opener)
        began_s = asyncio.get_running_loop().time()
        found = await survey.run()
        is_right = found is not None and found.settings is not None and line.link.settings is not None
        is_right = is_right and (found.settings.baud, found.framing) == (line.link.settings.baud, line.link.framing)  # type: ignore[union-attr]
        return asyncio.get_running_loop().time() - began_s if is_right else None

    with mock.patch("kanaleto.probing.settings.is_pseudo_terminal", lambda port: True):
        return run_virtual(work())


class Habits(unittest.TestCase):
    def test_garbage_at_wrong_rates_hides_no_settings(self) -> None:
        took = {seed: settings_found_s(seed, 0.3) for seed in range(FIRST_JUDGED, FIRST_JUDGED + 24)}
        late = {seed: took_s for seed, took_s in took.items() if took_s is None or took_s > 60}
        self.assertNotIn(None, took.values())
        self.assertLessEqual(len(late), 2, late)
