"""A line whose port a service holds is read through that service, by a key; and at its own port again afterwards."""

import subprocess
import sys
from typing import Any

from textual.pilot import Pilot

from kanaleto.tui.app import KanaletoApp
from tests.livesite import LiveCase
from tests.rawends import RawSlave

MAP = "name,table,address,type,access\nLevel,holding,0,uint16,rw\n"


class ReadThrough(LiveCase):
    def test_it_is_offered_begun_and_ended(self) -> None:
        slave = RawSlave("rtu://x", str(self.folder / "port"))
        self.addCleanup(slave.close)
        slave.handler = lambda unit, pdu: b"\x03\x02\x00\x4d" if pdu[0] == 3 else pdu
        (self.folder / "m.csv").write_text(MAP)
        site = (
            f'[site]\nname = "S"\nperiod_s = 0.2\n[[line]]\nname = "Port"\ntimeout_s = 0.5\nreconnect_s = 0.5\n'
            f'link = "rtu://{self.folder}/port?baud=115200"\n'
            '[[line.device]]\nname = "Meter"\nunit_id = 1\nmap = "m.csv"\n'
        )
        (self.folder / "site.toml").write_text(site)
        words = [sys.executable, "-m", "kanaleto", "poll", str(self.folder / "site.toml")]
        service = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
        self.addCleanup(service.kill)
        assert service.stdout is not None
        self.addCleanup(service.stdout.close)
        service.stdout.readline()  # it has the port by now

        async def work(case: Any, app: KanaletoApp, pilot: "Pilot[None]") -> None:
            await case.shows(app, "Port: its port is held by a service of Kanaleto; J reads through it")
            await pilot.press("J")
            await case.shows(app, r"Level +77")
            await case.shows(app, "◇ Port read through a service")
            await case.shows(app, "◇ read through · Port")
            self.assertEqual((case.folder / "site.toml").read_text(), site, "nothing of it is saved")
            service.terminate()
            service.wait(20)
            await case.shows(app, "Port: the service that it was read through has ended; J leads it back")
            await pilot.press("J")
            await case.until(lambda: app.snapshot.lines[0].line.led_from is None, "its own port")
            await case.until(lambda: not app.snapshot.lines[0].why_unreachable, "the port")
            await case.shows(app, r"Level +77")
            await case.until(lambda: not app.troubles, "nothing is offered any more")

        self.drive_site(site, "is in use by another program|held by", work)
