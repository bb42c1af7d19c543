"""A terminal that knows no UTF-8, and one of 16 colours."""

import unittest
from pathlib import Path

from rich.cells import cell_len
from rich.color import Color, ColorSystem

import kanaleto
from kanaleto.tui.shared.charset import AS_LATIN, PLAIN, charset_of, plain
from kanaleto.tui.shared.look import palettes_for
from tests.terminal import KANALETO, Terminal


class Letters(unittest.TestCase):
    def test_the_charset_is_what_names_the_language_first(self) -> None:
        for environment, charset in (
            ({}, "utf-8"),
            ({"LANG": ""}, "utf-8"),
            ({"LANG": "C.UTF-8"}, "utf-8"),
            ({"LANG": "de_DE.utf8@euro"}, "utf-8"),
            ({"LANG": "C"}, "ascii"),
            ({"LANG": "en_US.UTF-8", "LC_ALL": "POSIX"}, "ascii"),
            ({"LANG": "C", "LC_CTYPE": "C.UTF-8"}, "utf-8"),
            ({"LANG": "de_DE.ISO-8859-1"}, "iso8859-1"),
            ({"LANG": "ja_JP.eucJP"}, "ascii"),
            ({"LANG": "xx_XX.nothing"}, "ascii"),
        ):
            with self.subTest(environment):
                self.assertEqual(charset, charset_of(environment))

    def test_each_letter_of_ours_has_one_in_ascii_of_the_same_width(self) -> None:
        used = {letter for path in Path(kanaleto.__file__).parent.rglob("*.py") for letter in path.read_text()} - {"\n"}
        used |= {chr(number) for number in range(0x2500, 0x25A0)} | {chr(number) for number in range(0x2800, 0x2900)}
        used |= set("äöüßçñ水位한") | {"e\u0301"[1]}
        self.assertGreater(len(used), 400)
        for letter in sorted(used):
            with self.subTest(letter):
                self.assertTrue(plain(letter).isascii())
                self.assertEqual(cell_len(letter), len(plain(letter)))

    def test_states_stay_apart(self) -> None:
        for shapes in ("●◐✕◇◌", "●◉○", "◆◇◈", "▲△▽", "█▒ ", "✓✕○"):
            self.assertEqual(len(shapes), len({plain(letter) for letter in shapes}), shapes)

    def test_what_a_charset_has_stays(self) -> None:
        self.assertEqual("18.3 °C · 5 m³ >".encode("latin-1"), "18.3 °C · 5 m³ →".encode("iso8859-1", PLAIN))
        self.assertEqual(b"18.3 'C . 5 m3 >", "18.3 °C · 5 m³ →".encode("ascii", PLAIN))
        self.assertEqual("Süd", b"S\xfcd".decode("utf-8", AS_LATIN))


class Colours(unittest.TestCase):
    def test_in_16_colours_no_tone_of_a_state_looks_like_another(self) -> None:
        for name, names in (
            ("lagoon", ("ink", "verdigris", "ochre", "terracotta", "violet")),
            ("fresco", ("ink", "verdigris", "ochre", "terracotta")),
        ):
            palette = palettes_for("standard")[name]
            ground = Color.parse(palette.ground).downgrade(ColorSystem.STANDARD).number
            numbers = [Color.parse(getattr(palette, own)).downgrade(ColorSystem.STANDARD).number for own in names]
            self.assertEqual(len(names), len({*numbers} - {ground}), name)
        self.assertNotEqual(palettes_for("standard"), palettes_for("256"))


class InATerminal(unittest.TestCase):
    def test_without_utf_8_all_of_it_is_ascii(self) -> None:
        with Terminal() as terminal:
            terminal.run(f"LC_ALL=C {KANALETO} demo")
            terminal.wait_for(r"\* +polling")
            for digit in "1234567":
                terminal.type(digit)
                terminal.wait_for(r"\? all keys")
                self.assertEqual([], [letter for letter in terminal.screen if not letter.isascii()])
            terminal.type("3", "q")


if __name__ == "__main__":
    unittest.main()
