"""On lines without a real wire answers come before the bytes of their requests could have gone: they are answers.
Whether the adapter echoes is found out by reads, at each opening again."""

import asyncio
import unittest

from kanaleto.bench.servedunits import Units
from kanaleto.lines.adapters import is_native_usb
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.memorychannel import MemoryChannel
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.site.links.parse import parse_link
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.model import Line
from kanaleto.wire.codes import Table
from kanaleto.wire.frames import Framing
from kanaleto.wire.pdu import Read, Request, WriteCoil, WriteCoils, WriteRegister, WriteRegisters
from kanaleto.wire.records import MaskWrite
from kanaleto.wire.rtu import Rtu
from tests.simulated import device
from tests.virtual import run_virtual

_MAP = "name,table,address,access\nA,holding,0,rw\nC,coil,0,rw\n"
WRITES: tuple[Request, ...] = (
    WriteRegister(0, 9), WriteCoil(0, True), WriteRegisters(0, (9,)), WriteCoils(0, (True,)), MaskWrite(0, 0xFF, 1),
)  # fmt: skip


class Quick(MemoryChannel):
    """Bytes take no time, whatever the settings say; with `echoes` they come back first."""

    keeps_time = False

    def __init__(self, framing: Framing, baud: int) -> None:
        super().__init__(lambda data, at: [], 11 / baud, 3.5 * 11 / baud)
        self._units = Units(Line("L", parse_link("rtu:///dev/ttyX"), (device("Five", 5, _MAP),)), True)
        self._framing = framing
        self.echoes = False
        self.is_silent = False
        self.thinks_s = 0.0

    def write(self, data: bytes, not_before: float) -> float:
        assert self._loop is not None
        start = max(not_before, self._loop.time())
        if self.echoes:
            self._loop.call_at(start, self._deliver, self._generation, data, start)
        answer = self._units.answer(data[0], data[1:-2])
        if isinstance(answer, bytes) and not self.is_silent:
            raw = self._framing.encode(data[0], answer)
            self._loop.call_at(start + self.thinks_s, self._deliver, self._generation, raw, start + self.thinks_s)
        return start + len(data) * self.character_s


def asked(
    *requests: Request, baud: int = 9600, has_echo: bool | None = None, echoes: bool = False, is_silent: bool = False,
    thinks_s: float = 0.0, reopens_before: int | None = None,
) -> list[Outcome]:  # fmt: skip
    async def work() -> list[Outcome]:
        channel = Quick(Rtu(), baud)
        channel.echoes, channel.thinks_s = echoes, thinks_s
        exchanger = Exchanger(channel, Rtu(), has_echo=has_echo)
        await exchanger.open()
        outcomes = []
        for at, request in enumerate(requests):
            if at == reopens_before:
                exchanger.close()
                channel.echoes = not echoes
                await exchanger.open()
            channel.is_silent = is_silent and at == len(requests) - 1
            outcomes.append(await exchanger.ask(5, request, 0.3))
            await asyncio.sleep(0.5)
        return outcomes

    return run_virtual(work())


class EarlyAnswers(unittest.TestCase):
    READ = Read(Table.HOLDING, 0, 1)

    def test_after_a_read_an_early_confirmation_is_one(self) -> None:
        for baud in 300, 9600, 19200, 115200:
            for write in WRITES:
                with self.subTest(baud=baud, write=write):
                    read, wrote, again = asked(self.READ, write, write, baud=baud)
                    kinds = (read.kind, wrote.kind, again.kind)
                    self.assertEqual(len(set(kinds) - {OutcomeKind.GOOD, OutcomeKind.EXCEPTION}), 0, wrote.reason)

    def test_until_a_read_has_shown_it_it_is_not_known(self) -> None:
        (wrote,) = asked(WriteRegister(0, 9))
        self.assertEqual(wrote.kind, OutcomeKind.UNEXPECTED)
        self.assertIn("not known whether it was written", wrote.reason)
        (wrote,) = asked(WriteRegister(0, 9), has_echo=False)  # the link has said so
        self.assertEqual(wrote.kind, OutcomeKind.GOOD)

    def test_an_echo_is_never_a_confirmation(self) -> None:
        for has_echo in (True, None):
            read, wrote = asked(self.READ, WriteRegister(0, 9), echoes=True, is_silent=True, has_echo=has_echo)
            self.assertEqual((read.kind, wrote.kind), (OutcomeKind.GOOD, OutcomeKind.TIMEOUT), wrote.reason)
            read, wrote = asked(self.READ, WriteRegister(0, 9), echoes=True, thinks_s=0.05, has_echo=has_echo)
            self.assertEqual((read.kind, wrote.kind), (OutcomeKind.GOOD, OutcomeKind.GOOD), wrote.reason)
        (wrote,) = asked(WriteRegister(0, 9), echoes=True, is_silent=True)
        self.assertEqual(wrote.kind, OutcomeKind.UNEXPECTED)
        (wrote,) = asked(WriteRegister(0, 9), echoes=True, thinks_s=0.001)  # the second one is the answer
        self.assertEqual(wrote.kind, OutcomeKind.GOOD)

    def test_it_is_never_remembered_beyond_an_opening(self) -> None:
        for echoes in True, False:
            outcomes = asked(
                self.READ, WriteRegister(0, 9), self.READ, WriteRegister(0, 8), echoes=echoes, reopens_before=2,
                thinks_s=0.001,
            )  # fmt: skip
            self.assertEqual({outcome.kind for outcome in outcomes}, {OutcomeKind.GOOD}, outcomes)
        (_, _, wrote) = asked(self.READ, WriteRegister(0, 9), WriteRegister(0, 8), reopens_before=2, is_silent=True)
        self.assertEqual(wrote.kind, OutcomeKind.UNEXPECTED)  # it echoes by now, and the device is silent

    def test_the_link_says_so(self) -> None:
        for text, has_echo in (("", None), ("&echo=yes", True), ("&echo=no", False)):
            link = parse_link(f"rtu:///dev/ttyX?baud=9600&parity=even&stop=1{text}")
            assert isinstance(link, SerialLink)
            self.assertIs(link.has_echo, has_echo)
            self.assertEqual(parse_link(str(link)), link)
        self.assertTrue(is_native_usb("/dev/ttyACM0"))
        self.assertFalse(is_native_usb("/dev/ttyUSB0"))


if __name__ == "__main__":
    unittest.main()
