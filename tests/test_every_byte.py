"""Every byte that comes is told once: as an answer, or as a row of its own. Packets stand in the order of their times
over all lines."""

import asyncio
import random
import struct
from collections.abc import Callable
from pathlib import Path

from kanaleto.capture.capturefile import CaptureFile
from kanaleto.capture.jsonlines import CapturedLine
from kanaleto.capture.reading import Capture
from kanaleto.capture.recorder import ExchangeRecorder
from kanaleto.capture.row import ExchangeRow
from kanaleto.events.clock import Clock
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.memorychannel import MemoryChannel
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.polling.session import Session
from kanaleto.site.links.parse import parse_link
from kanaleto.site.model import Line, Site
from tests.exchanges import SERIAL, InFolder, exchange
from tests.mutations import LINKS
from tests.rawends import framed, unframed
from tests.simulated import device
from tests.test_captures import parsed
from tests.virtual import run_virtual

_LINK_TEXTS = {
    "tcp": "tcp://192.0.2.9:1502", "udp": "udp://192.0.2.9:1502", "rtu+tcp": "rtu+tcp://192.0.2.9:1502",
    "ascii+tcp": "ascii+tcp://192.0.2.9:1502", "rtu": "rtu:///dev/ttyX?baud=115200",
    "ascii": "ascii:///dev/ttyX?baud=115200",
}  # fmt: skip


