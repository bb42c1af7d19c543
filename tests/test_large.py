"""What is done at once for many gives what is done for each: rows that say the same, addresses as spans."""

import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import astuple

from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import KnownRows, read_map
from kanaleto.site.counting import Counting, Numbering, OwnNumbering
from kanaleto.site.model import DeviceLimits
from kanaleto.site.spans import Spans
from kanaleto.wire.codes import Table

PATH = Path("map.csv")
HEAD = ("table", "type", "factor", "unit", "initial", "what else", "name", "address", "note")
ALIKE = st.tuples(
    st.sampled_from(["holding", "input", "coil", "Holding ", "lamp", ""]),
    st.sampled_from(["", "uint16", "float32", "float64", "bool", "text8", "int12"]),
    st.sampled_from(["", "0.1", "0,1", "ten"]),
    st.sampled_from(["", "bar", " bar"]),
    st.sampled_from(["", "1", "70000", "ab"]),
    st.sampled_from(["", "more"]),
)
OWN = st.tuples(
    st.sampled_from(["A", "Pool level", " B ", "", "x" * 201]),
    st.sampled_from(["0", "7", " 12", "007", "0x10", "40012", "3.04", "65535", "65536", "-1", "²", "", "1e2"]),
    st.sampled_from(["", "n", " seen ", '"of, two"']),
)


HEADED = "name,table,address,exponent\n"
EDITED = (
    "A,holding,1,\n",
    "B,holding,1,\n",
    "C,input,4,A\n",
    "A,holding,9,\n",
    "D,holding,4,B\n",
    "E,x,1,\n",
    "\n",
    "F,coil\n",
)


class Rows(unittest.TestCase):
    @settings(max_examples=300)
    @given(
        st.lists(ALIKE, min_size=1, max_size=3),
        st.lists(st.tuples(st.integers(0, 2), OWN, st.integers(-1, 2)), min_size=1, max_size=20),
        st.permutations(HEAD),
        st.sampled_from([*Numbering, OwnNumbering(100, 20, 2)]),
    )
    def test_a_map_is_what_its_rows_are(
        self,
        alike: list[tuple[str, ...]],
        rows: list[tuple[int, tuple[str, ...], int]],
        head: list[str],
        numbering: Counting,
    ) -> None:
        lines = []
        for number, (which, own, shorter) in enumerate(rows):
            said = dict(zip(HEAD, (*alike[which % len(alike)], *own), strict=True))
            said["name"] += str(number) if said["name"].strip() else ""
            lines.append(",".join([*(said[key] for key in head), "over"][: len(HEAD) - max(shorter, -1)]) + "\n")
        defaults = MapDefaults(numbering=numbering)
        points, faults = read_map(PATH, ",".join(head) + "\n" + "".join(lines), defaults)
        alone = [
            read_map(PATH, ",".join(head) + "\n" * (number + 1) + line, defaults) for number, line in enumerate(lines)
        ]
        self.assertEqual([astuple(point) for point in points], [astuple(own) for found, _ in alone for own in found])
        wrong = [fault for fault in faults if not fault.is_warning]
        self.assertEqual(wrong, [fault for _, told in alone for fault in told if not fault.is_warning])


class ReadAgain(unittest.TestCase):
    @settings(max_examples=300)
    @given(
        st.lists(st.sampled_from(EDITED), max_size=12),
        st.lists(st.tuples(st.integers(0, 12), st.sampled_from(["cut", "put", "move"]), st.sampled_from(EDITED))),
        st.sampled_from(["", "# seen\n", "\n"]),
        st.sampled_from([HEADED, HEADED.upper(), HEADED.replace("\n", ",unit\n")]),
    )
    def test_a_map_read_again_is_what_it_is_when_read_first(
        self, rows: list[str], changes: list[tuple[int, str, str]], above: str, head: str
    ) -> None:
        defaults = MapDefaults(limits=DeviceLimits(never_read=((Table.HOLDING, 4, 4),)))
        known, other = KnownRows(), rows.copy()
        before, _ = read_map(PATH, HEADED + "".join(rows), defaults, known)
        is_sound = bool(known.raws)
        for at, what, row in changes:
            other[at : at + (what != "put")] = [row] if what != "cut" else []
        text = above + head + "".join(other)
        points, faults = read_map(PATH, text, defaults, known)
        self.assertEqual((points, faults), read_map(PATH, text, defaults))
        self.assertEqual((points, faults), read_map(PATH, text, defaults, known))
        if is_sound and not changes and head == HEADED:
            self.assertTrue(all(one is other for one, other in zip(points, before, strict=True)))


class Addresses(unittest.TestCase):
    @given(st.lists(st.tuples(st.integers(0, 60), st.integers(1, 9))), st.integers(0, 70), st.integers(1, 12))
    def test_spans_are_touched_where_any_of_them_is(
        self, spans: list[tuple[int, int]], start: int, length: int
    ) -> None:
        covered = {at for first, size in spans for at in range(first, first + size)}
        found = Spans((first, first + size) for first, size in spans).touch(start, start + length)
        self.assertEqual(found, bool(covered.intersection(range(start, start + length))))
