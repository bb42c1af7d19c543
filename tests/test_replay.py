"""A capture played back: asked by the same requests it gives the same bytes, transactions aside, in the same time."""

import json
import os
import select
import socket
import subprocess
import sys
import time
import tty
from pathlib import Path

from kanaleto.capture.capturefile import CaptureFile
from kanaleto.capture.jsonlines import CapturedLine
from kanaleto.capture.row import ExchangeRow
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.replay.player import LinePlayer
from kanaleto.serving.answerer import ShapedAnswer
from kanaleto.site.links.parse import parse_link
from kanaleto.wire.rtu import Rtu
from kanaleto.wire.tcp import Tcp
from tests.exchanges import START_US, TCP, InFolder

RTU_LINK = "rtu:///dev/ttyX?baud=19200"
_READ = bytes((3, 0, 10, 0, 2))


def _row(number: int, link: str, pdu: bytes, answer: bytes | None, after_ms: float, unit: int = 7) -> ExchangeRow:
    """Asked 100 ms after the one before; `answer` is a PDU, None for silence."""
    framing = Rtu() if link == RTU_LINK else Tcp()
    character_us = 573 if link == RTU_LINK else 0
    request = framing.encode(unit, pdu, number)
    raw = framing.encode(unit, answer, number) if answer is not None else b""
    sent = len(request) * character_us
    first = sent + round(after_ms * 1000)
    kind = OutcomeKind.TIMEOUT if answer is None else OutcomeKind.GOOD
    kind = OutcomeKind.EXCEPTION if answer is not None and answer[0] & 0x80 else kind
    return ExchangeRow(
        START_US + number * 100_000, "Line", link, "real", "", unit, kind, 0, request, raw, sent, first if raw else 0,
        first + len(raw) * character_us, "",
    )  # fmt: skip


def _value(number: int) -> bytes:
    return bytes((3, 4, 0, number, 0, number))


class Played(InFolder):
    def _player(self, rows: list[ExchangeRow], by_time: bool = False, again: bool = False) -> LinePlayer:
        player = LinePlayer("Line", rows[0].link, START_US, by_time, again)
        for row in rows:
            player.add(row)
        return player

    def _pdu(self, answer: object) -> bytes | None:
        return answer.pdu if isinstance(answer, ShapedAnswer) else answer  # type: ignore[return-value]

    def test_by_order_the_nth_answer_and_then_the_last_or_all_again(self) -> None:
        rows = [_row(n, TCP, _READ, None if n == 2 else _value(n), 5) for n in range(4)]
        for again, wanted in ((False, [0, 1, None, 3, 3, 3]), (True, [0, 1, None, 3, 0, 1])):
            player = self._player(rows, again=again)
            found = [self._pdu(player.answer(7, _READ)) for _ in range(6)]
            self.assertEqual(found, [None if number is None else _value(number) for number in wanted])

    def test_by_time_what_held_then(self) -> None:
        player = self._player([_row(n, TCP, _READ, _value(n), 5) for n in range(10)], by_time=True)
        now = [50.0]
        player.clock = lambda: now[0]
        for after_s, number in ((0.0, 0), (0.05, 0), (0.31, 3), (0.55, 5), (9.0, 9)):
            now[0] = 50.0 + after_s
            self.assertEqual(self._pdu(player.answer(7, _READ)), _value(number))

    def test_what_was_never_asked(self) -> None:
        player = self._player([_row(0, TCP, _READ, _value(4), 5), _row(1, TCP, _READ, None, 5, unit=9)])
        self.assertEqual(player.answer(7, bytes((3, 0, 11, 0, 1))), bytes((3, 2, 0, 4)))
        for pdu in (bytes((3, 0, 11, 0, 2)), bytes((4, 0, 10, 0, 1)), bytes((6, 0, 10, 0, 1)), bytes((3, 0, 0))):
            self.assertEqual(player.answer(7, pdu), bytes((pdu[0] | 0x80, 2)))
        self.assertIsNone(player.answer(9, _READ))
        self.assertIsNone(player.answer(9, bytes((3, 0, 0, 0, 1))))
        self.assertIsNone(player.answer(8, _READ))


_TURNS = 30


