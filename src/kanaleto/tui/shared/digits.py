"""Large digits, three rows high, for what is read from two steps away."""

_ROWS = {
    "0": ("▄▀▀▄", "█  █", "▀▄▄▀"), "1": (" ▄█ ", "  █ ", " ▄█▄"), "2": ("▀▀▀▄", "▄▀▀▀", "█▄▄▄"),
    "3": ("▀▀▀▄", " ▀▀▄", "▄▄▄▀"), "4": ("█  █", "▀▀▀█", "   █"), "5": ("█▀▀▀", "▀▀▀▄", "▄▄▄▀"),
    "6": ("▄▀▀▀", "█▀▀▄", "▀▄▄▀"), "7": ("▀▀▀█", "  ▄▀", "  █ "), "8": ("▄▀▀▄", "▄▀▀▄", "▀▄▄▀"),
    "9": ("▄▀▀▄", "▀▄▄█", "▄▄▄▀"), "-": ("    ", "▀▀▀▀", "    "), ".": (" ", " ", "▄"), " ": ("  ", "  ", "  "),
    "+": (" ▄  ", "▀█▀ ", "    "), "e": ("▄▀▀▄", "█▀▀▀", "▀▄▄▄"),
}  # fmt: skip


def large(text: str, width: int) -> tuple[str, str, str] | None:
    """Three rows of text; None where it holds anything but a number, or is too wide."""
    if not text or any(character not in _ROWS for character in text):
        return None
    rows = [" ".join(_ROWS[character][row] for character in text) for row in range(3)]
    return (rows[0], rows[1], rows[2]) if len(rows[0]) <= width else None
