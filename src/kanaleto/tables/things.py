"""A device as a W3C Web of Things Thing Description (TD 1.1), with the Modbus binding's vocabulary, and back.

What the binding has no word for (scales, bits, limits) goes along in our own terms under `kanaleto:`, so that nothing
is lost on the way back; other descriptions are read by the binding's terms alone.
"""

import json
from typing import Any

from kanaleto.site.links.link import Link
from kanaleto.site.model import DEMAND, Device, Point
from kanaleto.tables.maps import point_cells
from kanaleto.values.types import Kind
from kanaleto.wire.codes import Table

_ENTITIES = {
    Table.COIL: "Coil",
    Table.DISCRETE: "DiscreteInput",
    Table.INPUT: "InputRegister",
    Table.HOLDING: "HoldingRegister",
}
_READ = {
    Table.COIL: "readCoil",
    Table.DISCRETE: "readDiscreteInput",
    Table.INPUT: "readInputRegisters",
    Table.HOLDING: "readHoldingRegisters",
}
_TYPES = {
    Kind.INT16: "xsd:short", Kind.UINT16: "xsd:unsignedShort", Kind.INT32: "xsd:int", Kind.UINT32: "xsd:unsignedInt",
    Kind.INT64: "xsd:long", Kind.UINT64: "xsd:unsignedLong", Kind.FLOAT32: "xsd:float", Kind.FLOAT64: "xsd:double",
        Kind.TEXT: "xsd:string",
}  # fmt: skip
_KINDS = {
    "short": "int16", "unsignedshort": "uint16", "int": "int32", "integer": "int32", "unsignedint": "uint32",
    "long": "int64",
    "unsignedlong": "uint64", "float": "float32", "double": "float64", "decimal": "float64", "byte": "int8:low",
    "unsignedbyte": "uint8:low",
}  # fmt: skip
_ORDERS = {(True, True): "ABCD", (False, True): "CDAB", (True, False): "BADC", (False, False): "DCBA"}
_OWN = "kanaleto:cells"
_MOST_PROPERTIES = 20_000


def as_thing(device: Device, link: Link) -> str:
    """The description, one property a point."""
    thing = {
        "@context": [
            "https://www.w3.org/2022/wot/td/v1.1",
            {
                "modv": "https://www.w3.org/2019/wot/modbus#",
                "xsd": "http://www.w3.org/2001/XMLSchema#",
                "kanaleto": "urn:kanaleto:map#",
            },
        ],
        "title": device.name,
        "description": device.note or f"Unit {device.unit_id}",
        "securityDefinitions": {"nosec_sc": {"scheme": "nosec"}},
        "security": ["nosec_sc"],
        "base": _base(link),
        "properties": {point.name: _property(device, point) for point in device.points},
    }
    return json.dumps(thing, ensure_ascii=False, indent=2) + "\n"


def _base(link: Link) -> str:
    if link.is_serial:
        return f"modbus+{link.framing.value}:{link.place}"
    scheme = "tcp" if link.scheme == "tls" else link.scheme
    return f"modbus+{scheme}://{link.place}"


def _property(device: Device, point: Point) -> dict[str, Any]:
    codec = point.codec
    is_text = codec.type.kind is Kind.TEXT or (
        codec.type.kind not in _TYPES and codec.type.takes_scale is False and not point.table.is_bits
    )
    kind = (
        "boolean"
        if point.table.is_bits
        else "string"
        if is_text
        else "number"
        if codec.scale or codec.type.is_float
        else "integer"
    )
    operations = [
        *(["readproperty"] if point.access.is_read else []),
        *(["writeproperty"] if point.access.is_written else []),
    ]
    form: dict[str, Any] = {
        "href": f"/{device.unit_id}/{point.address}?quantity={point.size}",
        "op": operations if len(operations) > 1 else operations[0],
        "modv:unitID": device.unit_id,
        "modv:entity": _ENTITIES[point.table],
        "modv:address": point.address,
        "modv:quantity": point.size,
        "modv:zeroBasedAddressing": True,
    }
    if operations == ["readproperty"]:
        form["modv:function"] = _READ[point.table]
    if codec.type.kind in _TYPES and not point.table.is_bits:
        form["modv:type"] = _TYPES[codec.type.kind]
    if codec.type.is_wide and not codec.order.is_spelled:
        form["modv:mostSignificantWord"] = not codec.order.swaps_words
        form["modv:mostSignificantByte"] = not codec.order.swaps_bytes
    if point.period_s not in (0, DEMAND):
        form["modv:pollingTime"] = round(1000 * point.period_s)
    found: dict[str, Any] = {
        "type": kind,
        "readOnly": not point.access.is_written,
        "writeOnly": not point.access.is_read,
        "forms": [form],
    }
    if point.unit:
        found["unit"] = point.unit
    if point.note:
        found["description"] = point.note
    if point.limits.range_low is not None:
        found["minimum"] = point.limits.range_low
    if point.limits.range_high is not None:
        found["maximum"] = point.limits.range_high
    cells = point_cells(device, point)
    for key in ("name", "table", "address", "unit", "note"):
        cells.pop(key, None)
    if cells:
        found[_OWN] = cells
    return found


