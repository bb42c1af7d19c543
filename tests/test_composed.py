"""Devices that a bridge puts together from points of others: values of every type and order read and written, what is
stale, what is refused; from a site file, over simulated devices on a virtual clock."""

import asyncio
import struct
import tempfile
import unittest
from collections.abc import Awaitable, Callable
from pathlib import Path

from kanaleto.bridge.bridging import Bridging
from kanaleto.events.log import EventKind
from kanaleto.files.loading import load_site
from kanaleto.polling.session import Session
from kanaleto.serving.answerer import Master
from kanaleto.site.filefaults import FaultyFile
from kanaleto.site.model import Site
from kanaleto.values.codec import Codec
from kanaleto.values.types import WIDE_ORDERS, ByteOrder, Kind, ValueType
from tests.simulated import SimulatedLine
from tests.virtual import run_virtual

SOURCES = """name,table,address,type,factor,access,initial,range_low,range_high
Wind,holding,0,float32,,rw,12.5,0,100
Count,holding,2,uint16,0.1,rw,20.0,,
Lamp,coil,5,,,rw,1,,
Fixed,input,7,int16,,r,-40,,
"""
SITE = """
[site]
name = "S"
[[line]]
name = "Line"
link = "tcp://192.0.2.1:502"
[[line.device]]
name = "Mast"
unit_id = 1
map = "mast.csv"
period_s = 0.5
timeout_s = 0.3
[[line.device]]
name = "Winch"
unit_id = 2
map = "mast.csv"
period_s = 0.5
timeout_s = 0.3
[[bridge]]
name = "Room"
listen = "tcp://127.0.0.1:15502"
[[bridge.device]]
unit_id = 50
map = "room.csv"
{more}
"""
ROOM = """name,table,address,type,factor,order,access,from
Wind,holding,100,int16,0.1,,rw,Mast/Wind
Other wind,holding,101,float64,,CDAB,r,Winch/Wind
Total,holding,110,float32,,,r,= [Mast/Wind] + [Winch/Wind]
Count,holding,120,uint32,,DCBA,rw,Mast/Count
Lamp,coil,3,,,,rw,Mast/Lamp
Fixed,input,9,int16,,,r,Mast/Fixed
"""


PASS = """
[[bridge.pass]]
from = "Mast/Wind"
to = "Winch/Count"
"""


class WithSite(unittest.TestCase):
    def loaded(self, room: str = ROOM, more: str = "") -> Site:
        return self.told(room, more)[0]

    def told(self, room: str = ROOM, more: str = "") -> tuple[Site, list[str]]:
        """The site, and the warnings."""
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder)
            (path / "mast.csv").write_text(SOURCES, encoding="utf-8")
            (path / "room.csv").write_text(room, encoding="utf-8")
            (path / "s.toml").write_text(SITE.format(more=more), encoding="utf-8")
            site, warnings = load_site(path / "s.toml")
            return site, [str(warning) for warning in warnings]

    def asked(
        self, work: "Callable[[SimulatedLine, Callable[[str], Awaitable[str]]], Awaitable[None]]", room: str = ROOM,
        more: str = "",
    ) -> None:  # fmt: skip
        site = self.loaded(room, more)
        line = SimulatedLine(*site.lines[0].devices, is_serial=False)

        async def run() -> None:
            session = Session(site, line.exchanger)
            bridging = Bridging(session, site.bridges)
            self.bridging = bridging
            tasks = [asyncio.create_task(session.run()), asyncio.create_task(bridging.run())]
            await asyncio.sleep(2.0)

            async def ask(text: str) -> str:
                answer = await bridging.ask(site.bridges[0], 50, bytes.fromhex(text), Master("M", "Room"), False)
                assert isinstance(answer, bytes)
                return answer.hex()

            try:
                await work(line, ask)
            finally:
                for task in tasks:
                    task.cancel()
                await asyncio.gather(*tasks, return_exceptions=True)

        run_virtual(run())


