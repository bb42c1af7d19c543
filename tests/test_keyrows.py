"""The key row says what the keys do here and now: no key twice, and none that does nothing. In every view, page and
part."""

import unittest

from textual.pilot import Pilot

from kanaleto.tui.app import KanaletoApp
from tests.livesite import LiveCase

_NAMES = {
    "<": "less_than_sign", ">": "greater_than_sign", "[": "left_square_bracket", "]": "right_square_bracket",
    "+": "plus", "-": "minus", "{": "left_curly_bracket", "}": "right_curly_bracket", "/": "slash",
    "?": "question_mark", "%": "percent_sign", "←": "left", "→": "right",
    ".": "full_stop", ",": "comma", "0…9": "0", "0-9": "0", "*": "asterisk", "=": "equals_sign", "#": "number_sign",
}  # fmt: skip
_TYPED = {"up", "down", "tab", "escape", "enter", "left", "right", "ctrl+q", "?", "shift+tab"}
"""What lines that are typed into take by themselves."""

PLACES: dict[str, tuple[str, ...]] = {
    "Find": ("1",),
    "Find: the line for a link": ("1", "y"),
    "Find: the fields": ("1", "enter"),
    "Find: what was read": ("1", "enter", "enter"),
    "Map": ("2",),
    "Map: the devices": ("2", "tab"),
    "Live": ("3",),
    "Live: marked": ("3", "down", "v", "v"),
    "the pad": ("3", "down", "p", "W"),
    "a trend": ("3", "down", "p", "t"),
    "what moved": ("3", "m"),
    "compared": ("3", "down", "v", "v", "c"),
    "across": ("3", "down", "a"),
    "past a limit": ("3", "b"),
    "Wire": ("4",),
    "Wire: the bytes": ("4", "up", "enter"),
    "the error log": ("E",),
    "what acts": ("H",),
    "all keys": ("question_mark",),
    "the finder": ("ctrl+p",),
    "a filter": ("3", "slash"),
    "a question": ("2", "a"),
    "an import": ("2", "i"),
    "another map": ("2", "M"),
}


class KeyRows(LiveCase):
    def test_no_key_stands_twice_and_each_does_something(self) -> None:
        self.drive(_walk)


async def _walk(test: KeyRows, app: KanaletoApp, pilot: "Pilot[None]") -> None:
    table = test.folder / "table.csv"
    table.write_text("name,table,address,type\nNew,holding,9,uint16\n")
    test.far.values[1, 0] = 60  # beyond what it warns of
    await test.shows(app, r"△ +Level +6\.0")
    seen: list[object] = []
    for place, keys in PLACES.items():
        for _ in range(4):
            await pilot.press("escape")
        await test.alone(pilot, *keys)
        if place in ("an import", "another map"):
            await test.answer(app, pilot, str(table))
            await pilot.pause(0.3)
        await pilot.pause(0.1)
        shown = app.keys_here()
        pressed = [key for text, _ in shown for key in text.split()]
        with test.subTest(place, keys=shown):
            test.assertNotIn(shown, seen, "this place shows no keys of its own")
            seen.append(shown)
            test.assertEqual(len(pressed), len(set(pressed)), "a key stands twice")
            test.assertGreater(len(shown), 1)
            active = set(app.screen.active_bindings)
            dead = [key for key in pressed if _NAMES.get(key, key) not in active and key not in _TYPED]
            test.assertEqual(dead, [], f"keys that nobody takes; the keys are with {app.focused}")


if __name__ == "__main__":
    unittest.main()
