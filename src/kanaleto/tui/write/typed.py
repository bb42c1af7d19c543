"""A text that is typed, with a cursor. What was offered is typed over, or mended once the cursor has been moved."""

from kanaleto.values.visible import visible

_MOST = 2000


class Typed:
    """`text`, and `at`, where the next character goes."""

    def __init__(self) -> None:
        self.text, self.at = "", 0
        self._is_offered = False

    def put(self, text: str, is_offered: bool = False) -> None:
        self.text, self.at, self._is_offered = text[:_MOST], len(text[:_MOST]), is_offered

    def insert(self, text: str) -> None:
        if self._is_offered:
            self.put("")
        plain = visible(text)
        self.text = (self.text[: self.at] + plain + self.text[self.at :])[:_MOST]
        self.at = min(self.at + len(plain), len(self.text))

    def edit(self, key: str) -> bool:
        """Whether the key has changed the text; others move the cursor, or mean nothing here."""
        text, at = self.text, self.at
        self._is_offered = False
        match key:
            case "backspace" if at:
                self.text, self.at = text[: at - 1] + text[at:], at - 1
            case "delete" if at < len(text):
                self.text = text[:at] + text[at + 1 :]
            case "ctrl+u":
                self.text, self.at = "", 0
            case "left":
                self.at = max(at - 1, 0)
            case "right":
                self.at = min(at + 1, len(text))
            case "home":
                self.at = 0
            case "end":
                self.at = len(text)
        return self.text != text
