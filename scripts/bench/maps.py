"""A block of 125 registers decoded, against `struct.unpack` of the same bytes; a map of 5 000
points from its file to the rows of the ruler, against splitting the same file into cells."""

import csv
import random
import statistics
import struct
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from kanaleto.files.loading import load_site
from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.planning.plan import plan_site
from kanaleto.planning.ruler import Ruler
from kanaleto.values.block import RegisterBlock
from kanaleto.values.codec import Codec
from kanaleto.values.scale import linear
from kanaleto.values.types import order_for, parse_order, parse_type
from scripts.bench.figure import Figure
from scripts.bench.loopback import mixed_rows

_ROUNDS, _TIMES = 9, 400


def _seconds(work: Callable[[], object]) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def measure() -> list[Figure]:
    return [
        _block("100 mixed points", _asked(), "≤ 2.3"),
        _block("100 points of all widths, two fifths scaled", _mixed(), ""),
        _block("125 scaled words", _scaled(), "≤ 2"),
        _map(),
    ]


def _asked() -> list[tuple[int, Codec]]:
    """Those that are asked for where exchanges are counted."""
    points, _ = read_map(Path("bench.csv"), "name,table,address,type,order,factor\n" + mixed_rows(), MapDefaults())
    return [(point.address, point.codec) for point in points]


def _mixed() -> list[tuple[int, Codec]]:
    """100 points in 125 registers: 16, 32 and 64 bits in two orders, a third of them scaled, and bits of words."""
    chance = random.Random(1)
    fields: list[tuple[int, Codec]] = []
    at = 0
    kinds = ["int16"] * 35 + ["uint16"] * 35 + ["float32"] * 12 + ["int32"] * 8 + ["uint64"] * 3
    chance.shuffle(kinds)
    for kind in kinds:
        value_type = parse_type(kind)
        order = order_for(
            value_type, parse_order(chance.choice(("ABCD", "CDAB"))) if value_type.is_wide else None, None
        )
        fields.append((at, Codec(value_type, order, linear(0.1, 0.0) if chance.random() < 1 / 3 else None)))
        at += value_type.registers
    bool_type = parse_type("bool")
    fields += [(at, Codec(bool_type, order_for(bool_type, None, None), None, (bit, bit))) for bit in range(7)]
    return fields


def _scaled() -> list[tuple[int, Codec]]:
    word = parse_type("uint16")
    return [(at, Codec(word, order_for(word, None, None), linear(0.1, 0.0))) for at in range(125)]


def _block(what: str, fields: list[tuple[int, Codec]], target: str) -> Figure:
    chance = random.Random(2)
    block = RegisterBlock(125, fields)
    data = bytes(struct.pack(">h", chance.randint(0, 12000))[at % 2] for at in range(250))
    plain = struct.Struct(">" + "".join(codec.struct_code for _, codec in fields if codec.bits is None))
    bare_data = data[: plain.size]

    def work() -> None:
        for _ in range(_TIMES):
            block.decode(data)

    def floor() -> None:
        for _ in range(_TIMES):
            plain.unpack(bare_data)

    work()
    pairs = [(_seconds(work) / _TIMES, _seconds(floor) / _TIMES) for _ in range(_ROUNDS)]
    ours, bare = (statistics.median(column) for column in zip(*pairs, strict=True))
    ratio = statistics.median(one / other for one, other in pairs)
    what = f"a block of 125 registers decoded, {what}, against struct.unpack"
    return Figure(what, f"{1e6 * ours:.1f} µs", f"{1e6 * bare:.1f} µs", ratio, target)


def _map() -> Figure:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "site.toml"
        rows = "".join(
            f"Point {number},holding,{number * 2},{'float32' if number % 2 else 'int16'},0.1\n"
            for number in range(5000)
        )
        (Path(folder) / "map.csv").write_text("name,table,address,type,factor\n" + rows)
        path.write_text(
            '[site]\nname = "B"\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1:9"\n'
            '[[line.device]]\nname = "D"\nunit_id = 1\nmap = "map.csv"\n'
        )

        def work() -> None:
            site, _ = load_site(path)
            Ruler(plan_site(site).parts[0])

        def floor() -> None:
            with (Path(folder) / "map.csv").open() as file:
                list(csv.reader(file))

        work()
        pairs = [(_seconds(work), _seconds(floor)) for _ in range(5)]
    ours, bare = (statistics.median(column) for column in zip(*pairs, strict=True))
    ratio = statistics.median(one / other for one, other in pairs)
    return Figure(
        "a map of 5 000 points read, planned and laid out", f"{1000 * ours:.0f} ms", f"{1000 * bare:.1f} ms", ratio
    )
