"""What a search has found, as points: every run cut into values by the shortest description of its samples, with how
sure each is and what would settle it."""

from collections.abc import Sequence
from statistics import median

from msgspec import Struct

from kanaleto.lines.adapters import held_back_ms
from kanaleto.probing.draftmap import WORDS, DraftRow, UnitDraft
from kanaleto.probing.known import Span
from kanaleto.probing.tables import TableSearch
from kanaleto.unknown.everything import Everything
from kanaleto.unknown.turns import Turn
from kanaleto.values.codec import Codec, NoValue
from kanaleto.values.columns import Shape
from kanaleto.values.cutting import Cut, described_bits, explain
from kanaleto.values.types import ByteOrder, Kind, ValueType
from kanaleto.wire.codes import Table

_MOST_DECIMALS, _DIGITS = 4, 4
_DOUBTED = 0.85
_HALF_SURE = 0.6  # that it is no number of two registers
_LEAST_ALIKE = 12  # registers of a layout that two units share, for their samples to be taken together
_MOST_COMPARED = 3  # units of a group that another one is compared with
_MOST_EXPLAINED, _MOST_ROWS = 4000, 20_000  # registers of a unit that are explained, rows of its map
_ROOM, _LEAST_TIMEOUT_S, _LONGEST_FRAME = 1.5, 0.2, 256  # over 99 % of the answers; bytes of a frame
_LONGEST = 1000  # registers of a run that are explained at once


def drafts_of(search: Everything) -> list[UnitDraft]:
    """A draft of each unit that answered, whether anything of it reads or not."""
    turns = search.turns.units if search.turns is not None else {}
    cuts = _cuts_of_all(turns)
    period_s, link = _period_s(search), search.link
    least_s = _LEAST_TIMEOUT_S + _LONGEST_FRAME * link.character_s + held_back_ms(link) / 1000
    has_anybody = any(turn.is_there for turn in turns.values())
    drafts = []
    for unit_id in sorted(search.found):
        turn = turns.get(unit_id)
        if turn is None:
            drafts.append(UnitDraft(unit_id, search.says.get(unit_id, ""), (), (), 0))
            continue
        rows = [row for table in turn.survey.tables for row in _rows_of_table(turn, table, cuts.get(unit_id, {}))]
        rows = rows[:_MOST_ROWS]
        samples = turn.samples.fewest_of(turn.survey.tables) if rows else 0
        keys = _keys_of(turn, period_s, least_s)
        if turn.away_since is not None and has_anybody:
            keys["enabled"] = False  # it is not there any more: polling it would only cost the others time
            gone = f"gone since second {max(turn.survey.answered_at - search.began_s, 0):.0f} of the search"
            keys["note"] = "; ".join(text for text in (turn.says, turn.trouble, gone) if text)
        drafts.append(UnitDraft(unit_id, turn.says, tuple(keys.items()), tuple(rows), samples))
    return drafts