class Strange:
    """A far end that answers, and sends what nobody asked for beside it; `sent` is all of it."""

    def __init__(self, link: str, seed: int) -> None:
        self.framing, self.character_s, self.is_datagram = LINKS[link]
        self.sent: list[bytes] = []
        self._source = random.Random(seed)

    def exchanger(self, line: Line) -> Exchanger:
        channel = MemoryChannel(self._far_end, self.character_s)
        channel.is_datagram = self.is_datagram
        return Exchanger(channel, self.framing)

    def _far_end(self, data: bytes, at: float) -> list[tuple[float, bytes]]:
        kind, source = self.framing.name, self._source
        found = unframed(kind, data)
        assert found is not None
        transaction, unit, pdu = found
        count = int.from_bytes(pdu[3:5])
        right = framed(kind, unit, bytes((pdu[0], 2 * count)) + bytes(2 * count), transaction)
        strange: list[Callable[[], bytes]] = [
            lambda: right,
            lambda: framed(kind, unit, b"\x03\x02\0\x07", transaction + 7),
            lambda: framed(kind, unit + 1, b"\x03\x02\0\x07", transaction),
            lambda: right[:2] + b"\0\1" + right[4:] if kind == "tcp" else right[: len(right) // 2],
            lambda: source.randbytes(source.randint(1, 30)) if kind != "tcp" else framed(kind, unit, b"\x83", 1),
            lambda: framed(kind, unit, b"\x83\x02", max(transaction - 1, 0)),
        ]
        pieces = [source.choice(strange)() for _ in range(source.choice((0, 0, 1, 2)))]
        pieces.insert(source.randint(0, len(pieces)), right if source.random() < 0.9 else b"")
        told, when = [], at
        for piece in pieces:
            if piece:
                when += source.choice((0.001, 0.001, 0.06, 0.2)) + len(piece) * self.character_s
                self.sent.append(piece)
                told.append((when, piece))
        return told


class EveryByte(InFolder):
    def _kept(self, link: str, seed: int, ending: str) -> tuple[Strange, Path]:
        strange = Strange(link, seed)
        line = Line("L", parse_link(_LINK_TEXTS[link]), (device("D", 7, period_s=0.3, timeout_s=0.25),))
        clock = Clock(None)
        path = self.folder / f"{link.replace('+', '-')}{seed}.{ending}"

        async def work() -> None:
            session = Session(Site("S", (line,)), strange.exchanger, clock=clock)
            recorder = ExchangeRecorder(clock.now, lambda what, text: None, lambda path, why: None)
            recorder.under_way_since_s = session.under_way_since_s
            recorder.captures.append(CaptureFile(path, "S", [CapturedLine("L", str(line.link))]))
            session.listen(recorder)
            task = asyncio.create_task(session.run())
            for _ in range(60):
                await asyncio.sleep(1)
                recorder.flush()
            session.hold(True)
            await asyncio.sleep(2)
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)
            recorder.close()

        run_virtual(work())
        return strange, path

    def test_no_answer_byte_is_missing_or_there_twice(self) -> None:
        for link in LINKS:
            for seed in range(4):
                with self.subTest(link, seed=seed):
                    strange, path = self._kept(link, seed, "jsonl")
                    rows = list(Capture(path))
                    self.assertEqual(sum(map(len, strange.sent)), sum(len(row.answer) for row in rows))
                    self.assertEqual(sorted(b"".join(strange.sent)), sorted(b"".join(row.answer for row in rows)))
                    kinds = {row.kind for row in rows if not row.request}
                    self.assertLessEqual(kinds, {OutcomeKind.UNEXPECTED, OutcomeKind.GARBLED})
                    self.assertTrue(kinds)

    def test_packets_have_them_too(self) -> None:
        for link in LINKS:
            strange, path = self._kept(link, 9, "pcapng")
            packets = [told for kind, told in parsed(path.read_bytes()) if kind == "packet"]
            times = [packet["at"] for packet in packets]
            self.assertEqual(times, sorted(times))
            inbound = b"".join(
                packet["data"][_head_of(link) :] for packet in packets if struct.unpack("<I", packet[2])[0] & 3 == 1
            )
            self.assertEqual(sorted(inbound), sorted(b"".join(strange.sent)), link)
            self.assertEqual(sum(len(row.answer) for row in Capture(path)), len(inbound), link)

    def test_packets_stand_in_the_order_of_their_times_over_all_lines(self) -> None:
        path = self.folder / "order.pcapng"
        capture = CaptureFile(path, "S", [])
        slow = exchange(0)._replace(line="Slow", last_us=900_000, first_us=890_000)
        quick = [exchange(n, SERIAL)._replace(line="Quick") for n in range(1, 60)]
        for row in quick[:30]:  # the slow one was asked before them all, and has no outcome yet
            capture.put([row], slow.at_us)
        self.assertEqual([kind for kind, _ in parsed(path.read_bytes())], ["section"])
        capture.put([slow, *quick[30:]], quick[-1].at_us)
        capture.close()
        times = [told["at"] for kind, told in parsed(path.read_bytes()) if kind == "packet"]
        self.assertEqual(len(times), 120)
        self.assertEqual(times, sorted(times))
        self.assertEqual({row.request for row in Capture(path)}, {row.request for row in [slow, *quick]})

    def test_serial_ascii_has_a_link_type_of_its_own(self) -> None:
        text = "ascii:///dev/ttyX?baud=9600"
        raw = framed("ascii", 7, b"\x03\0\0\0\1"), framed("ascii", 7, b"\x03\2\0\x07")
        row: ExchangeRow = exchange(1, SERIAL)._replace(link=text, request=raw[0], answer=raw[1])
        path = self.folder / "a.pcapng"
        capture = CaptureFile(path, "S", [])
        capture.put([row, exchange(2, SERIAL)._replace(line="Other")])
        capture.close()
        blocks = parsed(path.read_bytes())
        self.assertEqual([told["linktype"] for kind, told in blocks if kind == "interface"], [148, 147])
        first = next(iter(Capture(path)))
        self.assertEqual((first.request, first.answer, first.kind), (*raw, OutcomeKind.GOOD))
        # without the text of its link, by the type alone
        data = path.read_bytes().replace(b"ascii:///", b"ascii....")
        path.write_bytes(data)
        self.assertEqual(next(iter(Capture(path))).answered(), row.answered())


def _head_of(link: str) -> int:
    if link in ("rtu", "ascii"):
        return 0
    return 14 + 20 + (8 if link == "udp" else 20)