class Served(InFolder):
    """By the command, over a real connection and a real pseudo-terminal."""

    def _play(self, rows: list[ExchangeRow], *words: str) -> str:
        """Where it is served."""
        path = self.folder / "a.jsonl"
        capture = CaptureFile(path, "S", [CapturedLine("Line", rows[0].link)])
        capture.put(rows)
        capture.close()
        process = subprocess.Popen(
            [sys.executable, "-m", "kanaleto", "replay", str(path), "--json", *words], stdout=subprocess.PIPE
        )
        self.addCleanup(process.wait, 20)
        self.addCleanup(process.terminate)
        assert process.stdout is not None
        self.addCleanup(process.stdout.close)
        ready = json.loads(process.stdout.readline())
        return str(ready["ready"][0]["link"])

    def test_over_tcp_bytes_and_waits_are_those_of_the_capture(self) -> None:
        rows = [_row(n, TCP, _READ, _value(n), 10 + 40 * n) for n in range(6)]
        rows[2] = _row(2, TCP, _READ, b"\x83\x04", 30)
        spoilt = bytearray(rows[4].answer)
        spoilt[5] += 1
        rows[4] = rows[4]._replace(answer=bytes(spoilt), kind=OutcomeKind.GARBLED)
        address = parse_link(self._play(rows, "--again")).address
        assert address is not None
        over_ms = [1000.0] * len(rows)
        with socket.create_connection(address, 10) as one:
            one.settimeout(5)
            for turn in range(_TURNS):
                for number, row in enumerate(rows):
                    request = Tcp().encode(7, _READ, 900 + 10 * turn + number)
                    asked_s = time.perf_counter()
                    one.sendall(request)
                    sent_s = time.perf_counter()  # later than its bytes went, where the machine is busy
                    answer = one.recv(300)
                    came_s = time.perf_counter()
                    took_ms = 1000 * (came_s - sent_s)
                    self.assertEqual(answer, request[:2] + row.answer[2:])
                    wanted_ms = (row.first_us - row.sent_us) / 1000
                    self.assertGreater(1000 * (came_s - asked_s), wanted_ms - 1)
                    over_ms[number] = min(over_ms[number], took_ms - wanted_ms - max(5, 0.02 * wanted_ms))
                if turn >= 1 and max(over_ms) <= 0:
                    break
        self.assertLessEqual(max(over_ms), 0, "each wait is kept in one of many turns, however busy the machine is")

    def test_whoever_polls_it_knows_that_it_is_one(self) -> None:
        link = self._play([_row(n, TCP, _READ, _value(n), 10) for n in range(6)], "--again")
        site = self.folder / "polled.toml"
        site.write_text(
            f'[site]\nname = "P"\nperiod_s = 0.2\n[[line]]\nname = "L"\nlink = "{link}"\n[[line.device]]\n'
            'name = "D"\nunit_id = 7\nmap = "m.csv"\n'
        )
        (self.folder / "m.csv").write_text(f"name,table,address\nx,holding,{int.from_bytes(_READ[1:3])}\n")
        run = [sys.executable, "-m", "kanaleto"]
        subprocess.run([*run, "poll", str(site), "--for", "2"], check=True, capture_output=True)
        text = subprocess.run([*run, "wire", str(site), "--json"], check=True, capture_output=True, text=True).stdout
        rows = [json.loads(line) for line in text.splitlines()]
        self.assertEqual({row["origin"] for row in rows if "request" in row}, {"replay"})

    def test_on_a_pseudo_terminal(self) -> None:
        rows = [_row(n, RTU_LINK, _READ, _value(n), 20) for n in range(3)]
        link = self._play(rows, "--for", "30")
        port = parse_link(link).local_port
        assert port is not None
        self.assertTrue(Path(port).exists())
        descriptor = os.open(port, os.O_RDWR | os.O_NOCTTY)
        self.addCleanup(os.close, descriptor)
        tty.setraw(descriptor)
        for row in rows:
            os.write(descriptor, row.request)
            answer = b""
            while len(answer) < len(row.answer) and select.select([descriptor], [], [], 5)[0]:
                answer += os.read(descriptor, 300)
            self.assertEqual(answer, row.answer)
            time.sleep(0.02)

    def test_wrong_words(self) -> None:
        path = self.folder / "b.jsonl"
        capture = CaptureFile(path, "S", [CapturedLine("Line", TCP)])
        capture.put([_row(0, TCP, _READ, _value(1), 5)])
        capture.close()
        for words, text in (
            (["none.jsonl"], "there is no file"),
            ([str(path), "--line", "Lime"], "did you mean 'Line'"),
            ([str(path), "--at", "nowhere"], ""),
        ):
            done = subprocess.run(
                [sys.executable, "-m", "kanaleto", "replay", *words], capture_output=True, text=True, timeout=60
            )
            self.assertEqual(done.returncode, 2, done.stderr)
            self.assertIn(text, done.stderr)