def _period_s(search: Everything) -> float:
    """How often a line that busy can be read."""
    round_s = search.turns.round_s if search.turns is not None else 0.0
    return 1.0 if round_s < 0.7 else float(-(-2 * round_s // 1))


def _keys_of(turn: Turn, period_s: float, least_s: float) -> dict[str, object]:
    keys: dict[str, object] = {}
    registers = [table.most for table in turn.survey.tables if not table.table.is_bits]
    bits = [table.most for table in turn.survey.tables if table.table.is_bits]
    if registers and min(registers) < Table.HOLDING.most_read:
        keys["max_registers"] = min(registers)
    if bits and min(bits) < Table.COIL.most_read:
        keys["max_bits"] = min(bits)
    if period_s != 1.0:
        keys["period_s"] = period_s
    took = sorted(turn.survey.took_s)
    if took:
        keys["timeout_s"] = round(max(least_s, _ROOM * took[min(len(took) * 99 // 100, len(took) - 1)]), 2)
    dangerous = [(table.table, *span) for table in turn.survey.tables for span in table.dangerous]
    never = [(table, first, last) for table, first, last in turn.survey.never if (table, first, last) not in dangerous]
    if dangerous or never:
        keys["never_read"] = [
            f"{table.value} {first}" + (f"-{last}" if last > first else "")
            for table, first, last in (*dangerous, *never)
        ]  # fmt: skip
    if note := "; ".join(text for text in (turn.says, turn.trouble) if text):
        keys["note"] = note
    return keys


# The values of runs

_Cuts = dict[tuple[Table, int], tuple[Cut, list[bytes]]]
"""By table and first address: the value, and its words in each sample."""


def _cuts_of_all(turns: dict[int, Turn]) -> dict[int, _Cuts]:
    """Units of one layout are explained together: what one of them does not tell, another may."""
    alike: dict[tuple[tuple[Table, Span], ...], list[int]] = {}
    for unit_id, turn in turns.items():
        layout = tuple((table.table, run) for table, run in _runs(turn))
        size = sum(last - first + 1 for _, (first, last) in layout)
        key = layout if size >= _LEAST_ALIKE else (*layout, (Table.HOLDING, (-unit_id, -1)))
        alike.setdefault(key, []).append(unit_id)
    found: dict[int, _Cuts] = {}
    for units in alike.values():
        for group in _of_one_layout({unit_id: turns[unit_id] for unit_id in units}):
            found |= _cuts_of(group)
    return found


def _of_one_layout(turns: dict[int, Turn]) -> list[dict[int, Turn]]:
    """Units of equal extent, in groups that are explained more shortly together than each by itself: that they share a
    layout is a hypothesis, and another content speaks against it."""
    groups: list[tuple[dict[int, Turn], float]] = []
    for unit_id, turn in turns.items():
        alone = _described_bits([turn])
        best: tuple[float, int, float] | None = None
        for number, (group, bits) in enumerate(groups):
            few = list(group.values())[:_MOST_COMPARED]
            joint = _described_bits([*few, turn])
            saved = bits + alone - joint
            if saved > 0 and (best is None or saved > best[0]):
                best = saved, number, joint
        if best is None:
            groups.append(({unit_id: turn}, alone))
            continue
        group, bits = groups[best[1]]
        group[unit_id] = turn
        groups[best[1]] = group, best[2] if len(group) <= _MOST_COMPARED else bits
    return [group for group, _ in groups]


def _described_bits(turns: Sequence[Turn]) -> float:
    return described_bits(
        [
            [_bytes_of(_samples_of(turn, _table_of(turn, table), run)) for turn in turns]
            for table, run in _runs(turns[0])
        ]
    )  # fmt: skip


def _runs(turn: Turn) -> list[tuple[TableSearch, Span]]:
    """Runs of registers, in pieces of a length that is explained at once."""
    runs = [
        (table, (at, min(at + _LONGEST - 1, last)))
        for table in turn.survey.tables if not table.table.is_bits
        for first, last in table.runs
        for at in range(first, last + 1, _LONGEST)
        if _samples_of(turn, table, (at, min(at + _LONGEST - 1, last)))
    ]  # fmt: skip
    return runs[: max(_MOST_EXPLAINED // _LONGEST, 1)] if _size(runs) > _MOST_EXPLAINED else runs


def _size(runs: Sequence[tuple[TableSearch, Span]]) -> int:
    return sum(last - first + 1 for _, (first, last) in runs)


def _samples_of(turn: Turn, table: TableSearch, run: Span) -> list[tuple[int, ...]]:
    """As it was read again and again; where it was not yet, as the search itself has seen it."""
    samples = turn.samples.of(table.table, run)
    seen = [table.words.get(address) for address in range(run[0], run[1] + 1)]
    once = tuple(word for word in seen if word is not None)
    return samples or ([once] if once and len(once) == len(seen) else [])


def _cuts_of(turns: dict[int, Turn]) -> dict[int, _Cuts]:
    runs = _runs(next(iter(turns.values())))
    if not runs:
        return {}
    words = [
        [_bytes_of(_samples_of(turn, _table_of(turn, table), run)) for turn in turns.values()] for table, run in runs
    ]
    _, cuts = explain(words)
    found: dict[int, _Cuts] = {unit_id: {} for unit_id in turns}
    for (table, (first, _)), samples, run_cuts in zip(runs, words, cuts, strict=True):
        for unit_id, of_unit in zip(turns, samples, strict=True):
            for cut in run_cuts:
                low, high = 2 * cut.at, 2 * (cut.at + cut.codec.registers)
                kept = [sample[low:high] for sample in of_unit]
                most = _table_of(turns[unit_id], table).most
                for one, words_of_one in _in_requests(cut, kept, most) or [(cut, kept)]:
                    found[unit_id][table.table, first + one.at] = (one, words_of_one)
    return found


def _in_requests(cut: Cut, samples: list[bytes], most: int) -> list[tuple[Cut, list[bytes]]]:
    """A value of more registers than one request gives, in pieces that can be read: text by text, numbers by register.
    Nothing where one request gives it whole."""
    size = cut.codec.registers
    if size <= most:
        return []
    pieces = []
    for at in range(0, size, most if cut.codec.type.kind is Kind.TEXT else 1):
        registers = min(most, size - at) if cut.codec.type.kind is Kind.TEXT else 1
        kind = ValueType(Kind.TEXT, 2 * registers) if cut.codec.type.kind is Kind.TEXT else ValueType(Kind.UINT16)
        words = [sample[2 * at : 2 * (at + registers)] for sample in samples]
        pieces.append((Cut(cut.at + at, Codec(kind, ByteOrder.AB), cut.shape, min(cut.sure, _HALF_SURE)), words))
    return pieces


def _table_of(turn: Turn, table: TableSearch) -> TableSearch:
    """The same table of another unit."""
    return next(table_search for table_search in turn.survey.tables if table_search.table is table.table)


def _bytes_of(samples: Sequence[tuple[int, ...]]) -> list[bytes]:
    return [b"".join(word.to_bytes(2) for word in words) for words in samples]


# Rows


def _rows_of_table(turn: Turn, table: TableSearch, cuts: _Cuts) -> list[DraftRow]:
    rows: list[DraftRow] = []
    for first, last in table.runs:
        if table.table.is_bits:
            rows += _rows_of_bits(turn, table, first, last)
            continue
        at, drafted = first, []
        while at <= last:
            known = cuts.get((table.table, at))
            if known is None:
                word = table.words.get(at)
                once = (*_access(table.table), *((("words", f"0x{word:04X}"),) if word is not None else ()))
                drafted.append(
                    DraftRow(f"{WORDS[table.table]} {at}", table.table, at, "not read again", "uint16", once)
                )
                at += 1
                continue
            drafted.append(_row(table.table, at, *known))
            at += known[0].codec.registers
        if table.is_full_of_zeros:  # what is zero at its ends may be nothing at all
            while drafted and drafted[0].note.startswith(_ZERO):
                drafted.pop(0)
            while drafted and drafted[-1].note.startswith(_ZERO):
                drafted.pop()
        rows += drafted
    return [*rows, *_rows_of_resets(table)]


def _rows_of_resets(table: TableSearch) -> list[DraftRow]:
    """Counts that reading takes away, as they were read once; `never_read` of the device keeps them alone."""
    return [
        DraftRow(
            f"{WORDS[table.table]} {address}", table.table, address,
            "zero right after it was read: reading takes it away, left alone", "uint16",
            (*_access(table.table), *((("words", f"0x{table.words[address]:04X}"),) if address in table.words else ())),
        )
        for first, last in table.resets
        for address in range(first, last + 1)
    ]  # fmt: skip


def _rows_of_bits(turn: Turn, table: TableSearch, first: int, last: int) -> list[DraftRow]:
    samples = _samples_of(turn, table, (first, last))
    rows = []
    for address in range(first, last + 1):
        seen = {bits[address - first] for bits in samples}
        note = "switches" if len(seen) > 1 else f"always {seen.pop()}" if seen else "not seen"
        cells = (*_access(table.table), *((("words", str(samples[-1][address - first])),) if samples else ()))
        rows.append(DraftRow(f"{WORDS[table.table]} {address}", table.table, address, note, "bool", cells))
    return rows


_ZERO = "0 throughout"


def _access(table: Table) -> tuple[tuple[str, str], ...]:
    """Nothing was written, so that nobody knows what may be: read only, until a person says more."""
    return (("access", "r"),) if table.is_writable else ()


def _row(table: Table, address: int, cut: Cut, samples: list[bytes]) -> DraftRow:
    codec = cut.codec
    cells = list(_access(table))
    if codec.order not in (ByteOrder.ABCD, ByteOrder.AB):
        cells.append(("order", codec.order.value))
    values = [value for sample in samples if isinstance(value := codec.decode(sample), int | float)]
    measure = _measure(codec, cut.shape, values)
    cells += measure.cells if measure is not None else []
    if codec.type.is_float and (measure is None or not measure.has_decimals):
        cells.append(("decimals", str(_decimals(values))))
    if samples:
        cells.append(("words", f"0x{samples[-1].hex(' ', 2).upper()}"))
    cells.append(("sure", f"{cut.sure:g}"))
    note = _note(cut, values, samples) + (f"; {measure.text}" if measure is not None else "")
    return DraftRow(f"{WORDS[table]} {address}", table, address, note, str(codec.type), tuple(cells))


def _note(cut: Cut, values: Sequence[float], samples: Sequence[bytes]) -> str:
    """How it moved, and what would settle what it is."""
    doubt = f", or {cut.instead}" if cut.instead is not None and cut.sure < _DOUBTED else ""
    match cut.shape:
        case Shape.ZERO:
            return f"{_ZERO}; make it move to see what it is"
        case Shape.STILL:
            if cut.codec.type.kind is Kind.TEXT:
                return "text"
            settle = "change it at the device, or compare it with the display" if cut.sure < _DOUBTED else ""
            return f"never moved{doubt}" + (f"; {settle}" if settle else "")
        case Shape.RISING:
            return f"only rises{doubt}" + ("; what does the display say?" if doubt else "")
        case Shape.STATES:
            return f"switches between states; {_switching(samples)}"
        case _:
            return f"moves{doubt}" + ("; what does the display say, or touch the sensor" if doubt else "")


def _switching(samples: Sequence[bytes]) -> str:
    words = [int.from_bytes(sample) for sample in samples]
    changed = 0
    for word in words:
        changed |= word ^ words[0]
    bits = [str(bit) for bit in range(16) if changed >> bit & 1]
    return f"bits {', '.join(bits)} switched" if bits else "none switched"


def _decimals(values: Sequence[float]) -> int:
    """As many as show four digits, and no more than any sample needs."""
    largest = max((abs(value) for value in values), default=0.0)
    before = len(str(int(largest))) if largest >= 1 else 0
    wanted = max(0, min(_DIGITS - before, _MOST_DECIMALS))
    needed = next((n for n in range(_MOST_DECIMALS) if all(_is_near(value, n) for value in values)), wanted)
    return min(wanted, needed)


def _is_near(value: float, decimals: int) -> bool:
    return abs(round(value, decimals) - value) <= 1e-6 * max(abs(value), 1e-6)


# Measures that have a typical look


class Measure(Struct, frozen=True):
    """What a value is likely measured in, as cells of a map, and in words."""

    cells: list[tuple[str, str]]
    text: str
    has_decimals: bool = False


def _measure(codec: Codec, shape: Shape, values: Sequence[float]) -> Measure | None:
    """A mains frequency or voltage, by where it stands and how little it moves; None for anything else."""
    if shape is not Shape.MEASURED or not values or any(isinstance(value, NoValue) for value in values):
        return None
    middle = median(values)
    spread = max(abs(value - middle) for value in values)
    for factor, digits in ((1.0, 0), (0.1, 1), (0.01, 2), (0.001, 3)):
        if codec.type.is_float and digits:
            break
        value, around = middle * factor, spread * factor
        scaled = [("factor", f"{factor:g}"), ("decimals", str(digits))] if digits else []
        for nominal in (50.0, 60.0):
            if abs(value - nominal) <= 0.5 and around <= 0.5 and (digits or codec.type.is_float):
                low, high = f"{nominal - 5:g}", f"{nominal + 5:g}"
                cells = [*scaled, ("unit", "Hz"), ("range_low", low), ("range_high", high)]
                return Measure(cells, "like a mains frequency", bool(digits))
        for nominal in (230.0, 400.0):
            if (
                abs(value - nominal) <= 0.1 * nominal
                and around <= 0.04 * nominal
                and (digits == 1 or codec.type.is_float)
            ):
                low, high = f"{0.8 * nominal:g}", f"{1.2 * nominal:g}"
                cells = [*scaled, ("unit", "V"), ("range_low", low), ("range_high", high)]
                return Measure(cells, "like a mains voltage", bool(digits))
    return None
