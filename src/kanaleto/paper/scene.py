"""Pages of plain shapes, as they go on paper: rules, boxes, discs and text, measured with the font that is drawn with.

Lengths are points (1/72 inch), from the top left corner. A page is drawn to PDF by reportlab, with the font in it, or
to SVG as text. What the font lacks is reported at the foot of the pages that need it.
"""

from functools import cache
from html import escape
from importlib.util import find_spec
from io import BytesIO
from pathlib import Path
from typing import Any

from msgspec import Struct, field

from kanaleto.paper.look import INK, MUTED, RULES, clean

A4 = (841.9, 595.3)
"""Lying."""
MARGIN = 40.0
PLAIN, BOLD = "DejaVuSans", "DejaVuSans-Bold"
_LACKING = "\u25a1"


class Label(Struct):
    """Text with its baseline at `y`; `at` is where x lies: start, middle or end."""

    x: float
    y: float
    text: str
    size: float = 8.0
    colour: str = INK
    is_bold: bool = False
    at: str = "start"


class Stroke(Struct):
    x: float
    y: float
    to_x: float
    to_y: float
    colour: str = RULES
    width: float = 0.6
    dash: tuple[float, float] | None = None


class Box(Struct):
    x: float
    y: float
    width: float
    height: float
    line: str | None = INK
    fill: str | None = None


class Disc(Struct):
    x: float
    y: float
    radius: float
    fill: str = INK


class Scene(Struct):
    """One page."""

    width: float = A4[0]
    height: float = A4[1]
    shapes: list[Label | Stroke | Box | Disc] = field(default_factory=list)


@cache
def _fonts() -> dict[str, Any]:
    """The font that comes with what draws charts, by name."""
    from reportlab.pdfbase import pdfmetrics
    from reportlab.pdfbase.ttfonts import TTFont

    found = find_spec("matplotlib")
    assert found is not None and found.submodule_search_locations
    folder = Path(found.submodule_search_locations[0]) / "mpl-data" / "fonts" / "ttf"
    fonts = {}
    for name in (PLAIN, BOLD):
        fonts[name] = TTFont(name, str(folder / f"{name}.ttf"))
        pdfmetrics.registerFont(fonts[name])
    return fonts


def name_of(is_bold: bool) -> str:
    return BOLD if is_bold else PLAIN


@cache
def _widths(is_bold: bool) -> Any:
    return _fonts()[name_of(is_bold)].face.charWidths


@cache
def _known(is_bold: bool) -> Any:
    return _fonts()[name_of(is_bold)].face.charToGlyph


def width_of(text: str, size: float, is_bold: bool = False) -> float:
    """How long it is when drawn."""
    widths = _widths(is_bold)
    return float(sum(widths.get(ord(character), 600) for character in text)) * size / 1000


def fit(text: str, width: float, size: float, is_bold: bool = False) -> str:
    """As much of it as has room, ending in … where something was cut."""
    text = clean(text)
    if width_of(text, size, is_bold) <= width:
        return text
    while text and width_of(f"{text}…", size, is_bold) > width:
        text = text[:-1]
    return f"{text.rstrip()}…" if text else ""


def wrapped_to(text: str, width: float, size: float, most: int, is_bold: bool = False) -> list[str]:
    """Lines that have room, at most so many; a word that is too long is broken."""
    lines: list[str] = []
    line = ""
    for word in clean(text).split():
        tried = f"{line} {word}" if line else word
        if width_of(tried, size, is_bold) <= width:
            line = tried
            continue
        if line:
            lines.append(line)
        line = word
        while width_of(line, size, is_bold) > width and len(line) > 1:
            cut = max(int(len(line) * width / width_of(line, size, is_bold)), 1)
            while cut > 1 and width_of(line[:cut], size, is_bold) > width:
                cut -= 1
            lines.append(line[:cut])
            line = line[cut:]
    lines.append(line)
    if len(lines) > most:
        lines = [*lines[: most - 1], fit(f"{lines[most - 1]} …", width, size, is_bold)]
    return lines


def _drawable(text: str, is_bold: bool, lacking: set[str]) -> str:
    known = _known(is_bold)
    if all(ord(character) in known for character in text):
        return text
    lacking |= {character for character in text if ord(character) not in known}
    return "".join(character if ord(character) in known else _LACKING for character in text)


