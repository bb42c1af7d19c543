"""`make fuzz`: mutated bytes into every decoder, by default ten million into each. A failure prints the seed that
replays it.

Starts from sound traffic (requests and answers of every function in every framing) and flips, drops, doubles, swaps and
inserts bytes. After each piece: no error, what is held stays bounded, no byte is lost (but where a TCP stream is given
up), and every sound frame parses or is refused in the declared way. The same bytes go to whoever overhears a line.
"""

import argparse
import random
import sys
import time

from kanaleto.probing.overhearing import Overhearing
from kanaleto.site.links.link import FramingKind
from kanaleto.wire.ascii import Ascii
from kanaleto.wire.compose import compose
from kanaleto.wire.explain import explain_frame
from kanaleto.wire.frames import Frame, Framing, Garbled, Role
from kanaleto.wire.pdu import PduError, parse_answer, parse_request
from kanaleto.wire.rtu import Rtu
from kanaleto.wire.tcp import Tcp

_MOST_HELD = 1200
_PIECE = 2000
_REQUESTS = [
    "read coil 0 19", "read holding 107 3", "read input 8 1", "write coil 172 on", "write holding 1 3",
    "write holding 1 10 258",
    "multiple coil 19 1 0 1 1", "mask 4 242 37", "exchange 3 6 14 255 255", "fifo 1246", "read-file 4 1 2",
    "write-file 4 7 1 2 3",
    "status", "events", "log", "server-id", "diagnose 0 42295", "diagnose 11", "identify basic", "raw 41 01 02 03",
]  # fmt: skip
_ANSWERS = [
    "answer coil 1 0 1", "answer holding 555 0 100", "write coil 172 on", "exception 3 2", "raw 07 6D",
    "raw 0B FFFF 0108",
    "raw 0C 08 0000 0108 0121 2000", "raw 11 03 41 42 FF", "raw 14 06 05 06 0DFE 0020", "mask 4 242 37",
    "raw 17 02 0102",
    "raw 18 0006 0002 01B8 1284", "raw 2B 0E 01 01 00 00 01 00 03 41 42 43", "raw 41 99",
]  # fmt: skip


def _seed_frames(framing: Framing, role: Role) -> list[bytes]:
    forms = _REQUESTS if role is Role.REQUESTS else _ANSWERS
    return [framing.encode(17, compose(form.split()).encode(), 7) for form in forms]


def _mutated(source: random.Random, frames: list[bytes]) -> bytes:
    data = bytearray(b"".join(source.choices(frames, k=source.randint(1, 60))))
    for _ in range(source.choice((0, 1, 3, 10, 40))):
        at = source.randrange(len(data))
        match source.randrange(6):
            case 0:
                data[at] ^= 1 << source.randrange(8)
            case 1:
                del data[at : at + source.randint(1, 9)]
            case 2:
                data[at:at] = data[at : at + source.randint(1, 30)]
            case 3:
                data[at:at] = source.randbytes(source.randint(1, 20))
            case 4:
                data[at] = source.choice((0, 0xFF, 0x3A, 0x0A, 0x80))
            case _:
                other = source.randrange(len(data))
                data[at], data[other] = data[other], data[at]
        if not data:
            data += b"\0"
    return bytes(data)


def _one(framing: Framing, role: Role, seed: int, frames: list[bytes]) -> int:
    """Feed one mutated stream in pieces; gives its length."""
    source = random.Random(seed)
    data = _mutated(source, frames)
    decoder = framing.decoder(role)
    heard = Overhearing(FramingKind(framing.name))  # TCP's bytes are noise to it, like any other
    seen = 0
    at = 0
    has_broken = False
    while at < len(data):
        piece = data[at : at + source.choice((1, 2, 7, 64, _PIECE))]
        at += len(piece)
        heard.feed(piece, at / 1000)
        assert heard.held <= _MOST_HELD, f"{heard.held} bytes overheard and held"
        events = decoder.feed(piece)
        if source.random() < 0.1:
            events += decoder.silence()
        for event in events:
            seen += len(event.raw)
            has_broken = has_broken or (isinstance(event, Garbled) and event.fatal)
            if isinstance(event, Frame):
                _parse(role, event)
            explain_frame(framing.name, role, event.raw)
        assert decoder.held <= _MOST_HELD, f"{decoder.held} bytes held"
    heard.silence(at / 1000)
    assert heard.held == 0 or framing.name != "rtu", f"{heard.held} bytes held after a silence"
    assert heard.garbled_bytes <= len(data), f"{heard.garbled_bytes} of {len(data)} bytes garbled"
    seen += sum(len(event.raw) for event in decoder.silence())
    assert has_broken or seen + decoder.held == len(data), f"{seen} of {len(data)} bytes accounted for"
    return len(data)


def _parse(role: Role, frame: Frame) -> None:
    try:
        message = parse_request(frame.pdu) if role is Role.REQUESTS else parse_answer(frame.pdu)
    except PduError:
        return
    again = message.encode()
    assert again == frame.pdu or len(again) == len(frame.pdu), (frame.pdu.hex(), again.hex())


def fuzz(bytes_each: int, first_seed: int) -> int:
    """Feed `bytes_each` into each decoder; gives how many bytes were fed in all."""
    total = 0
    for framing in (Rtu(), Ascii(), Tcp()):
        for role in Role:
            frames = _seed_frames(framing, role)
            fed, seed, start = 0, first_seed, time.perf_counter()
            while fed < bytes_each:
                try:
                    fed += _one(framing, role, seed, frames)
                except Exception:
                    print(
                        f"fails: python -m tests.fuzz --framing {framing.name} --role {role.value} --seed {seed}",
                        file=sys.stderr,
                    )
                    raise
                seed += 1
            print(
                f"{framing.name} {role.value}: {fed} bytes in {seed - first_seed} "
                f"streams, {time.perf_counter() - start:.0f} s"
            )
            total += fed
    return total


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--bytes", type=int, default=10_000_000, help="into each decoder")
    parser.add_argument(
        "--seed", type=int, default=1, help="first seed; with --framing and --role that one stream alone"
    )
    parser.add_argument("--framing", choices=["rtu", "ascii", "tcp"])
    parser.add_argument("--role", choices=[role.value for role in Role])
    args = parser.parse_args()
    if args.framing and args.role:
        framings: dict[str, Framing] = {"rtu": Rtu(), "ascii": Ascii(), "tcp": Tcp()}
        framing = framings[args.framing]
        role = Role(args.role)
        _one(framing, role, args.seed, _seed_frames(framing, role))
        return
    fuzz(args.bytes, args.seed)


if __name__ == "__main__":
    main()
