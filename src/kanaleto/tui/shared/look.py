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
LEAST_COLUMNS, LEAST_ROWS = 60, 16
"""Below this the screen says so, and nothing else."""
PALETTES = {"lagoon": LAGOON, "fresco": FRESCO}

SHAPES = {"good": "●", "late": "◐", "silent": "✕", "garbled": "◇", "idle": "◌"}
TONES = {"good": "verdigris", "late": "ochre", "silent": "terracotta", "garbled": "violet", "idle": "dim"}
WORST_TONES = {
    Worst.NOTHING: "rules",
    Worst.GOOD: "verdigris",
    Worst.EXCEPTION: "ochre",
    Worst.GARBLED: "violet",
    Worst.SILENT: "terracotta",
}


def theme_of(name: str) -> Theme:
    """The palette as a theme for style sheets."""
    palette = PALETTES[name]
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