def as_pdf(pages: list[Scene], title: str) -> bytes:
    """A document of these pages."""
    from reportlab.pdfgen.canvas import Canvas

    _fonts()
    out = BytesIO()
    canvas = Canvas(out, pageCompression=1, invariant=1)
    canvas.setTitle(clean(title)[:200])
    canvas.setCreator("Kanaleto")
    canvas.setAuthor("")
    for scene in pages:
        canvas.setPageSize((scene.width, scene.height))
        lacking: set[str] = set()
        for shape in scene.shapes:
            _draw(canvas, scene, shape, lacking)
        if lacking:
            text = ", ".join(f"U+{ord(character):04X}" for character in sorted(lacking)[:12])
            note = Label(MARGIN, scene.height - 12, f"{_LACKING} stands for what the font lacks: {text}", 6, MUTED)
            _draw(canvas, scene, note, set())
        canvas.showPage()
    canvas.save()
    return out.getvalue()


def _draw(canvas: Any, scene: Scene, shape: "Label | Stroke | Box | Disc", lacking: set[str]) -> None:
    from reportlab.lib.colors import HexColor

    if isinstance(shape, Label):
        text = _drawable(shape.text, shape.is_bold, lacking)
        canvas.setFont(name_of(shape.is_bold), shape.size)
        canvas.setFillColor(HexColor(shape.colour))
        y = scene.height - shape.y
        if shape.at == "end":
            canvas.drawRightString(shape.x, y, text)
        elif shape.at == "middle":
            canvas.drawCentredString(shape.x, y, text)
        else:
            canvas.drawString(shape.x, y, text)
    elif isinstance(shape, Stroke):
        canvas.setStrokeColor(HexColor(shape.colour))
        canvas.setLineWidth(shape.width)
        canvas.setDash(*([list(shape.dash)] if shape.dash else [[]]))
        canvas.line(shape.x, scene.height - shape.y, shape.to_x, scene.height - shape.to_y)
    elif isinstance(shape, Box):
        canvas.setLineWidth(0.8)
        canvas.setDash([])
        if shape.line is not None:
            canvas.setStrokeColor(HexColor(shape.line))
        if shape.fill is not None:
            canvas.setFillColor(HexColor(shape.fill))
        canvas.rect(shape.x, scene.height - shape.y - shape.height, shape.width, shape.height,
                    int(shape.line is not None), int(shape.fill is not None))  # fmt: skip
    else:
        canvas.setFillColor(HexColor(shape.fill))
        canvas.circle(shape.x, scene.height - shape.y, shape.radius, 0, 1)


def as_svg(pages: list[Scene], title: str) -> bytes:
    """All pages below each other, text as text."""
    height = sum(scene.height for scene in pages)
    width = max((scene.width for scene in pages), default=A4[0])
    rows = [
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{width:.0f}" height="{height:.0f}"'
        f' viewBox="0 0 {width:.1f} {height:.1f}" font-family="DejaVu Sans, sans-serif">',
        f"<title>{escape(clean(title))}</title>",
        f'<rect width="{width:.1f}" height="{height:.1f}" fill="#ffffff"/>',
    ]
    top = 0.0
    for scene in pages:
        rows.append(f'<g transform="translate(0 {top:.1f})">')
        rows += [_svg(shape) for shape in scene.shapes]
        rows.append("</g>")
        top += scene.height
    return "\n".join([*rows, "</svg>", ""]).encode()


def _svg(shape: "Label | Stroke | Box | Disc") -> str:
    if isinstance(shape, Label):
        bold = ' font-weight="bold"' if shape.is_bold else ""
        anchor = f' text-anchor="{shape.at}"' if shape.at != "start" else ""
        return (
            f'<text x="{shape.x:.1f}" y="{shape.y:.1f}" font-size="{shape.size:g}" fill="{shape.colour}"{bold}{anchor}>'
            f"{escape(clean(shape.text))}</text>"
        )
    if isinstance(shape, Stroke):
        dash = f' stroke-dasharray="{shape.dash[0]:g} {shape.dash[1]:g}"' if shape.dash else ""
        return (
            f'<line x1="{shape.x:.1f}" y1="{shape.y:.1f}" x2="{shape.to_x:.1f}" y2="{shape.to_y:.1f}"'
            f' stroke="{shape.colour}" stroke-width="{shape.width:g}"{dash}/>'
        )
    if isinstance(shape, Box):
        return (
            f'<rect x="{shape.x:.1f}" y="{shape.y:.1f}" width="{shape.width:.1f}" height="{shape.height:.1f}"'
            f' fill="{shape.fill or "none"}" stroke="{shape.line or "none"}" stroke-width="0.8"/>'
        )
    return f'<circle cx="{shape.x:.1f}" cy="{shape.y:.1f}" r="{shape.radius:.1f}" fill="{shape.fill}"/>'
