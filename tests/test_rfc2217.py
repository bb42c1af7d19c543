"""Ports of port servers (RFC 2217)."""

import asyncio
import socket
import threading
import unittest

import serial.rfc2217

from kanaleto.bench.servedunits import Units
from kanaleto.lines.channel import Unreachable
from kanaleto.lines.opening import exchanger_for
from kanaleto.lines.outcome import Outcome
from kanaleto.site.links.parse import parse_link
from kanaleto.site.links.serial import SerialLink
from kanaleto.wire.codes import Table
from kanaleto.wire.frames import Frame, Role
from kanaleto.wire.pdu import ReadAnswer
from kanaleto.wire.rtu import Rtu
from tests.test_bench import free_port
from tests.test_links import ASKED, line_of


class Rfc2217(unittest.TestCase):
    def test_a_port_of_another_machine(self) -> None:
        units = Units(line_of(SerialLink("/x")), is_serial=True)
        with socket.socket() as listening:
            listening.bind(("127.0.0.1", 0))
            listening.listen()
            threading.Thread(target=self._serve, args=(listening, units), daemon=True).start()
            link = parse_link(f"rtu+rfc2217://127.0.0.1:{listening.getsockname()[1]}?baud=9600&parity=none&stop=2")

            async def work() -> Outcome:
                exchanger = exchanger_for(link)
                await exchanger.open()
                outcome = await exchanger.ask(5, ASKED[0], 3)
                exchanger.close()
                return outcome

            outcome = asyncio.run(work())
        self.assertEqual(outcome.content, ReadAnswer(Table.HOLDING, bytes.fromhex("000A0014001E")), outcome.reason)

    def _serve(self, listening: socket.socket, units: Units) -> None:
        connection, _ = listening.accept()
        port = serial.serial_for_url("loop://", timeout=0)

        class Wire:
            def write(self, data: bytes) -> None:
                connection.sendall(data)

        manager = serial.rfc2217.PortManager(port, Wire())  # type: ignore[arg-type]
        decoder = Rtu().decoder(Role.REQUESTS)
        with connection:
            while data := connection.recv(1024):
                for event in decoder.feed(b"".join(manager.filter(data))):
                    assert isinstance(event, Frame)
                    pdu = units.answer(event.unit_id, event.pdu)
                    if isinstance(pdu, bytes):
                        connection.sendall(b"".join(manager.escape(Rtu().encode(event.unit_id, pdu))))

    def test_a_setting_that_the_server_refuses(self) -> None:
        """RFC 2217: what it sets instead comes back, and is told."""
        with socket.socket() as listening:
            listening.bind(("127.0.0.1", 0))
            listening.listen()

            def serve() -> None:
                connection, _ = listening.accept()
                with connection:
                    connection.sendall(bytes.fromhex("FFFD2C FFFB2C FFFB00 FFFD00 FFFB03 FFFD03".replace(" ", "")))
                    held = b""
                    while data := connection.recv(1024):
                        held += data
                        while (at := held.find(b"\xff\xfa\x2c")) >= 0 and (end := held.find(b"\xff\xf0", at)) >= 0:
                            option, value = held[at + 3], held[at + 4 : end]
                            held = held[end + 2 :]
                            value = b"\1" if option == 3 else value  # no parity, whatever is asked
                            connection.sendall(b"\xff\xfa\x2c" + bytes((option + 100,)) + value + b"\xff\xf0")

            threading.Thread(target=serve, daemon=True).start()
            link = parse_link(f"rtu+rfc2217://127.0.0.1:{listening.getsockname()[1]}?baud=9600&parity=even&stop=1")

            async def work() -> None:
                await exchanger_for(link).open()

            with self.assertRaisesRegex(Unreachable, "the port server at 127.* does not set even parity; ask for"):
                asyncio.run(work())

    def test_nobody_there(self) -> None:
        async def work() -> None:
            await exchanger_for(parse_link(f"rtu+rfc2217://127.0.0.1:{free_port()}")).open()

        with self.assertRaisesRegex(Unreachable, "nothing listens"):
            asyncio.run(work())
