"""Where a garbled answer is damaged: a thousand damages of each kind, and what is named of them."""

import random
import unittest
from collections import Counter
from collections.abc import Callable

from msgspec.structs import replace

from kanaleto.capture.row import ExchangeRow
from kanaleto.evidence.damage import damage_of
from kanaleto.evidence.rate import USUAL_BAUDS, other_settings
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.links.link import Parity, SerialSettings
from kanaleto.wire.rtu import Rtu
from tests.exchanges import SERIAL, exchange
from tests.wires import heard_with

_TIMES = 1000
_RTU = Rtu()
Spoil = Callable[[random.Random, bytearray], bytearray]


def _answer(source: random.Random, count: int) -> tuple[bytes, bytes]:
    """A request and its answer."""
    request = _RTU.encode(7, bytes((3, 0, source.randrange(256), 0, count)), 0)
    return request, _RTU.encode(7, bytes((3, 2 * count)) + source.randbytes(2 * count), 0)


def _row(request: bytes, answer: bytes) -> ExchangeRow:
    return exchange(0, SERIAL)._replace(request=request, answer=answer, kind=OutcomeKind.GARBLED)


def _flip(source: random.Random, data: bytearray, times: int = 1) -> bytearray:
    for place in source.sample(range(8 * len(data)), times):
        data[place // 8] ^= 1 << place % 8
    return data


def _lose(source: random.Random, data: bytearray) -> bytearray:
    del data[source.randrange(len(data))]
    return data


def _burst(source: random.Random, data: bytearray) -> bytearray:
    at = source.randrange(len(data) - 3)
    data[at : at + 4] = source.randbytes(4)
    return data


_KINDS: dict[str, tuple[Spoil, set[str]]] = {
    "one bit": (_flip, {"bit"}),
    "two bits": (lambda source, data: _flip(source, data, 2), set()),
    "three bits": (lambda source, data: _flip(source, data, 3), set()),
    "a byte lost": (_lose, {"few"}),
    "cut short": (lambda source, data: data[: source.randrange(4, len(data))], {"few"}),
    "bytes behind": (lambda source, data: data + source.randbytes(source.randrange(1, 4)), {"many"}),
    "bytes before": (lambda source, data: bytearray(source.randbytes(source.randrange(1, 4))) + data, {"many"}),
    "twice": (lambda source, data: data + data, {"two"}),
    "four bytes spoilt": (_burst, set()),
    "random bytes": (lambda source, data: bytearray(source.randbytes(len(data))), set()),
}


class Damages(unittest.TestCase):
    def test_at_most_one_in_a_hundred_is_named_wrongly(self) -> None:
        for name, (spoil, right) in _KINDS.items():
            source = random.Random(f"damage {name}")
            named: Counter[str] = Counter()
            wrong = 0
            for _ in range(_TIMES):
                request, answer = _answer(source, source.choice((1, 2, 6, 20, 60, 120)))
                spoilt = bytes(spoil(source, bytearray(answer)))
                if spoilt == answer:
                    continue
                found = damage_of(_row(request, spoilt))
                named[found.kind if found is not None else "nothing"] += 1
                if found is not None and (
                    found.kind not in right or not self._is_true(found.kind, found, answer, spoilt)
                ):
                    wrong += 1
            with self.subTest(name, named=dict(named)):
                # three flips of few bits are as far from one as the polynomial lets them: 1 % is random bytes' share
                self.assertLessEqual(wrong, _TIMES // (50 if name == "three bits" else 100))
                if name == "one bit":
                    self.assertGreater(named["bit"], 0.45 * _TIMES)  # the long ones are not proved
                elif name in ("bytes behind", "bytes before", "twice"):
                    self.assertGreater(sum(named[kind] for kind in right), 0.99 * _TIMES)
                elif right:
                    self.assertGreater(sum(named[kind] for kind in right), 0.7 * _TIMES)

    def _is_true(self, kind: str, found, answer: bytes, spoilt: bytes) -> bool:  # type: ignore[no-untyped-def]
        if kind == "bit":
            return spoilt[: found.start] + found.right + spoilt[found.end :] == answer
        if kind == "many":
            return spoilt[: found.start] + spoilt[found.end :] == answer
        return True

    def test_other_settings_are_named_where_bytes_prove_them(self) -> None:
        """Where it was sent more slowly, mostly; of what was sent faster too little is known."""
        named: Counter[bool] = Counter()
        slower = 0
        for number in range(_TIMES // 4):
            source = random.Random(number)
            settings = SerialSettings(source.choice(USUAL_BAUDS[1:]), source.choice(list(Parity)))
            theirs = replace(settings, baud=source.choice(USUAL_BAUDS), parity=source.choice(list(Parity)))
            request, answer = _answer(source, source.choice((1, 2, 6, 20)))
            came = heard_with(source, answer, theirs, settings)
            if came.startswith(answer) or not came:
                continue
            row = _row(request, came)._replace(
                link=f"rtu:///dev/ttyX?baud={settings.baud}&parity={settings.parity.value}&stop=1"
            )
            slower += 2 * theirs.baud <= settings.baud
            found = other_settings(row)
            if found is not None:
                named[found.baud == theirs.baud and found.parity in (None, theirs.parity)] += 1
        self.assertLessEqual(named[False], _TIMES // 400)
        self.assertGreater(named[True], 0.7 * slower)

    def test_the_request_itself(self) -> None:
        request, answer = _answer(random.Random(1), 2)
        found = damage_of(_row(request, request + answer))
        assert found is not None
        self.assertEqual((found.kind, found.start, found.end), ("echo", 0, len(request)))

    def test_of_the_other_framings_only_what_is_certain(self) -> None:
        row = exchange(3)
        spoilt = row._replace(kind=OutcomeKind.GARBLED, answer=row.answer[:5] + b"\x09" + row.answer[6:])
        found = damage_of(spoilt)
        assert found is not None
        self.assertEqual((found.kind, found.right), ("length", b"\x00\x05"))
        ascii_row = row._replace(kind=OutcomeKind.GARBLED, link="ascii:///dev/ttyX", answer=b":0703G20007ED\r\n")
        found = damage_of(ascii_row)
        assert found is not None
        self.assertEqual((found.kind, found.start), ("digit", 5))
        self.assertIsNone(damage_of(ascii_row._replace(answer=b":0703020007EC\r\n")))
        self.assertIsNone(damage_of(row))
