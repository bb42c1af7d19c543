"""Faults of our own: told in one sentence, their details kept, what they happened in begins again; never a traceback on
the terminal."""

import asyncio
import contextlib
import gc
import io
import logging
import os
import tempfile
import threading
import unittest
import warnings
from pathlib import Path
from unittest import mock

from kanaleto.bench.servedunits import Units
from kanaleto.events.log import EventKind
from kanaleto.lines.opening import framing_of
from kanaleto.polling.line import LinePoller
from kanaleto.serving.answerer import NOBODY, Answer, Master
from kanaleto.serving.network import DatagramServer, NetworkServer
from kanaleto.serving.port import PortServer
from kanaleto.serving.terminal import TerminalServer
from kanaleto.site.links.parse import parse_link
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.model import Line
from kanaleto.supervision.owned import Failure, follow, leave, report
from kanaleto.tui.start import quiet_terminal
from tests.rawends import RawMaster
from tests.simulated import SimulatedLine, device
from tests.test_bench import free_port
from tests.test_polling import Running
from tests.test_rows import InThread
from tests.virtual import run_virtual


class Once(Units):
    """Raises at the first request, and answers all others."""

    is_spent = False

    def answer(self, unit_id: int, pdu: bytes, master: Master = NOBODY) -> Answer:
        if not self.is_spent:
            self.is_spent = True
            raise ZeroDivisionError("of ours")
        return super().answer(unit_id, pdu, master)


class Told(unittest.TestCase):
    def test_the_same_fault_is_told_now_and_then(self) -> None:
        now, failures = [100.0], list[Failure]()
        follow(failures.append)
        self.addCleanup(leave, failures.append)
        with mock.patch("kanaleto.supervision.owned.time.monotonic", lambda: now[0]):
            for second in range(25):
                now[0] = 100.0 + second
                try:
                    raise KeyError("x")
                except KeyError as error:
                    report("a line", error)
        self.assertEqual(len(failures), 3)
        self.assertIn("a line: a fault of this program: KeyError: 'x' in ", failures[0].text)
        self.assertIn("(9 more times since)", failures[1].text)

    def test_a_line_that_fails_before_it_runs_begins_again_and_again_and_again_ends_all(self) -> None:
        tries = 0

        def fails(poller: LinePoller) -> None:
            nonlocal tries
            tries += 1
            raise ZeroDivisionError("before it ran")

        async def work() -> None:
            async with Running(SimulatedLine(device("D", 7))) as running:
                await running.for_s(30)

        with mock.patch.object(LinePoller, "run", fails), self.assertRaisesRegex(ZeroDivisionError, "before it ran"):
            run_virtual(work())
        self.assertEqual(tries, 5)

    def test_a_callback_of_the_session_s_loop_becomes_an_event(self) -> None:
        async def work() -> None:
            async with Running(SimulatedLine(device("D", 7))) as running:
                asyncio.get_running_loop().call_soon(lambda: 1 / 0)
                await running.for_s(3)
                events = [event for event in running.session.events.ring if event.kind is EventKind.FAULT]
                self.assertEqual(len(events), 1)
                self.assertIn("ZeroDivisionError", events[0].text)
                self.assertGreater(running.session.count, 2)

        run_virtual(work())


