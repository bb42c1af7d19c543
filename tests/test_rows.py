"""The table of the open standard at both of our ends over every link, against ends that share nothing with them."""

import asyncio
import contextlib
import ssl
import threading
import time
from collections.abc import Coroutine, Iterator
from typing import Any

from msgspec.structs import replace

from kanaleto.bench.server import SiteServer
from kanaleto.lines.opening import exchanger_for
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.site.bridges import TlsServing
from kanaleto.site.links.link import Link
from kanaleto.site.links.parse import parse_link
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.model import Line, Simulated, Site
from tests.rawends import RawMaster, RawSlave, framed, settings_of
from tests.simulated import device
from tests.standard_rows import ALIKE, COUNTED, MAP, MASTER, SERIAL, SLAVE
from tests.test_bench import free_port
from tests.test_tls import WithCertificates

_OWN = Simulated(
    identity=((0, "Alder"), (1, "A"), (2, "B"), (0x80, "x")),
    server_id="SL-1 ",
    files=((4, 0, 9),),
    fifos=((40, (440, 4740)), (50, tuple(range(32)))),
)
_FIVE = replace(device("Five", 5, MAP), simulated=_OWN)
_SIX = device("Six", 6, "name,table,address,type,access,initial\nA,holding,0,uint16,rw,0\nB,holding,1,uint16,rw,1\n")
_counted = {"rows": 0, "exchanges": 0}


def tearDownModule() -> None:
    print(f"rows of the standard: {_counted['rows']}, in {_counted['exchanges']} exchanges")


class InThread:
    """A loop of its own for the servers, since the raw ends block."""

    def __init__(self) -> None:
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, daemon=True)
        self._thread.start()

    def run(self, work: Coroutine[Any, Any, Any]) -> Any:
        return asyncio.run_coroutine_threadsafe(work, self._loop).result(20)

    def close(self) -> None:
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(5)
        self._loop.close()


class EveryLink(WithCertificates):
    def setUp(self) -> None:
        super().setUp()
        self.thread = InThread()
        self.addCleanup(self.thread.close)

    def links(self, baud: int = 115200) -> list[str]:
        return [
            *(f"{scheme}://127.0.0.1:{free_port()}" for scheme in ("tcp", "udp", "tls", "rtu+tcp", "ascii+tcp")),
            *(f"{scheme}://{self.folder}/{scheme}?baud={baud}" for scheme in ("rtu", "ascii")),
        ]

    def context(self, role: int) -> ssl.SSLContext:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER if role == ssl.PROTOCOL_TLS_SERVER else role)
        context.load_verify_locations(self.folder / "ca.pem")
        if role == ssl.PROTOCOL_TLS_CLIENT:
            context.check_hostname = False
        else:
            context.verify_mode = ssl.CERT_REQUIRED
        name = "operator" if role == ssl.PROTOCOL_TLS_CLIENT else "server"
        context.load_cert_chain(self.folder / f"{name}.pem", self.folder / f"{name}.key")
        return context

    @contextlib.contextmanager
    def served(self, text: str, *, is_strict: bool = False) -> Iterator[RawMaster]:
        """A raw master on a fresh slave of ours."""
        link = parse_link(text)
        _, carrier = settings_of(text)
        serving = TlsServing(self.folder / "server.pem", self.folder / "server.key", self.folder / "ca.pem")
        five = replace(_FIVE, simulated=replace(_OWN, is_strict=is_strict))
        line = Line("Line", link, (five, _SIX), tls_serving=serving if carrier == "tls" else None)
        server = SiteServer(Site("S", (line,)))
        self.thread.run(server.start())
        path, port = (link.place, 0) if carrier == "serial" else ("", int(link.place.rpartition(":")[2]))
        baud = link.settings.baud if carrier == "serial" else 0  # type: ignore[union-attr]
        master = RawMaster(text, port, path, baud, self.context(ssl.PROTOCOL_TLS_CLIENT) if carrier == "tls" else None)
        try:
            yield master
        finally:
            master.close()
            self.thread.run(server.stop())

    def check(self, master: RawMaster, row: str, unit: int, request: str, answer: str | None) -> None:
        _counted["exchanges"] += 1
        if not request:
            master.send(b"\x05\x03\x00" if master.kind == "rtu" else b":05030000ZZ\r\n")
            time.sleep(0.35)
            return
        came = master.ask(unit, bytes.fromhex(request), answer is not None)
        self.assertEqual(
            came.hex() if came is not None else None,
            bytes.fromhex(answer).hex() if answer is not None else None,
            f"{row}: {request}",
        )


