"""How paper looks: a light ground, inks that can be distinguished in grey too, text that is text."""

import logging
import warnings
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kanaleto.values.visible import visible

if TYPE_CHECKING:
    from matplotlib.figure import Figure

INK, MUTED, RULES = "#22292b", "#5f6b6d", "#c9cfcf"
CURVES = ("#1b7361", "#a86b00", "#235f8d", "#68489a", "#22292b", "#ad3e17", "#5f6b6d", "#8a8f45")
DASHES: tuple[Any, ...] = ("-", (0, (5, 1.5)), (0, (1.5, 1.2)), (0, (6, 1.5, 1.5, 1.5)))
WARN, ALARM = "#b37400", "#b3261e"
A4_WIDE = (11.69, 8.27)
FORMS = {".svg": "svg", ".pdf": "pdf"}


class NoPaper(Exception):
    """One sentence: why nothing was drawn."""


def form_of(path: Path) -> str:
    """svg or pdf, by the file's name. Raises NoPaper."""
    form = FORMS.get(path.suffix.lower())
    if form is None:
        raise NoPaper(f"{path.name} does not tell its form; end it in .svg or .pdf")
    return form


def prepare() -> None:
    """Once, before anything is drawn: no display, no formulas in names, no words on stderr."""
    import matplotlib

    matplotlib.use("agg")
    matplotlib.rcParams.update(
        {
            "text.parse_math": False, "svg.fonttype": "none", "pdf.fonttype": 42, "font.size": 8, "text.color": INK,
            "axes.edgecolor": MUTED, "axes.labelcolor": INK, "xtick.color": MUTED, "ytick.color": MUTED,
            "axes.linewidth": 0.6, "svg.hashsalt": "kanaleto", "font.family": "DejaVu Sans",
        }
    )  # fmt: skip
    logging.getLogger("matplotlib").setLevel(logging.CRITICAL)
    logging.getLogger("fontTools").setLevel(logging.CRITICAL)
    for warning in ("Glyph .* missing", "overflow", "invalid value"):  # what the font lacks is drawn as a box
        warnings.filterwarnings("ignore", message=warning)


def clean(text: str) -> str:
    """Text of others, fit for a file that others open."""
    return visible(text)


def zone_words(at: float) -> str:
    """The local time zone at a moment, by name and by its distance from UTC."""
    when = datetime.fromtimestamp(at).astimezone()
    offset = when.strftime("%z")
    return f"local time, {when.tzname()} (UTC{offset[:3]}:{offset[3:5]})"


def put_head(figure: "Figure", title: str, about: str, page: str = "") -> None:
    figure.text(0.05, 0.955, clean(title), fontsize=14, fontweight="bold", color=INK)
    figure.text(0.05, 0.928, clean(about), fontsize=8, color=MUTED)
    figure.text(0.95, 0.955, page, fontsize=8, color=MUTED, ha="right")


def put_foot(figure: "Figure", notes: list[str]) -> None:
    for number, note in enumerate(notes[:4]):
        figure.text(0.05, 0.055 - 0.016 * number, clean(note)[:220], fontsize=7, color=MUTED)
