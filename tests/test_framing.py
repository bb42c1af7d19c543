"""RTU, ASCII and TCP framing: known bytes, round trips in arbitrary pieces, and decoders that no bytes can upset."""

import contextlib
import io
import unittest
from itertools import pairwise

from hypothesis import assume, given, settings
from hypothesis import strategies as st

from kanaleto.wire.ascii import Ascii
from kanaleto.wire.checks import crc16, crc_bytes, lrc
from kanaleto.wire.frames import Decoder, Event, Frame, Framing, Garbled, Role
from kanaleto.wire.rtu import Rtu
from kanaleto.wire.tcp import Tcp
from tests.fuzz import fuzz
from tests.strategies import answers, requests, units

FRAMINGS: list[Framing] = [Rtu(), Ascii(), Tcp()]


def fed(decoder: Decoder, data: bytes, cuts: list[int] | None = None) -> list[Event]:
    """Events of `data` cut at `cuts`, and of the silence after it."""
    places = sorted({cut % (len(data) + 1) for cut in cuts or []} | {0, len(data)})
    events: list[Event] = []
    for start, end in pairwise(places):
        events += decoder.feed(data[start:end])
    return events + decoder.silence()


class Held(unittest.TestCase):
    def test_no_noise_is_held_beyond_the_longest_frame(self) -> None:
        """Bytes without an end, in pieces of all sizes: what is no frame is told as garbled, and let go."""
        for framing, most, noise in ((Ascii(), 513, b"A"), (Ascii(), 513, b":"), (Rtu(), 512, b"\x07\x2b")):
            for role in Role:
                for piece in (1, 7, 100, 5000):
                    decoder, events, held = framing.decoder(role), list[Event](), 0
                    for _ in range(max(4000 // piece, 3)):
                        events += decoder.feed(noise * (piece // len(noise) + 1))
                        held = max(held, decoder.held)
                    with self.subTest(framing=framing.name, role=role, piece=piece):
                        self.assertLessEqual(held, most)
                        self.assertGreater(len(events), 1)
                        self.assertTrue(all(isinstance(event, Garbled) for event in events))


class CheckBytes(unittest.TestCase):
    def test_known_values(self) -> None:
        self.assertEqual(crc16(b"123456789"), 0x4B37)
        # the serial line specification's example
        self.assertEqual(crc_bytes(bytes.fromhex("0207")), bytes.fromhex("4112"))
        self.assertEqual(lrc(bytes.fromhex("F7031389000A")), 0x60)

    @given(st.binary(max_size=300))
    def test_long_and_short_ways_agree(self, data: bytes) -> None:
        crc = 0xFFFF
        for byte in data:
            crc ^= byte
            for _ in range(8):
                crc = (crc >> 1) ^ 0xA001 if crc & 1 else crc >> 1
        self.assertEqual(crc16(data), crc)


def _is_told_apart(frames: list[bytes]) -> bool:
    """Whether no other place behind the beginning of a frame has a right CRC. Where the function does not tell its
    length, one frame in some hundred holds a shorter one, or is a longer one with what follows; only the pause behind
    it parts them, and here there is none."""
    stream, start = b"".join(frames), 0
    for frame in frames:
        rest = stream[start : start + 256]
        ends = [end for end in range(4, len(rest) + 1) if crc_bytes(rest[: end - 2]) == rest[end - 2 : end]]
        if ends != [len(frame)]:
            return False
        start += len(frame)
    return True


class RoundTrips(unittest.TestCase):
    @given(st.lists(st.tuples(units, requests), min_size=1, max_size=3), st.lists(st.integers(0, 2000)))
    def test_requests_in_pieces(self, asked: list, cuts: list[int]) -> None:  # type: ignore[type-arg]
        self._round_trip(Role.REQUESTS, asked, cuts)

    @given(st.lists(st.tuples(units, answers), min_size=1, max_size=3), st.lists(st.integers(0, 2000)))
    def test_answers_in_pieces(self, said: list, cuts: list[int]) -> None:  # type: ignore[type-arg]
        self._round_trip(Role.ANSWERS, said, cuts)

    def _round_trip(self, role: Role, messages: list, cuts: list[int]) -> None:  # type: ignore[type-arg]
        for framing in FRAMINGS:
            frames = [
                framing.encode(unit, message.encode(), number + 1) for number, (unit, message) in enumerate(messages)
            ]
            events = fed(framing.decoder(role), b"".join(frames), cuts)
            assume(framing.name != "rtu" or _is_told_apart(frames))
            expected = [
                Frame(unit, message.encode(), raw, number + 1 if framing.has_transactions else None)
                for number, ((unit, message), raw) in enumerate(zip(messages, frames, strict=True))
            ]
            self.assertEqual(events, expected, framing.name)


class AnyBytes(unittest.TestCase):
    @settings(max_examples=200)
    @given(st.binary(max_size=3000), st.lists(st.integers(0, 3000), max_size=30))
    def test_nothing_is_lost_nothing_grows(self, data: bytes, cuts: list[int]) -> None:
        for framing in (Rtu(), Ascii()):
            for role in Role:
                decoder = framing.decoder(role)
                events = fed(decoder, data, cuts)
                self.assertEqual(b"".join(event.raw for event in events), data)
                self.assertEqual(decoder.held, 0)

    @settings(max_examples=200)
    @given(st.binary(max_size=3000), st.lists(st.integers(0, 3000), max_size=30))
    def test_tcp_gives_up_or_waits(self, data: bytes, cuts: list[int]) -> None:
        decoder = Tcp().decoder(Role.ANSWERS)
        events = fed(decoder, data, cuts)
        taken = b"".join(event.raw for event in events)
        is_broken = any(isinstance(event, Garbled) and event.fatal for event in events)
        self.assertTrue(data.startswith(taken))
        self.assertTrue(is_broken or len(taken) + decoder.held == len(data))
        self.assertLess(decoder.held, 261)

    @given(st.data(), st.sampled_from(FRAMINGS[:2]), units, answers)
    def test_a_good_frame_is_found_in_noise(
        self, data: st.DataObject, framing: Framing, unit: int, answer: object
    ) -> None:
        raw = framing.encode(unit, answer.encode())  # type: ignore[attr-defined]
        noise = data.draw(st.binary(min_size=1, max_size=3))
        if framing.name == "ascii":
            noise = noise.replace(b"\n", b"x")
        events = fed(framing.decoder(Role.ANSWERS), noise + raw)
        self.assertIn(raw, [event.raw for event in events if isinstance(event, Frame)])


class BadFrames(unittest.TestCase):
    def _only_event(self, framing: Framing, data: bytes) -> Event:
        events = fed(framing.decoder(Role.ANSWERS), data)
        self.assertEqual(len(events), 1, events)
        return events[0]

    def test_a_wrong_crc_says_what_would_be_right(self) -> None:
        good = Rtu().encode(17, bytes.fromhex("0302000A"))
        event = self._only_event(Rtu(), good[:-1] + bytes([good[-1] ^ 1]))
        assert isinstance(event, Garbled)
        self.assertIn(f"{good[-2:].hex(' ').upper()} would be right", event.reason)

    def test_a_cut_frame_says_how_much_was_due(self) -> None:
        event = self._only_event(Rtu(), Rtu().encode(17, bytes.fromhex("0304000A000B"))[:6])
        assert isinstance(event, Garbled)
        self.assertIn("6 bytes, 9 were due", event.reason)

    def test_ascii_faults(self) -> None:
        for data, reason in (
            (b":010300000001FA\r\n", "LRC FA came, FB would be right"),
            (b":0103zz\r\n", "no hexadecimal digits"),
            (b":010300000001FB\n", "no CR"),
            (b"010300000001FB\r\n", "no ':'"),
            (b":0103", "without an end"),
            (b":01 03 00 00 00 01 FB\r\n", "no frame"),
        ):
            with self.subTest(data=data):
                event = self._only_event(Ascii(), data)
                assert isinstance(event, Garbled)
                self.assertIn(reason, event.reason)

    def test_tcp_protocol_id_costs_one_frame_and_length_the_stream(self) -> None:
        good = Tcp().encode(1, b"\x83\x02", 7)
        decoder = Tcp().decoder(Role.ANSWERS)
        events = decoder.feed(good[:2] + b"\0\1" + good[4:] + good)
        self.assertIsInstance(events[0], Garbled)
        self.assertIsInstance(events[1], Frame)
        for length in (0, 1, 255, 65535):
            broken = Tcp().decoder(Role.ANSWERS)
            events = broken.feed(good[:4] + length.to_bytes(2) + good[6:])
            self.assertTrue(isinstance(events[0], Garbled) and events[0].fatal, length)
            self.assertEqual(broken.feed(good), [])

    def test_a_maker_s_own_function_ends_with_silence(self) -> None:
        raw = Rtu().encode(9, bytes([0x41, 1, 2, 3, 4, 5]))
        decoder = Rtu().decoder(Role.ANSWERS)
        self.assertEqual(decoder.feed(raw), [])
        self.assertEqual([event.raw for event in decoder.silence()], [raw])


class Fuzzing(unittest.TestCase):
    def test_a_short_run(self) -> None:
        with contextlib.redirect_stdout(io.StringIO()):
            self.assertGreater(fuzz(60_000, first_seed=20_000), 6 * 60_000)