class Served(unittest.TestCase):
    """An internal error in a server costs that connection, datagram or request, and is told."""

    READ = bytes.fromhex("0300000001")

    def setUp(self) -> None:
        self.thread = InThread()
        self.addCleanup(self.thread.close)
        self.told: list[str] = []

        def hear(failure: Failure) -> None:
            self.told.append(failure.text)

        follow(hear)
        self.addCleanup(leave, hear)

    def _units(self, text: str) -> Once:
        is_serial = not text.startswith(("tcp", "udp"))
        return Once(Line("L", parse_link(text), (device("D", 5),)), is_serial)

    def _again(self, master: RawMaster) -> None:
        self.assertEqual(master.ask(5, self.READ), bytes.fromhex("03020000"))
        self.assertEqual(len(self.told), 1, self.told)
        self.assertIn("L: ", self.told[0])
        self.assertIn("ZeroDivisionError: of ours", self.told[0])

    def test_streams(self) -> None:
        for scheme in "tcp", "rtu+tcp", "ascii+tcp":
            with self.subTest(scheme):
                self.told.clear()
                text = f"{scheme}://127.0.0.1:{free_port()}"
                server = NetworkServer(self._units(text), framing_of(parse_link(text)), "127.0.0.1", 0)
                self.thread.run(server.start())
                first = RawMaster(text, server.port)
                first.send(b"")
                with contextlib.suppress(ConnectionError):
                    self.assertIsNone(first.ask(5, self.READ, expects=False))
                first.close()
                master = RawMaster(text, server.port)
                self._again(master)
                master.close()
                self.thread.run(server.stop())

    def test_datagrams(self) -> None:
        text = f"udp://127.0.0.1:{free_port()}"
        server = DatagramServer(self._units(text), framing_of(parse_link(text)), "127.0.0.1", 0)
        self.thread.run(server.start())
        master = RawMaster(text, server.port)
        self.assertIsNone(master.ask(5, self.READ, expects=False))
        self._again(master)
        master.close()
        self.thread.run(server.stop())

    def test_pseudo_terminals_and_ports(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            link = parse_link(f"rtu://{folder}/a?baud=115200")
            assert isinstance(link, SerialLink)
            server = TerminalServer(self._units(str(link)), framing_of(link), link)
            self.thread.run(server.start())
            master = RawMaster("rtu:///a", path=link.port, baud=115200)
            self.assertIsNone(master.ask(5, self.READ, expects=False))
            self._again(master)
            master.close()
            self.thread.run(server.stop())

    def test_a_port_is_opened_again(self) -> None:
        near, far = os.openpty()
        self.addCleanup(os.close, near)
        self.addCleanup(os.close, far)
        link = parse_link(f"rtu://{os.ttyname(far)}?baud=115200")
        assert isinstance(link, SerialLink)
        server = PortServer(self._units(str(link)), framing_of(link), link)
        with mock.patch("kanaleto.serving.port._REOPEN_S", 0.05):
            self.thread.run(server.start())
            os.write(near, bytes.fromhex("050300000001858e"))
            self._until(lambda: bool(self.told))
            self._until(lambda: server._channel.is_open)
            os.write(near, bytes.fromhex("050300000001858e"))
            self.assertEqual(os.read(near, 100)[:5], bytes.fromhex("0503020000"))
            self.thread.run(server.stop())

    def _until(self, is_so: object) -> None:
        end = threading.Event()
        for _ in range(500):
            if is_so():  # type: ignore[operator]
                return
            end.wait(0.02)
        self.fail("it never came")


class Quiet(unittest.TestCase):
    def test_nothing_is_printed_while_the_screen_stands(self) -> None:
        texts: list[str] = []
        printed = io.StringIO()

        def hear(failure: Failure) -> None:
            texts.append(failure.text)

        class Falls:
            def __del__(self) -> None:
                raise ValueError("at its end")

        with tempfile.TemporaryDirectory() as folder, mock.patch.dict(os.environ, {"XDG_STATE_HOME": folder}):
            follow(hear)
            self.addCleanup(leave, hear)
            with contextlib.redirect_stderr(printed), quiet_terminal():
                thread = threading.Thread(target=lambda: 1 / 0, name="a thread of ours")
                thread.start()
                thread.join()
                logging.getLogger("somebody").error("words")
                warnings.warn("of a library", stacklevel=1)
                Falls()
                gc.collect()
            self.assertEqual(printed.getvalue(), "")
            self.assertEqual(len(texts), 1)
            self.assertRegex(texts[0], "a thread of ours: a fault of this program: ZeroDivisionError")
            self.assertEqual(len(list(Path(folder).rglob("fault-*.txt"))), 1)


if __name__ == "__main__":
    unittest.main()