def rows_of_thing(text: str) -> tuple[list[dict[str, str]], list[str]]:
    """Rows for a map that counts from 0, and what could not be read, in words. Raises ValueError when it is no
    description."""
    try:
        thing = json.loads(text)
        properties = thing["properties"]
        if not isinstance(properties, dict):
            raise TypeError
    except (ValueError, KeyError, TypeError, RecursionError):
        raise ValueError("is no Thing Description: it has no properties") from None
    if len(properties) > _MOST_PROPERTIES:
        raise ValueError(f"has {len(properties)} properties, {_MOST_PROPERTIES} at most are read")
    rows: list[dict[str, str]] = []
    doubts: list[str] = []
    for name, form in properties.items():
        try:
            rows.append(_row(str(name), form))
        except (ValueError, KeyError, TypeError, IndexError, AttributeError, ArithmeticError, RecursionError) as error:
            doubts.append(f"{name[:60]}: has no form that this binding reads ({str(error)[:120]})")
    return rows, doubts


def _row(name: str, property_: dict[str, Any]) -> dict[str, str]:
    form = property_["forms"][0]
    entity = str(form.get("modv:entity", ""))
    function = str(form.get("modv:function", ""))
    table = next((of for of, word in _ENTITIES.items() if word.lower() == entity.lower()), None)
    if table is None:
        table = next(
            (of for of, word in _READ.items() if word.lower().rstrip("s") == function.lower().rstrip("s")), None
        )
    if table is None:
        raise ValueError("neither its entity nor its function says which table")
    address = int(form["modv:address"]) if "modv:address" in form else _address_of(str(form.get("href", "")))
    if form.get("modv:zeroBasedAddressing") is False:
        address -= 1
    if not 0 <= address <= 0xFFFF:
        raise ValueError(f"address {address} is not in 0…65535")
    row = {"name": name, "table": table.value, "address": str(address)}
    if not table.is_bits:
        row["type"] = _type_of(form, property_)
        if form.get("modv:mostSignificantWord") is not None or form.get("modv:mostSignificantByte") is not None:
            words, inner = form.get("modv:mostSignificantWord", True), form.get("modv:mostSignificantByte", True)
            if int(form.get("modv:quantity", 1)) > 1 and not row["type"].startswith("text"):
                row["order"] = _ORDERS[bool(words), bool(inner)]
    if property_.get("writeOnly"):
        row["access"] = "w"
    elif not property_.get("readOnly", False) and table.is_writable and "writeproperty" in str(form.get("op", "")):
        row["access"] = "rw"
    for key, field in (("unit", "unit"), ("description", "note"), ("minimum", "range_low"), ("maximum", "range_high")):
        if property_.get(key) not in (None, ""):
            row[field] = str(property_[key])[:2000]
    if form.get("modv:pollingTime"):
        row["period_s"] = f"{int(form['modv:pollingTime']) / 1000:g}"
    cells = property_.get(_OWN)
    if isinstance(cells, dict):
        row |= {str(key): str(value) for key, value in cells.items()}
    return row


def _type_of(form: dict[str, Any], property_: dict[str, Any]) -> str:
    word = str(form.get("modv:type", "")).rpartition(":")[2].lower()
    quantity = int(form.get("modv:quantity", 1))
    if word == "string" or (not word and property_.get("type") == "string"):
        return f"text:{2 * quantity}"
    if word in _KINDS:
        return _KINDS[word]
    wide = {
        1: "int16" if property_.get("type") == "integer" else "uint16",
        2: "float32" if property_.get("type") == "number" else "int32",
        4: "float64",
    }
    return wide.get(quantity, "uint16")


def _address_of(href: str) -> int:
    """From a form's path, `/unit/address` before any query."""
    return int(href.partition("?")[0].rstrip("/").rpartition("/")[2])