class Slave(EveryLink):
    def test_each_function_on_each_link(self) -> None:
        for text in self.links():
            is_serial = settings_of(text)[0] != "tcp"
            with self.subTest(text), self.served(text) as master:
                for row, request, answer in SLAVE:
                    self.check(master, row, 5, request, answer)
                for row, request, answer in SERIAL:
                    refusal = f"{int(request[:2], 16) | 0x80:02X} 01"
                    self.check(master, row, 5, request, answer if is_serial else refusal)
        _counted["rows"] += len(SLAVE) + len(SERIAL)

    def test_counters_and_log(self) -> None:
        for text in self.links():
            if settings_of(text)[0] == "tcp":
                continue
            with self.subTest(text), self.served(text) as master:
                for row, unit, request, answer in COUNTED:
                    self.check(master, row, unit, request, answer)
        _counted["rows"] += len(COUNTED)

    def test_the_end_of_ascii_frames_is_the_line_s(self) -> None:
        """AP 6.8.1 03: another character ends requests, whoever was told; there are three ways back."""
        read = bytes.fromhex("0300010001")
        for text in self.links():
            if settings_of(text)[0] != "ascii":
                continue
            back = ((5, "080003 0A00"), (6, "080003 0A00"), (6, "080001 0000"), (5, "080001 FF00"))
            for told, (unit, words) in zip((5, 6, 6, 5), back, strict=True):
                with self.subTest(text, told=told, back=words), self.served(text) as master:
                    change = bytes.fromhex("0800033B00")
                    self.assertEqual(master.ask(told, change), change)
                    self.assertIsNone(master.ask(5, read, expects=False))
                    self.assertEqual(master.ask(5, read, end=b";"), bytes.fromhex("03020001"))
                    self.assertEqual(master.ask(6, read, end=b";"), bytes.fromhex("03020001"))
                    request = bytes.fromhex(words)
                    self.assertEqual(master.ask(unit, request, end=b";"), request)
                    self.assertEqual(master.ask(5, read), bytes.fromhex("03020001"))
                    for letter in "3A", "41", "0D":  # an end that stands inside frames would deafen it
                        refused = master.ask(5, bytes.fromhex(f"080003{letter}00"))
                        self.assertEqual(refused, b"\x88\x03")
                    _counted["exchanges"] += 9
        _counted["rows"] += 4

    def test_what_a_strict_device_throws_away(self) -> None:
        """SL 2.5.1: a gap over 1.5 characters, a byte right behind, noise right before. Others bear them."""
        read = bytes.fromhex("0300010001")
        raw, right = framed("rtu", 5, read), bytes.fromhex("03020001")
        for is_strict in (True, False):
            spoilt = None if is_strict else right
            text = f"rtu://{self.folder}/strict?baud=9600"
            with self.subTest(is_strict=is_strict), self.served(text, is_strict=is_strict) as master:
                self.assertEqual(master.ask(5, read), right)
                for row in ("gap", "behind", "before"):
                    if row == "gap":
                        master.send(raw[:4])
                        time.sleep(0.05)  # a stall of the machine is not to hide it
                        master.send(raw[4:])
                    else:
                        master.send(raw + b"\0" if row == "behind" else b"\xff" + raw)
                    self.assertEqual(master.answer(5, not is_strict, 0.2), spoilt, row)
                    time.sleep(0.4)
                    self.assertEqual(master.ask(5, read), right, f"after {row}")
                    _counted["exchanges"] += 2
        _counted["rows"] += 3

    def test_fewer_bytes_than_a_frame_behind_one_do_not_cost_the_next(self) -> None:
        read, right = bytes.fromhex("0300010001"), bytes.fromhex("03020001")
        for text in self.links():
            if settings_of(text)[0] != "rtu":
                continue
            with self.subTest(text), self.served(text) as master:
                for behind in b"\0", b"\x05", b"\x05\x10", b"\0\0\0", b"\x05\x03\0", b"\xff\xff":
                    for pdu in read, b"\x0c":
                        master.send(framed("rtu", 5, pdu) + behind)
                        self.assertIsNotNone(master.answer(5))
                        self.assertEqual(master.ask(5, read), right, behind.hex())
                        master.send(framed("rtu", 5, pdu) + behind)
                        self.assertIsNotNone(master.answer(5))
                        self.assertIsNotNone(
                            master.ask(5, b"\x0b", False, silent_s=0.2), behind.hex()
                        )  # shorter than a read
                        _counted["exchanges"] += 4
        _counted["rows"] += 1

    def test_a_strict_pause_is_the_line_s_own(self) -> None:
        """SL 2.5.1.1: above 19 200 baud 1.75 ms end a frame; what comes 3 ms later is another."""
        read, right = bytes.fromhex("0300010001"), bytes.fromhex("03020001")
        raw = framed("rtu", 5, read)
        with self.served(f"rtu://{self.folder}/pause?baud=115200", is_strict=True) as master:
            answered = 0
            for _ in range(10):  # a machine that stalls between the two hides one, never ten
                master.send(framed("rtu", 9, read))
                time.sleep(len(raw) * 11 / 115200 + 0.003)
                master.send(raw)
                answered += master.answer(5, False, 0.2) == right
                time.sleep(0.05)
            self.assertGreater(answered, 0)
        _counted["rows"] += 1

    def test_the_pauses_of_ascii_are_borne(self) -> None:
        """SL 2.5.2.1: up to a second between characters, at the slave too."""
        read = bytes.fromhex("0300010001")
        raw = framed("ascii", 5, read)
        for text in self.links():
            if settings_of(text)[0] != "ascii":
                continue
            with self.subTest(text), self.served(text) as master:
                master.send(raw[:5])
                time.sleep(0.8)
                master.send(raw[5:])
                self.assertEqual(master.answer(5), bytes.fromhex("03020001"))
        _counted["rows"] += 1

    def test_answers_of_other_slaves_are_no_errors(self) -> None:
        """SL 2.5.1: a slave hears them on the line; sound frames are messages (AP 6.8.1 0B), not errors (0C)."""
        with self.served(f"rtu://{self.folder}/shared?baud=19200") as master:
            for pdu in ("03040001 0002", "8302", "06 0001 0003", "2B0E0101000001000141", "64 01", "01 01 05"):
                master.send(framed("rtu", 9, bytes.fromhex(pdu)))
                time.sleep(0.05)
            master.send(
                framed("rtu", 9, bytes.fromhex("03040001 0002")) + framed("rtu", 5, bytes.fromhex("08000C0000"))
            )
            self.assertEqual(master.answer(5), bytes.fromhex("08000C0000"))
            self.assertEqual(master.ask(5, bytes.fromhex("08000B0000")), bytes.fromhex("08000B0009"))
        _counted["rows"] += 7

    def test_the_gap_is_kept_at_each_rate(self) -> None:
        """SL 2.5.1: an answer begins 3.5 characters after the request at the earliest (1.75 ms above 19 200 baud), and
        ends no earlier than its bytes take."""
        read = bytes.fromhex("0300010001")
        for baud in (300, 1200, 9600, 19200, 38400, 115200):
            character_s = 11 / baud
            gap_s = 0.00175 if baud > 19200 else 3.5 * character_s
            with self.subTest(baud=baud), self.served(f"rtu://{self.folder}/rate?baud={baud}") as master:
                for _ in range(3):
                    began = time.monotonic()
                    self.assertEqual(master.ask(5, read), bytes.fromhex("03020001"))
                    took_s = time.monotonic() - began
                    self.assertGreaterEqual(took_s, (8 + 7) * character_s + gap_s - 0.0002)
                    _counted["exchanges"] += 1
                    time.sleep(gap_s)
        _counted["rows"] += 6