class Composed(WithSite):
    def test_a_value_whose_point_is_no_more_is_no_answer_whatever_stands_for_stale_ones(self) -> None:
        room = ROOM + "Lost,holding,200,int16,,,rw,Mast/Gone\n"

        async def work(line: SimulatedLine, ask: Callable[[str], Awaitable[str]]) -> None:
            self.assertEqual(await ask("0300C80001"), "830b")
            self.assertEqual(await ask("0600C80001"), "8602", "it is not written either")
            self.assertEqual(await ask("0300640001"), "0302" + (125).to_bytes(2).hex(), "the others are answered")

        self.asked(work, room, "stale = 7\n")

    def test_values_stand_in_their_own_type_order_and_scale(self) -> None:
        async def work(line: SimulatedLine, ask: Callable[[str], Awaitable[str]]) -> None:
            self.assertEqual(await ask("0300640001"), "0302" + (125).to_bytes(2).hex())
            eight = struct.pack(">d", 12.5)
            swapped = b"".join(eight[at : at + 2] for at in (6, 4, 2, 0))
            self.assertEqual(await ask("0300650004"), "0308" + swapped.hex())
            self.assertEqual(await ask("03006E0002"), "0304" + struct.pack(">f", 25.0).hex())
            self.assertEqual(await ask("0300780002"), "0304" + struct.pack("<I", 20).hex())
            self.assertEqual(await ask("0100030001"), "010101")
            self.assertEqual(await ask("0400090001"), "0402ffd8")
            self.assertEqual(await ask("0300640005"), "030a" + "007d" + swapped.hex(), "several at once")

        self.asked(work)

    def test_writes_go_through_the_inverse_scale_to_the_source(self) -> None:
        async def work(line: SimulatedLine, ask: Callable[[str], Awaitable[str]]) -> None:
            self.assertEqual(await ask("06006401C3"), "06006401c3")
            self.assertEqual(await ask("1000780002042A000000"), "1000780002")
            self.assertEqual(await ask("0500030000"), "0500030000")
            written = [frame.pdu.hex() for _, frame in line.heard]
            self.assertEqual(written, ["1000000002" + "04" + struct.pack(">f", 45.1).hex(), "06000201a4", "0500050000"])
            await asyncio.sleep(2)
            self.assertEqual(await ask("0300640001"), "0302" + (451).to_bytes(2).hex())

        self.asked(work)

    def test_what_is_refused(self) -> None:
        cases = {
            "0300630001": "8302", "0300660001": "0302", "0300640006": "8302", "030064007E": "8303",
            "0300640000": "8303",
            "06006E0001": "8602", "1000640002040000000A": "9002", "0600640BB8": "8603", "0600781234": "8602",
            "1600640000FFFF": "9601", "2B0E0100": "ab01", "1000640001030001": "9003",
        }  # fmt: skip

        async def work(line: SimulatedLine, ask: Callable[[str], Awaitable[str]]) -> None:
            for request, answer in cases.items():
                self.assertEqual((await ask(request))[:4], answer, request)
            self.assertEqual(line.heard, [], "nothing of it was sent")

        self.asked(work)

    def test_a_source_that_is_silent_is_an_exception_the_last_value_or_a_number(self) -> None:
        def silent_later(
            answers: "dict[str, str]",
        ) -> "Callable[[SimulatedLine, Callable[[str], Awaitable[str]]], Awaitable[None]]":
            async def work(line: SimulatedLine, ask: Callable[[str], Awaitable[str]]) -> None:
                line.fault = lambda frame, at, right: [] if frame.unit_id == 1 else right
                await asyncio.sleep(30)
                for request, answer in answers.items():
                    self.assertEqual(await ask(request), answer, request)

            return work

        good = "0308" + b"".join(struct.pack(">d", 12.5)[at : at + 2] for at in (6, 4, 2, 0)).hex()
        self.asked(silent_later({"0300640001": "830b", "0300650004": good, "0600640001": "860b"}))
        self.asked(
            silent_later({"0300640001": "0302007d", "0300650004": good}), more='stale = "last"\nstale_after_s = 2'
        )
        self.asked(silent_later({"0300640001": "0302fff6", "0300650004": good}), more="stale = -1\nstale_after_s = 2")

    def test_status_words_tell_how_each_source_is_and_how_old(self) -> None:
        async def work(line: SimulatedLine, ask: Callable[[str], Awaitable[str]]) -> None:
            self.assertEqual(await ask("0303840004"), "0308" + "0000" * 4)
            line.fault = lambda frame, at, right: [] if frame.unit_id == 1 else right
            await asyncio.sleep(30)
            words = (await ask("0303840004"))[4:]
            self.assertIn(words[:4], ("0001", "0002"))
            self.assertEqual(words[4:8], "0000")
            self.assertGreaterEqual(int(words[8:12], 16), 28)
            self.assertLessEqual(int(words[12:16], 16), 1)

        self.asked(work, more='status = "holding 900"')

    def test_every_type_in_every_order_reads_and_writes_back(self) -> None:
        kinds = [Kind.UINT16, Kind.INT16, Kind.INT32, Kind.UINT32, Kind.INT64, Kind.UINT64, Kind.FLOAT32, Kind.FLOAT64,
                 Kind.BCD16, Kind.BCD32]  # fmt: skip
        rows, codecs, address = ["name,table,address,type,order,access,from"], [], 200
        for kind in kinds:
            wide = ValueType(kind).is_wide
            for order in WIDE_ORDERS if wide else (ByteOrder.AB, ByteOrder.BA):
                codec = Codec(ValueType(kind), order)
                rows.append(f"{kind.value} {order.value},holding,{address},{kind.value},{order.value},rw,Mast/Wind")
                codecs.append((address, codec))
                address += codec.registers

        async def work(line: SimulatedLine, ask: Callable[[str], Awaitable[str]]) -> None:
            for number, (at, codec) in enumerate(codecs):
                value = 3 + number
                data = codec.encode(value)
                size = codec.registers
                request = b"\x10" + at.to_bytes(2) + size.to_bytes(2) + bytes((2 * size,)) + data
                self.assertEqual(await ask(request.hex()), request[:5].hex(), codec)
                await asyncio.sleep(1.5)
                came = bytes.fromhex(await ask((b"\x03" + at.to_bytes(2) + size.to_bytes(2)).hex()))
                self.assertEqual(codec.decode(came[2:]), value, codec)

        self.asked(work, "\n".join(rows) + "\n")

    def test_faults_of_its_map_are_told(self) -> None:
        cases = {
            ROOM.replace("[Winch/Wind]", "[Winch/Wd]"): "[Winch/Wd] is no point",
            ROOM.replace("holding,101", "holding,100"): "each register has one value",
        }
        for room, message in cases.items():
            with self.subTest(message), self.assertRaises(FaultyFile) as caught:
                self.loaded(room)
            self.assertIn(message, str(caught.exception))
        warnings = self.told(ROOM.replace("Mast/Wind\n", "Mast/Wnd\n"))[1]
        (message,) = [text for text in warnings if "is no point" in text]
        self.assertIn("'Mast/Wnd' is no point of this site (did you mean 'Mast/Wind'?)", message)
        self.assertIn("Its registers are answered 0B", message)
        with self.assertRaises(FaultyFile) as caught:
            self.loaded(more='status = "holding 100"')
        self.assertIn("status words of unit 50 stand where Wind stands", str(caught.exception))


