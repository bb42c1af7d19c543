"""Colours, shapes and styles. Colour never stands alone: every state has a shape too."""

from functools import lru_cache

from msgspec import Struct
from rich.style import Style
from textual.theme import Theme

from kanaleto.board.health import Worst


class Palette(Struct, frozen=True):
    ground: str
    panel: str
    rules: str
    ink: str
    muted: str
    dim: str
    verdigris: str
    sky: str
    ochre: str
    terracotta: str
    violet: str


LAGOON = Palette(
    ground="#0e1f24", panel="#132a30", rules="#2c4a50", ink="#e9dfc7", muted="#8fa3a0", dim="#7a9092",
    verdigris="#57b09b", sky="#7fb2d6", ochre="#d9a441", terracotta="#d8693f", violet="#a58bc4",
)  # fmt: skip
FRESCO = Palette(
    ground="#f3ecdd", panel="#e8dec9", rules="#cfc1a4", ink="#2b2a26", muted="#625d52", dim="#746e61",
    verdigris="#1b7361", sky="#235f8d", ochre="#8a5d00", terracotta="#ad3e17", violet="#68489a",
)  # fmt: skip
_LAGOON_16 = Palette(
    ground="#000000", panel="#000000", rules="#555555", ink="#ffffff", muted="#aaaaaa", dim="#aaaaaa",
    verdigris="#00aaaa", sky="#55ffff", ochre="#ffff55", terracotta="#ff5555", violet="#ff55ff",
)  # fmt: skip
_FRESCO_16 = Palette(
    ground="#ffffff", panel="#ffffff", rules="#aaaaaa", ink="#000000", muted="#555555", dim="#555555",
    verdigris="#0000aa", sky="#0000aa", ochre="#aa00aa", terracotta="#aa0000", violet="#aa00aa",
)  # fmt: skip
# such a terminal shows bold letters brighter, and bright yellow, green and cyan are not read on white
LEAST_COLUMNS, LEAST_ROWS = 60, 16
"""Below this the screen says so, and nothing else."""
_PALETTES = {"lagoon": LAGOON, "fresco": FRESCO}
_PALETTES_16 = {"lagoon": _LAGOON_16, "fresco": _FRESCO_16}  # of the colours that each terminal has


def palettes_for(color_system: str | None) -> dict[str, Palette]:
    """By the name of their theme; a terminal of 16 colours has palettes of its own, or a warning would look like an
    alarm there."""
    return _PALETTES if color_system in (None, "256", "truecolor") else _PALETTES_16


SHAPES = {"good": "●", "late": "◐", "silent": "✕", "garbled": "◇", "idle": "◌"}
TONES = {"good": "verdigris", "late": "ochre", "silent": "terracotta", "garbled": "violet", "idle": "dim"}
WORST_TONES = {
    Worst.NOTHING: "rules",
    Worst.GOOD: "verdigris",
    Worst.EXCEPTION: "ochre",
    Worst.GARBLED: "violet",
    Worst.SILENT: "terracotta",
}


def theme_of(name: str, color_system: str | None) -> Theme:
    """The palette as a theme for style sheets."""
    palette = palettes_for(color_system)[name]
    return Theme(
        name,
        primary=palette.ochre,
        secondary=palette.sky,
        warning=palette.ochre,
        error=palette.terracotta,
        success=palette.verdigris,
        accent=palette.ochre,
        foreground=palette.ink,
        background=palette.ground,
        surface=palette.ground,
        panel=palette.panel,
        dark=name == "lagoon",
        variables={
            "rules": palette.rules,
            "muted": palette.muted,
            "input-cursor-background": palette.ink,
            "input-selection-background": palette.rules,
            "scrollbar": palette.rules,
            "scrollbar-background": palette.ground,
            "scrollbar-corner-color": palette.ground,
            "scrollbar-hover": palette.muted,
            "scrollbar-active": palette.ochre,
            "scrollbar-background-hover": palette.ground,
            "scrollbar-background-active": palette.ground,
        },
    )


@lru_cache(maxsize=512)
def style(palette: Palette, ink: str, ground: str = "ground", bold: bool = False, underline: bool = False) -> Style:
    """A style from names in the palette."""
    return Style(color=getattr(palette, ink), bgcolor=getattr(palette, ground), bold=bold, underline=underline)