class Master(EveryLink):
    def test_each_function_on_each_link(self) -> None:
        for text in self.links():
            kind, carrier = settings_of(text)
            path = str(self.folder / kind)
            context = self.context(ssl.PROTOCOL_TLS_SERVER) if carrier == "tls" else None
            slave = RawSlave(text, path if carrier == "serial" else "", context)
            scheme = text.partition("://")[0]
            link = parse_link(text if carrier == "serial" else f"{scheme}://127.0.0.1:{slave.port}")
            if isinstance(link, TcpLink) and carrier == "tls":
                link = replace(link, tls=self._files("operator"))
            try:
                with self.subTest(text):
                    asyncio.run(self._ask_all(link, slave))
            finally:
                slave.close()
        _counted["rows"] += len(MASTER)

    async def _ask_all(self, link: Link, slave: RawSlave) -> None:
        exchanger = exchanger_for(link)
        await exchanger.open()
        for row, request, asked, answer, becomes in MASTER:
            pdu = bytes.fromhex(asked)
            right = pdu if answer == ALIKE else bytes.fromhex(answer)
            slave.handler = lambda unit, pdu, right=right: right  # type: ignore[misc]
            slave.seen.clear()
            outcome: Outcome = await exchanger.ask(17, request, 1.0 if becomes != "bad" else 0.4)
            _counted["exchanges"] += 1
            self.assertEqual(slave.seen, [(17, pdu)], row)
            if becomes == "good":
                self.assertTrue(outcome.is_good, (row, outcome.reason))
                assert outcome.content is not None
                self.assertEqual(outcome.content.encode(), right, row)
            elif becomes == "exception":
                self.assertEqual((outcome.kind, outcome.code), (OutcomeKind.EXCEPTION, right[1]), row)
            else:
                self.assertIn(outcome.kind, (OutcomeKind.UNEXPECTED, OutcomeKind.GARBLED), (row, outcome.reason))
        exchanger.close()