class PassedOn(WithSite):
    """The wind of the mast (12.5) as the count of the winch (factor 0.1, first 20.0)."""

    def written(self, line: SimulatedLine) -> list[tuple[float, str]]:
        return [(round(at - 1000, 1), frame.pdu.hex()) for at, frame in line.heard if frame.unit_id == 2]

    def test_at_a_period_through_the_scale_and_folded_to_one_event(self) -> None:
        async def work(line: SimulatedLine, ask: Callable[[str], Awaitable[str]]) -> None:
            await asyncio.sleep(8.2)
            written = self.written(line)
            self.assertEqual({pdu for _, pdu in written}, {"060002007d"})
            self.assertEqual(len(written), 10)
            events = [event for event in self.bridging.session.events.ring if event.kind is EventKind.BRIDGED]
            self.assertEqual([(event.count, event.device, event.point) for event in events], [(10, "Winch", "Count")])
            back = [frame for frame in line.requests if frame.unit_id == 2 and frame.pdu.hex() == "0300020001"]
            self.assertTrue(back, "read back when it began")

        self.asked(work, more=PASS + "every_s = 1.0\n")

    def test_on_change_and_while_a_condition_holds(self) -> None:
        async def work(line: SimulatedLine, ask: Callable[[str], Awaitable[str]]) -> None:
            await asyncio.sleep(5)
            self.assertEqual([pdu for _, pdu in self.written(line)], ["060002007d"])
            mast = line.units.served[0]
            mast.answer(bytes.fromhex("100000000204" + "41f00000"))
            await asyncio.sleep(3)
            self.assertEqual([pdu for _, pdu in self.written(line)], ["060002007d", "060002012c"])
            mast.answer(bytes.fromhex("0500050000"))
            await asyncio.sleep(2)
            mast.answer(bytes.fromhex("100000000204" + "42200000"))
            await asyncio.sleep(3)
            self.assertEqual(len(self.written(line)), 2, "the lamp is off")

        self.asked(work, more=PASS + 'change = true\nwhile = "[Mast/Lamp] == 1"\n')

    def test_never_a_stale_value_only_the_number_once(self) -> None:
        async def work(line: SimulatedLine, ask: Callable[[str], Awaitable[str]]) -> None:
            await asyncio.sleep(3)
            line.fault = lambda frame, at, right: [] if frame.unit_id == 1 else right
            await asyncio.sleep(5)
            before = len(self.written(line))
            await asyncio.sleep(20)
            self.assertEqual(len(self.written(line)), before, "nothing more, or once")
            self.assertEqual(self.written(line)[-1][1], self.last)
            line.fault = None
            await asyncio.sleep(20)
            self.assertEqual(self.written(line)[-1][1], "060002007d")

        self.last = "060002007d"
        self.asked(work, more=PASS + "every_s = 0.5\n")
        self.last = "0600020064"
        self.asked(work, more=PASS + "every_s = 0.5\nstale = 10\n")

    def test_a_target_that_refuses_is_told_once_and_tried_again_at_its_next_turn(self) -> None:
        async def work(line: SimulatedLine, ask: Callable[[str], Awaitable[str]]) -> None:
            line.is_deaf = lambda unit: False
            line.fault = lambda frame, at, right: [] if frame.unit_id == 2 and frame.pdu[0] == 6 else right
            await asyncio.sleep(10)
            state = self.bridging.passes[0].states[0]
            self.assertIn("was not written", state.trouble)
            line.fault = None
            await asyncio.sleep(10)
            self.assertEqual(state.trouble, "")
            self.assertGreater(state.written, 3)

        self.asked(work, more=PASS + "every_s = 1.0\n")

    def test_faults(self) -> None:
        back = '[[bridge.pass]]\nfrom = "Winch/Count"\nto = "Mast/Wind"\nevery_s = 1\n'
        cases = {
            PASS: "a pass has every_s, or change = true",
            PASS + "every_s = 1\nchange = true\n": "a pass has every_s, or change = true",
            2 * (PASS + "every_s = 1\n"): "two passes write to Winch/Count",
            PASS + "every_s = 1\n" + back: "goes in a circle",
            PASS.replace("Winch/Count", "Winch/Fixed") + "every_s = 1\n": "Winch/Fixed may only be read",
            PASS.replace("Mast/Wind", "Mast/Wnd") + "every_s = 1\n": "'Mast/Wnd' is no point of this site",
            PASS + 'every_s = 1\nwhile = "[Mast/Wnd] > 1"\n': "[Mast/Wnd] is no point",
        }
        for more, text in cases.items():
            with self.subTest(text), self.assertRaises(FaultyFile) as caught:
                self.loaded(more=more)
            self.assertIn(text, str(caught.exception))
