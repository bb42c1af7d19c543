"""Answers that are none, and requests that are none, at both of our ends over every kind of link, on a virtual clock.

`python -m tests.mutations` gives short PDUs to both ends, by default ten million to each; a failure prints the seed
that replays it.
"""

import argparse
import asyncio
import random
import sys
import time
from dataclasses import dataclass, field

from kanaleto.bench.servedunits import Units
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.memorychannel import MemoryChannel
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.serving.network import answers_to
from kanaleto.site.links.parse import parse_link
from kanaleto.site.model import Line
from kanaleto.supervision.owned import Failure, follow, leave
from kanaleto.wire.ascii import Ascii
from kanaleto.wire.codes import Table
from kanaleto.wire.frames import Framing, Role
from kanaleto.wire.pdu import Read, Request
from kanaleto.wire.rtu import Rtu
from kanaleto.wire.tcp import Tcp
from tests.rawends import framed, unframed
from tests.simulated import device
from tests.virtual import run_virtual

_CHARACTER_S = 11 / 115200
LINKS: dict[str, tuple[Framing, float, bool]] = {
    "tcp": (Tcp(), 0.0, False),
    "udp": (Tcp(), 0.0, True),
    "rtu+tcp": (Rtu(), 0.0, False),
    "ascii+tcp": (Ascii(), 0.0, False),
    "rtu": (Rtu(), _CHARACTER_S, False),
    "ascii": (Ascii(), _CHARACTER_S, False),
}
"""Framing, seconds a character, and whether deliveries are datagrams. TLS carries what TCP does."""
_READ = Read(Table.HOLDING, 107, 3)
_READ_ANSWER = bytes.fromhex("0306022B00000064")


class _Datagrams(MemoryChannel):
    is_datagram = True


@dataclass
class Master:
    """Our master on one kind of link; the far end shares nothing with it. `faults` is what nobody foresaw."""

    link: str
    faults: list[str] = field(default_factory=list)
    answer: bytes = b""
    as_frame: bool = True

    async def open(self) -> None:
        follow(self._note)
        framing, character_s, is_datagram = LINKS[self.link]
        channel = (_Datagrams if is_datagram else MemoryChannel)(self._far_end, character_s)
        self.exchanger = Exchanger(channel, framing)
        await self.exchanger.open()

    def _note(self, failure: Failure) -> None:
        self.faults.append(failure.text)

    def leave(self) -> None:
        leave(self._note)

    def _far_end(self, data: bytes, at: float) -> list[tuple[float, bytes]]:
        kind = self.exchanger.framing.name
        found = unframed(kind, data)
        assert found is not None, data.hex()
        transaction, unit, _ = found
        raw = framed(kind, unit, self.answer, transaction) if self.as_frame else self.answer
        return [(at + 0.001 + len(raw) * LINKS[self.link][1], raw)] if raw else []

    async def ask(self, request: Request, answer: bytes, as_frame: bool = True) -> Outcome:
        """The one outcome of `request`, answered so. Whatever it was, the next read is sent and is good."""
        outcome = await self._once(request, answer, as_frame)
        after = await self._once(_READ, _READ_ANSWER, True)
        assert after.is_good, (self.link, request, answer.hex(), outcome, after)
        assert not self.faults, (self.link, request, answer.hex(), self.faults)
        return outcome

    async def _once(self, request: Request, answer: bytes, as_frame: bool) -> Outcome:
        if not self.exchanger.is_open:
            await self.exchanger.open()
        self.answer, self.as_frame = answer, as_frame
        outcome: Outcome = await asyncio.wait_for(self.exchanger.ask(17, request, 0.1), 10)
        return outcome


