"""Rows of a text are all its characters, parted as the standard's reader parts them."""

import csv
import unittest
from io import StringIO

from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

from kanaleto.files.maplines import rows_of

TEXT = st.text(st.sampled_from('ab,\n\n\r"'), max_size=40)
PLAIN = st.text(st.sampled_from("ab,\n\n\r"), max_size=40)


class RowEnds(unittest.TestCase):
    @settings(max_examples=1500)
    @given(TEXT | PLAIN)
    @example("a\r")
    @example('a\n"b\nc"\nd\n')
    @example('a\nb\nc"\nd\n')
    def test_rows_are_those_of_the_standard_reader(self, text: str) -> None:
        found = rows_of(text, ",")
        assume(found.error is None)
        self.assertEqual("".join(found.rows), text)
        reader = csv.reader(StringIO(text, newline=""))
        cells, before, lines = list[list[str]](), 0, list[int]()
        for row in reader:
            cells.append(row)
            lines.append(before + 1)
            before = reader.line_num
        self.assertEqual([next(csv.reader(StringIO(raw, newline="")), []) for raw in found.rows][: len(cells)], cells)
        self.assertEqual(list(found.lines)[: len(lines)], lines)
        self.assertLessEqual(len(found.rows) - len(cells), 1)  # the rest of a quote that is not closed

    def test_what_cannot_be_parted_says_why(self) -> None:
        found = rows_of("a,b\n" + '"' + "x" * 200_000, ",")
        self.assertIsInstance(found.error, csv.Error)
        self.assertEqual(found.rows, ["a,b\n"])
