"""What a point's words meant when they were recorded: its definition as text, with a fingerprint, and what reads the
words again."""

import json
from hashlib import sha256
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict

from kanaleto.site.model import Derived, Point
from kanaleto.values.codec import Codec, NoValue, Value
from kanaleto.values.scale import AnyScale, Bounded, Curve, Scale
from kanaleto.values.types import ByteOrder, parse_type
from kanaleto.wire.codes import Table

_MEANING = ("table", "address", "type", "order", "scale", "bit", "no_value", "exponent", "formula")


class Definition(Struct, frozen=True):
    """`text` is what is stored; `codec` is None for a derived point and for bits. `deadband` is no part of what words
    mean."""

    text: str
    codec: Codec | None
    unit: str = ""
    decimals: int | None = None
    labels: dict[int, str] = {}
    exponent: str = ""

    @property
    def fingerprint(self) -> str:
        """The same where words mean the same."""
        return _fingerprint(json.loads(self.text))

    def value_of(self, data: bytes) -> Value | None:
        """What words as they came mean; None for a derived point, which has none."""
        if self.codec is None:
            return data[0] if data else None
        try:
            return self.codec.decode(data)
        except (ValueError, IndexError) as error:
            return NoValue(f"its words cannot be read: {error}")


def fingerprint_of(point: Point) -> str:
    """The fingerprint of a point's definition."""
    return _fingerprint(_parts_of(point))


def _fingerprint(parts: dict[str, Any]) -> str:
    meaning = {key: parts[key] for key in _MEANING if key in parts}
    return sha256(json.dumps(meaning, sort_keys=True).encode()).hexdigest()[:16]


def definition_text(point: Point) -> str:
    """A point's definition as text (JSON)."""
    return _with_looks(_parts_of(point), point.unit, point.decimals, point.labels)


def _parts_of(point: Point) -> dict[str, Any]:
    codec = point.codec
    parts: dict[str, Any] = {"table": point.table.value, "address": point.address}
    if not point.table.is_bits:
        parts |= {"type": str(codec.type), "order": codec.order.value}
        if codec.scale is not None:
            parts["scale"] = _scale_parts(codec.scale)
        if codec.bits is not None:
            parts["bit"] = list(codec.bits)
        if codec.no_values:
            parts["no_value"] = sorted(codec.no_values)
        if point.exponent:
            parts["exponent"] = point.exponent
    return parts


def derived_text(derived: Derived) -> str:
    return _with_looks({"formula": derived.formula}, derived.unit, derived.decimals, {})


def _with_looks(parts: dict[str, Any], unit: str, decimals: int | None, labels: dict[int, str]) -> str:
    if unit:
        parts["unit"] = unit
    if decimals is not None:
        parts["decimals"] = decimals
    if labels:
        parts["labels"] = {str(number): label for number, label in labels.items()}
    return json.dumps(parts, ensure_ascii=False, sort_keys=True)


def read_definition(text: str) -> Definition:
    """From its text. Raises ValueError."""
    try:
        parts = json.loads(text)
        codec = None
        if "type" in parts and not Table(parts["table"]).is_bits:
            scale = _scale_of(parts["scale"]) if "scale" in parts else None
            bits = (int(parts["bit"][0]), int(parts["bit"][1])) if "bit" in parts else None
            order = ByteOrder(parts["order"])
            codec = Codec(parse_type(parts["type"]), order, scale, bits, frozenset(parts.get("no_value", ())))
        labels = {int(number): str(label) for number, label in parts.get("labels", {}).items()}
        return Definition(text, codec, parts.get("unit", ""), parts.get("decimals"), labels, parts.get("exponent", ""))
    except (KeyError, TypeError, IndexError, AttributeError) as error:
        raise ValueError(f"{text!r} is no definition of a point: {error}") from None


def _scale_parts(scale: AnyScale) -> dict[str, Any]:
    if isinstance(scale, Curve):
        return {"curve": [list(pair) for pair in zip(scale.raws, scale.values, strict=True)]}
    if isinstance(scale, Bounded):
        return {**asdict(scale), "inner": _scale_parts(scale.inner)}
    return asdict(scale)


def _scale_of(parts: dict[str, Any]) -> AnyScale:
    if "curve" in parts:
        return Curve(tuple(raw for raw, _ in parts["curve"]), tuple(value for _, value in parts["curve"]))
    if "inner" in parts:
        inner = _scale_of(parts["inner"])
        if isinstance(inner, Bounded):
            raise ValueError("a scale with ends inside another")
        return Bounded(**{**parts, "inner": inner})
    return Scale(**parts)
