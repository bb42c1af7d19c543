"""What a search has found of a made-up line, beside what is there."""

from dataclasses import dataclass

from kanaleto.probing.draftmap import DraftRow
from kanaleto.site.links.serial import SerialLink
from kanaleto.unknown.concluding import drafts_of
from kanaleto.unknown.everything import Everything
from kanaleto.values.codec import Codec
from kanaleto.values.types import ByteOrder, parse_order, parse_type
from kanaleto.wire.codes import Table
from tests.madeup import MadeLine
from tests.madevalues import MadePoint


@dataclass
class Judged:
    """What a search has found of a made-up line, beside what is there; `right` of `points` are cut, ordered and read as
    they are in every sample, those that were zero throughout are counted apart."""

    has_settings: bool
    missing_units: list[int]
    invented_units: list[int]
    addresses: int
    found: int
    points: int
    read: int
    """Those of the points of which all registers were found."""
    right: int
    zeros: int


def judged(line: MadeLine, search: Everything) -> Judged:
    link, right = search.link, line.link
    has_settings = link == right
    if isinstance(link, SerialLink) and isinstance(right, SerialLink) and not line.tells_parity:
        has_settings = (link.settings.baud, link.framing) == (right.settings.baud, right.framing)
    units, found_units = set(line.devices), set(search.found)
    turns = search.turns.units if search.turns is not None else {}
    drafts = {draft.unit_id: draft for draft in drafts_of(search)}
    result = Judged(has_settings, sorted(units - found_units), sorted(found_units - units), 0, 0, 0, 0, 0, 0)
    for unit, device in line.devices.items():
        found_of: dict[Table, set[int]] = {}
        result.addresses += sum(len(device.addresses(table)) for table in Table)
        for table in turns[unit].survey.tables if unit in turns else ():
            reads = found_of[table.table] = {at for first, last in table.runs for at in range(first, last + 1)}
            result.found += len(reads & device.addresses(table.table))
        rows = {(row.table, row.address): row for row in drafts[unit].rows} if unit in drafts else {}
        for point in device.points:
            if point.table.is_bits:
                continue
            samples = [point.data(3000 + 7.3 * number) for number in range(20)]
            if not any(any(sample) for sample in samples):
                result.zeros += 1
                continue
            result.points += 1
            result.read += set(range(point.address, point.end)) <= found_of.get(point.table, set())
            row = rows.get((point.table, point.address))
            result.right += row is not None and _reads_alike(row, point, samples)
    return result


def _reads_alike(row: DraftRow, point: MadePoint, samples: list[bytes]) -> bool:
    value_type = parse_type(row.type)
    text = dict(row.cells).get("order")
    order = parse_order(text) if text else ByteOrder.ABCD if value_type.is_wide else ByteOrder.AB
    codec = Codec(value_type, order)
    if codec.registers != point.codec.registers:
        return False
    return all(codec.decode(sample) == point.codec.decode(sample) for sample in samples)
