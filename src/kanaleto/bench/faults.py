"""Faults on demand: what a simulated device, or all of a line, does wrong for a while. Each draws from a seed of its
own.

Those of one answer are made here as bytes (`ServedFault.spoil`); those of a connection, a port or registers (`refuse`,
`cable`, `power`, `frozen`, `jump`) are done by whoever runs the servers and the movement.
"""

import math
import random
import shlex
from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct

from kanaleto.serving.answerer import Encode, Pieces, ShapedAnswer
from kanaleto.site.filefaults import suggestion

KEYS: dict[str, tuple[str, ...]] = {
    "silent": (), "late": ("ms",), "lost": ("each",), "garbled": ("each", "bits"), "short": ("bytes",),
    "unit": ("unit",), "exception": ("code",), "busy": ("code",), "previous": (), "noise": ("a_second",),
    "hang_up": ("after",), "refuse": (), "cable": (), "power": (), "frozen": ("point",), "jump": ("point", "by"),
}  # fmt: skip
"""Every fault, with the keys that it may have."""
NEEDS = {"late": "ms", "noise": "a_second", "lost": "each", "short": "bytes", "unit": "unit", "hang_up": "after",
         "jump": "point"}  # fmt: skip


class FaultWanted(Struct, frozen=True):
    """A fault as it was asked for: its name, its keys, and the device or line that has it."""

    name: str
    keys: tuple[tuple[str, Any], ...]
    target: str = ""

    @property
    def numbers(self) -> dict[str, Any]:
        return dict(self.keys)

    def __str__(self) -> str:
        return " ".join([self.name, *(f"{key}={value}" for key, value in self.keys)])


def wanted_fault(name: str, keys: Mapping[str, Any], target: str = "") -> FaultWanted:
    """Raises ValueError with one sentence."""
    if name not in KEYS:
        raise ValueError(f"{name!r} is no fault{suggestion(name, list(KEYS))}; there are {', '.join(KEYS)}")
    for key in keys:
        if key not in KEYS[name]:
            known = ", ".join(KEYS[name]) or "none"
            raise ValueError(f"{name} has no key {key!r}; it has {known}")
    if name in NEEDS and NEEDS[name] not in keys:
        raise ValueError(f"{name} needs {NEEDS[name]}, as in {name} {NEEDS[name]}={_EXAMPLE[NEEDS[name]]}")
    for key, value in keys.items():
        if key != "point" and not _is_right(key, value):
            raise ValueError(f"{name}: {key}={value!r} is not what it may be, as {key}={_EXAMPLE[key]}")
    return FaultWanted(name, tuple(keys.items()), target)


_EXAMPLE = {
    "ms": "300", "each": "5", "bits": "1", "bytes": "3", "unit": "9", "code": "4", "after": "10",
    "point": "'Level'", "by": "2.5", "a_second": "5",
}  # fmt: skip
_MOST_NOISE = 100  # bursts a second
_MOST = {"each": 1_000_000, "bits": 100, "bytes": 300, "unit": 255, "code": 255, "after": 1_000_000}


def _is_right(key: str, value: Any) -> bool:
    if isinstance(value, bool):
        return False
    if key == "ms":
        ends = value if isinstance(value, list | tuple) else [value, value]
        return (
            len(ends) == 2 and all(isinstance(end, int | float) for end in ends) and 0 <= ends[0] <= ends[1] <= 60_000
        )
    if key == "a_second":
        return isinstance(value, int | float) and 0 < value <= _MOST_NOISE
    if key == "by":
        return isinstance(value, int | float) and math.isfinite(value)
    return isinstance(value, int) and (0 if key == "unit" else 1) <= value <= _MOST[key]


def parse_fault(text: str) -> FaultWanted:
    """`Lower sluice: late ms=300`: a device or a line, a fault, its keys. Raises ValueError with one sentence."""
    target, colon, rest = text.partition(":")
    try:
        words = shlex.split(rest)
    except ValueError:
        raise ValueError(f"{text!r}: a quote in it does not end") from None
    if not colon or not target.strip() or not words:
        raise ValueError(f"{text!r}: write a device or a line, a colon and a fault: 'Lower sluice: late ms=300'")
    return wanted_fault(words[0], _keys_of(words[1:], text), target.strip())


def parse_keys(text: str) -> dict[str, Any]:
    """`ms=300 each=5` as keys of a fault. Raises ValueError with one sentence."""
    try:
        return _keys_of(shlex.split(text), text)
    except ValueError as error:
        raise ValueError(str(error) if "key=value" in str(error) else f"{text!r}: a quote in it does not end") from None


def _keys_of(words: Sequence[str], text: str) -> dict[str, Any]:
    keys: dict[str, Any] = {}
    for word in words:
        key, equals, value = word.partition("=")
        if not equals:
            raise ValueError(f"{text!r}: {word!r} is no key=value")
        keys[key] = _value(value)
    return keys


def _value(text: str) -> Any:
    if text.startswith("[") and text.endswith("]"):
        return [_value(part.strip()) for part in text[1:-1].split(",")]
    for kind in (int, float):
        try:
            return kind(text)
        except ValueError:
            continue
    return text


class ServedFault:
    """A fault that a device has now. `count` is how many answers it was asked about."""

    def __init__(self, wanted: FaultWanted, seed: object) -> None:
        self.wanted = wanted
        self.count = 0
        self._random = random.Random(f"{seed}/{wanted.target}/{wanted}")
        self._before: dict[int, bytes] = {}

    def spoil(self, answer: ShapedAnswer, is_tcp: bool) -> None:
        """Make an answer what it is with this fault."""
        self.count += 1
        numbers, right = self.wanted.numbers, answer.pdu
        match self.wanted.name:
            case "silent" | "power":
                answer.pdu = answer.shape = None
            case "late":
                ms = numbers["ms"]
                low, high = ms if isinstance(ms, list | tuple) else (ms, ms)
                answer.delay_s += self._random.uniform(low, high) / 1000
            case "lost":
                if self.count % numbers["each"] == 0:
                    answer.pdu = answer.shape = None
            case "exception" | "busy":
                if right is not None:
                    code = numbers.get("code", 4 if self.wanted.name == "exception" else 6)
                    answer.pdu = bytes((right[0] | 0x80, code))
            case "unit":
                answer.unit_id = numbers["unit"]
            case "previous":
                if right is not None:
                    answer.pdu = self._before.get(0, right)
                    self._before[0] = right
            case "hang_up":
                answer.hangs_up = answer.hangs_up or self.count % numbers["after"] == 0
            case "garbled":
                if self.count % numbers.get("each", 1) == 0 and right is not None:
                    answer.shape = self._garbled(numbers.get("bits", 1), is_tcp)
            case "short":
                if right is not None:
                    most = numbers["bytes"]
                    answer.shape = lambda encode, shaped_answer: [(0.0, _raw(encode, shaped_answer)[:most])]

    def _garbled(self, bits: int, is_tcp: bool) -> "Any":
        def shape(encode: Encode, shaped_answer: ShapedAnswer) -> Pieces:
            raw = bytearray(_raw(encode, shaped_answer))
            if is_tcp:  # the length field says one less
                raw[4:6] = (int.from_bytes(raw[4:6]) - 1).to_bytes(2)
                return [(0.0, bytes(raw))]
            for bit in self._random.sample(range(8 * len(raw)), min(bits, 8 * len(raw))):
                raw[bit // 8] ^= 1 << bit % 8
            return [(0.0, bytes(raw))]

        return shape


def _raw(encode: Encode, answer: ShapedAnswer) -> bytes:
    return encode(answer.unit_id, answer.pdu or b"")
