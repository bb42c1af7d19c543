"""Rows of a text are known by where they end, and those of a text much like one before are found from those."""

import csv
import unittest
from io import StringIO

from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

from kanaleto.files.maplines import MapLines, rows_in_common, rows_of
from kanaleto.site.ends import text_in_common

TEXT = st.text(st.sampled_from('ab,\n\n\r"'), max_size=40)
PLAIN = st.text(st.sampled_from("ab,\n\n\r"), max_size=40)
CUT = st.tuples(st.integers(0, 40), st.integers(0, 8), st.text(st.sampled_from('ab,\n\r"'), max_size=6))


def one_by_one(text: str) -> tuple[list[str], list[int]]:
    """Rows and the numbers of their first lines, as the standard's reader parts them."""
    lines = list(StringIO(text, newline=""))
    if '"' not in text:
        return lines, list(range(1, len(lines) + 1))
    rows, numbers, before = list[str](), list[int](), 0
    reader = csv.reader(lines)
    for _ in reader:
        rows.append("".join(lines[before : reader.line_num]))
        numbers.append(before + 1)
        before = reader.line_num
    return rows, numbers


class RowEnds(unittest.TestCase):
    @settings(max_examples=1500)
    @given(TEXT | PLAIN, CUT)
    @example("a\r", (2, 0, "\n"))  # the end of a line becomes the middle of one
    @example("a\nb", (3, 0, "b"))
    @example('a\n"b\nc"\nd\n', (2, 1, ""))
    @example('a\nb\nc"\nd\n', (0, 0, '"'))
    def test_rows_found_from_others_are_those_found_alone(self, text: str, cut: tuple[int, int, str]) -> None:
        at, length, put = cut
        new = text[:at] + put + text[at + length :]
        before, alone = rows_of(text, ","), rows_of(new, ",")
        assume(before.error is None and alone.error is None)
        rows = rows_of(new, ",", before)
        found, numbers = one_by_one(new)
        self.assertEqual(list(alone), found)
        self.assertEqual(list(rows), found)
        self.assertEqual([rows[row] for row in range(len(rows))], found)
        self.assertEqual([rows.line(row) for row in range(len(rows))], numbers)
        first, last = rows_in_common(before, rows)
        self.assertLessEqual(first + last, min(len(before), len(rows)))
        self.assertEqual(list(before)[:first], found[:first])
        self.assertEqual(list(before)[len(before) - last :], found[len(found) - last :])

    def test_of_one_row_that_differs_only_that_is_apart(self) -> None:
        texts = [f"P{number},{number}\n" for number in range(1000)]
        for quoted in ("", '"Q, q",1\n'):
            before = rows_of(quoted + "".join(texts), ",")
            changed = [*texts[:500], "other\n", *texts[501:]]
            rows = rows_of(quoted + "".join(changed), ",", before)
            first, last = rows_in_common(before, rows)
            self.assertGreaterEqual(first, 499 + bool(quoted))
            self.assertGreaterEqual(last, 498)

    def test_what_cannot_be_parted_says_why(self) -> None:
        rows = rows_of("a,b\n" + '"' + "x" * 200_000, ",")
        self.assertIsInstance(rows.error, csv.Error)
        self.assertEqual(list(rows), ["a,b\n"])
        self.assertEqual(list(MapLines()), [])

    @given(st.text("ab", max_size=30), st.text("ab", max_size=30), st.integers(1, 40000))
    def test_texts_in_common(self, old: str, new: str, many: int) -> None:
        first, last = text_in_common("c" * many + old, "c" * many + new)
        common = 0
        while common < min(len(old), len(new)) and old[common] == new[common]:
            common += 1
        self.assertEqual(first, many + common)
        rest = min(len(old), len(new)) - common
        self.assertTrue(last <= rest and (last == 0 or old[-last:] == new[-last:]))
        self.assertTrue(last == rest or old[-last - 1] != new[-last - 1])
