"""`kanaleto bridge` and `poll` as services: what they tell, whom they refuse, who floods, who reads through them, and
adapters that come back with another number."""

import asyncio
import json
import os
import socket
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

from kanaleto.lines.opening import exchanger_for
from kanaleto.site.links.parse import parse_link
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read
from tests.bridgeturns import turns
from tests.commanded import run
from tests.rawends import RawMaster, RawSlave, framed
from tests.test_bench import free_port

READ, WRITE = b"\x03\x00\x00\x00\x01", b"\x06\x00\x00\x00\x07"


class WithFile(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.path = self.folder / "s.toml"

    def write(self, out: int, listen: int) -> None:
        text = f"""
[site]
name = "S"
[[line]]
name = "Out"
link = "tcp://127.0.0.1:{out}"
timeout_s = 0.5
[[bridge]]
name = "Room"
listen = "tcp://127.0.0.1:{listen}"
[[bridge.route]]
units = "40-41"
to = "Out"
there = "9, 8"
"""
        self.path.write_text(text, encoding="utf-8")


class Command(WithFile):
    def test_each_routed_unit_is_tested_and_the_exit_code_tells(self) -> None:
        slave = RawSlave("tcp://x")
        self.addCleanup(slave.close)
        slave.handler = lambda unit, pdu: b"\x83\x02" if unit == 9 else None
        self.write(slave.port, free_port())
        code, out, _ = run("bridge", str(self.path), "--test", "--json")
        self.assertEqual(code, 1)
        first, second = (json.loads(line) for line in out.splitlines())
        self.assertEqual((first["unit_id"], first["line"], first["there"], first["code"]), (40, "Out", 9, 2))
        self.assertEqual((second["outcome"], second["code"]), ("timeout", None))
        slave.handler = lambda unit, pdu: b"\x03\x02\x00\x07"
        self.assertEqual(run("bridge", str(self.path), "--test")[0], 0)

    def test_what_cannot_be_begun_is_told_in_one_sentence(self) -> None:
        with socket.socket() as taken:
            taken.bind(("127.0.0.1", 0))
            taken.listen()
            self.write(free_port(), taken.getsockname()[1])
            code, _, text = run("bridge", str(self.path), "--for", "1")
        self.assertEqual(code, 1)
        self.assertIn("is in use by another program", text)
        code, _, text = run("bridge", str(self.path), "--only", "Rom")
        self.assertEqual(code, 2)
        self.assertIn("'Rom' is no bridge of this site (did you mean 'Room'?)", text)

    def test_a_service_tells_its_manager_and_a_master_what_it_may(self) -> None:
        slave = RawSlave("tcp://x")
        self.addCleanup(slave.close)
        slave.handler = lambda unit, pdu: b"\x03\x02\x00\x07" if pdu[0] == 3 else pdu
        listen, place = free_port(), str(self.folder / "notify")
        self.write(slave.port, listen)
        with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as manager:
            manager.bind(place)
            manager.settimeout(30)
            environment = {**os.environ, "NOTIFY_SOCKET": place, "WATCHDOG_USEC": "200000", "WATCHDOG_PID": ""}
            del environment["WATCHDOG_PID"]
            words = [sys.executable, "-m", "kanaleto", "bridge", str(self.path), "--log", str(self.folder / "m.jsonl")]
            with subprocess.Popen(words, env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as service:
                self.assertEqual(manager.recv(100), b"READY=1")
                self.assertEqual(manager.recv(100), b"WATCHDOG=1")
                master = RawMaster("tcp://x", listen)
                for _ in range(3):
                    self.assertEqual(master.ask(40, READ), b"\x03\x02\x00\x07")
                self.assertEqual(master.ask(40, WRITE), b"\x86\x01", "the route reads only")
                self.assertEqual(master.ask(50, READ), b"\x83\x0a")
                master.close()
                service.terminate()
                told = [manager.recv(100)]
                while told[-1] == b"WATCHDOG=1":
                    told.append(manager.recv(100))
                self.assertEqual(told[-1], b"STOPPING=1")
                self.assertEqual(service.wait(20), 0)
        rows = [json.loads(line) for line in (self.folder / "m.jsonl").read_text(encoding="utf-8").splitlines()]
        stored_rows = sorted((row["unit_id"], row["function"], row["outcome"], row["times"]) for row in rows)
        self.assertEqual(stored_rows, [(40, 3, "done", 3), (40, 6, "refused", 1), (50, 3, "refused", 1)])
        self.assertTrue(all({"route", "waited_ms", "took_ms", "shared"} <= set(row) for row in rows))


class ReadThrough(WithFile):
    def test_whoever_cannot_have_a_serial_port_reads_through_who_has_it(self) -> None:
        slave = RawSlave("rtu://x", str(self.folder / "port"))
        self.addCleanup(slave.close)
        slave.handler = lambda unit, pdu: b"\x03\x02\x00" + bytes((unit,)) if unit < 200 else None
        self.path.write_text(
            f'[site]\nname = "S"\n[[line]]\nname = "Port"\nlink = "rtu://{self.folder}/port?baud=115200"\n'
            "timeout_s = 0.4\n", encoding="utf-8",
        )  # fmt: skip
        words = [sys.executable, "-m", "kanaleto", "poll", str(self.path), "--quiet"]
        with subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as polling:
            texts: list[str] = []
            until_s = time.monotonic() + 30
            while not texts and time.monotonic() < until_s:
                time.sleep(0.1)
                texts = [path.read_text() for path in (self.folder / "s.kanaleto" / "open").glob("*.serves")]
            (served,) = json.loads(texts[0])["serves"]
            self.assertEqual((served["line"], served["origin"]), ("Port", "bridge"))
            master = RawMaster("tcp://x", int(served["link"].rpartition(":")[2]))
            answer = master.ask(77, READ)
            while answer == b"\x83\x0b" and time.monotonic() < until_s:  # it is just being opened
                answer = master.ask(77, READ)
            self.assertEqual(answer, b"\x03\x02\x00\x4d")
            self.assertEqual(master.ask(77, WRITE), b"\x86\x01")
            self.assertEqual(master.ask(201, READ), b"\x83\x0b")
            master.close()
            polling.terminate()
            self.assertEqual(polling.wait(20), 0)
        self.assertEqual(list((self.folder / "s.kanaleto").glob("open/*.serves")), [])


class Floods(WithFile):
    def test_one_that_floods_gets_each_answer_once_and_another_is_served_meanwhile(self) -> None:
        slave = RawSlave("tcp://x")
        self.addCleanup(slave.close)
        slave.handler = lambda unit, pdu: b"\x03\x02\x00" + bytes((unit,))
        listen = free_port()
        self.write(slave.port, listen)
        words = [sys.executable, "-m", "kanaleto", "bridge", str(self.path)]
        with subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as service:
            assert service.stdout is not None
            self.assertEqual(service.stdout.readline(), b"ready\n")
            with socket.create_connection(("127.0.0.1", listen)) as flooding:
                flooding.sendall(b"".join(framed("tcp", 40, READ, number) for number in range(3000)))
                master = RawMaster("tcp://x", listen)
                for _ in range(10):
                    self.assertEqual(master.ask(41, READ), b"\x03\x02\x00\x08")
                master.close()
                came = b""
                numbers: list[int] = []
                flooding.settimeout(20)
                while len(numbers) < 3000:
                    came += flooding.recv(65536)
                    while len(came) >= 6 and len(came) >= (size := 6 + int.from_bytes(came[4:6])):
                        numbers.append(int.from_bytes(came[:2]))
                        self.assertIn(came[7:size], (b"\x03\x02\x00\x09", b"\x83\x06"))
                        came = came[size:]
            service.terminate()
            self.assertEqual(service.wait(20), 0)
        self.assertEqual(sorted(numbers), list(range(3000)))


class Disturbed(unittest.TestCase):
    def test_killed_and_started_and_its_adapter_pulled_it_is_back_each_time(self) -> None:
        killed, pulled = turns(3)
        self.assertEqual((len(killed), len(pulled)), (3, 3))


class Adapters(unittest.TestCase):
    def test_an_adapter_is_found_again_whatever_number_it_comes_back_with(self) -> None:
        with tempfile.TemporaryDirectory() as text:
            folder = Path(text)
            (folder / "by-id").mkdir()
            stable = folder / "by-id" / "usb-Alder-1"
            first = RawSlave("rtu://x", str(folder / "ttyUSB0"))
            second = RawSlave("rtu://x", str(folder / "ttyUSB3"))
            for slave in (first, second):
                self.addCleanup(slave.close)
            first.handler = lambda unit, pdu: b"\x03\x02\x00\x01"
            second.handler = lambda unit, pdu: b"\x03\x02\x00\x02"
            stable.symlink_to(folder / "ttyUSB3")
            link = parse_link(f"rtu://{folder}/ttyUSB0?baud=115200")

            async def asked() -> bytes:
                exchanger = exchanger_for(link, preferred="usb-Alder-1")
                await exchanger.open()
                try:
                    return (await exchanger.ask(1, Read(Table.HOLDING, 0, 1), 2.0)).answer[3:5]
                finally:
                    exchanger.close()

            with mock.patch("kanaleto.lines.stablenames._BY_ID", folder / "by-id"):
                self.assertEqual(asyncio.run(asked()), b"\x00\x02")
                stable.unlink()
                self.assertEqual(asyncio.run(asked()), b"\x00\x01", "not there: the port that the link names")
