"""Servers for whoever has the answers, at once or later: in order, and none lost when a client goes."""

import asyncio
import unittest
from dataclasses import dataclass, field

from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.opening import channel_for, framing_of
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.serving.answerer import NOBODY, Answerer, Master
from kanaleto.serving.network import DatagramServer, NetworkServer
from kanaleto.site.links.link import FramingKind, Link
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.links.udp import UdpLink
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read, ReadAnswer
from tests.test_bench import free_port


@dataclass
class Slow(Answerer):
    """Answers each read with its address, some at once, some later, some never."""

    name: str = "Slow"
    garbled: int = 0
    asked: list[int] = field(default_factory=list)

    def answer(self, unit_id: int, pdu: bytes, master: Master = NOBODY):  # type: ignore[no-untyped-def]
        address = int.from_bytes(pdu[1:3])
        self.asked.append(address)
        right = bytes([3, 2]) + pdu[1:3]
        return self._later(address, right) if address % 3 else right

    async def _later(self, address: int, right: bytes) -> bytes | None:
        await asyncio.sleep(0.05 if address % 3 == 1 else 0.01)
        return right if address != 7 else None

    def note_garbled(self) -> None:
        self.garbled += 1


class Later(unittest.TestCase):
    def test_answers_that_take_their_time(self) -> None:
        for link in (
            TcpLink("127.0.0.1", free_port()),
            TcpLink("127.0.0.1", free_port(), FramingKind.RTU),
            UdpLink("127.0.0.1", free_port()),
        ):
            with self.subTest(str(link)):
                asyncio.run(self._ask(link))

    async def _ask(self, link: Link) -> None:
        assert isinstance(link, TcpLink | UdpLink)
        slow = Slow()
        kind = DatagramServer if isinstance(link, UdpLink) else NetworkServer
        server = kind(slow, framing_of(link), link.host, link.port)
        await server.start()
        exchanger = Exchanger(channel_for(link, 5), framing_of(link))
        await exchanger.open()
        for address in (0, 1, 2, 3, 4, 5, 7, 8):
            outcome = await exchanger.ask(5, Read(Table.HOLDING, address, 1), 1.0 if address == 7 else 10.0)
            if address == 7:
                self.assertIs(outcome.kind, OutcomeKind.TIMEOUT)
                continue
            assert isinstance(outcome.content, ReadAnswer), outcome
            self.assertEqual(outcome.content.words, (address,))
        exchanger.close()
        await server.stop()

    def test_they_go_out_as_they_come_each_with_its_transaction(self) -> None:
        async def work() -> None:
            link = TcpLink("127.0.0.1", free_port())
            server = NetworkServer(Slow(), framing_of(link), link.host, link.port)
            await server.start()
            reader, writer = await asyncio.open_connection(link.host, link.port)
            framing = framing_of(link)
            order = [1, 2, 0, 4, 3, 5, 6]
            for number, address in enumerate(order):
                writer.write(framing.encode(5, Read(Table.HOLDING, address, 1).encode(), number + 1))
                await asyncio.sleep(0.002)
            came = await asyncio.wait_for(reader.readexactly(11 * len(order)), 60)
            answers = [came[at : at + 11] for at in range(0, len(came), 11)]
            addresses = [int.from_bytes(answer[9:]) for answer in answers]
            self.assertEqual([order[int.from_bytes(answer[:2]) - 1] for answer in answers], addresses)
            self.assertEqual(sorted(addresses), sorted(order))
            self.assertLess(addresses.index(0), addresses.index(1), "a slow one holds nobody up")
            writer.write(framing.encode(5, Read(Table.HOLDING, 1, 1).encode(), 1))
            writer.close()  # gone before its answer
            await asyncio.sleep(0.2)
            self.assertEqual(server.admission.connections, [])
            await server.stop()

        asyncio.run(work())