def check_outcome(outcome: Outcome, request: Request, answer: bytes, right: bytes) -> None:
    """A declared outcome, and good only what is the right answer."""
    assert outcome.kind in OutcomeKind
    if outcome.kind is OutcomeKind.GOOD:
        assert answer == right or not request.wrong_with(outcome.content), (request, answer.hex())  # type: ignore[arg-type]
    if outcome.kind is OutcomeKind.EXCEPTION:
        # a frame of five bytes may begin a longer one whose check bytes come out right as well
        framed_alone = unframed("rtu", outcome.answer)
        came = framed_alone[2] if framed_alone is not None else answer
        assert len(came) == 2 and came[0] == request.function | 0x80, (request, answer.hex())


def units(is_serial: bool) -> Units:
    """Two slaves of ours."""
    link = parse_link("rtu:///dev/ttyX?baud=19200" if is_serial else "tcp://127.0.0.1:1502")
    return Units(Line("Line", link, (device("Five", 5), device("Six", 6))), is_serial)


def check_answer(served: Units, unit: int, pdu: bytes, is_serial: bool) -> None:
    """Silence, or a frame whose PDU belongs to the request's function; an echoed answer starts none where the far end
    may be a wire."""
    framing: Framing = Rtu() if is_serial else Tcp()
    decoder = framing.decoder(Role.REQUESTS)
    events = decoder.feed(framing.encode(unit, pdu, 7)) + decoder.silence()
    answers, _ = answers_to(served, framing, events)
    for raw in answers:
        assert isinstance(raw, bytes)
        found = unframed(framing.name, raw)
        assert found is not None, (pdu.hex(), raw.hex())
        transaction, of, answer = found
        assert is_serial or (of == unit and transaction == 7)
        if is_serial and answer[0] & 0x80:
            assert served.answer(of, answer) is None, (pdu.hex(), raw.hex())


def _short(source: random.Random, most: int = 6) -> bytes:
    function = source.choice((*range(1, 0x19), 0x2B, 0x00, 0x80, 0x83, 0x90, source.randrange(256)))
    rest = bytes(source.choice((0, 1, 2, 4, 0x0E, 0xFF, source.randrange(256))) for _ in range(source.randrange(most)))
    return bytes((function,)) + rest


def fuzz_slaves(count: int, seed: int) -> None:
    for first in range(0, count, 10_000):
        source = random.Random(seed + first)
        for is_serial in (True, False):
            served = units(is_serial)
            for _ in range(min(5_000, count - first)):
                check_answer(served, source.choice((0, 1, 5, 6, 255)), _short(source), is_serial)


def fuzz_master(count: int, seed: int, requests: list[tuple[Request, bytes]]) -> None:
    async def work(first: int) -> None:
        source = random.Random(seed + first)
        for link in LINKS:
            master = Master(link)
            await master.open()
            for _ in range(max(min(10_000, count - first) // len(LINKS), 1)):
                request, right = source.choice(requests)
                answer = _short(source)
                if source.random() < 0.5:
                    answer = bytes((request.function | source.choice((0, 0, 0x80)),)) + answer[1:]
                check_outcome(await master.ask(request, answer), request, answer, right)

    for first in range(0, count, 10_000):
        run_virtual(work(first))


def main() -> None:
    from tests.standard_rows import ALIKE, MASTER

    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=10_000_000, help="PDUs to each end")
    parser.add_argument("--seed", type=int, default=1, help="the first one")
    args = parser.parse_args()
    rows = [(row[1], bytes.fromhex(row[2] if row[3] == ALIKE else row[3])) for row in MASTER if row[4] == "good"]
    for name, fuzz in (
        ("slaves", lambda seed, count: fuzz_slaves(count, seed)),
        ("master", lambda seed, count: fuzz_master(count, seed, rows)),
    ):
        start = time.perf_counter()
        for first in range(0, args.count, 10_000):
            try:
                fuzz(args.seed + first, min(10_000, args.count - first))
            except Exception:
                print(f"fails: python -m tests.mutations --seed {args.seed + first} --count 10000", file=sys.stderr)
                raise
        print(f"{name}: {args.count} short PDUs, {time.perf_counter() - start:.0f} s", flush=True)


if __name__ == "__main__":
    main()
