"""One exchange in boxes, in both framings; and a stretch of a line as a timing diagram."""

from typing import TYPE_CHECKING

from kanaleto.paper.look import A4_WIDE, ALARM, CURVES, INK, MUTED, RULES, WARN, clean, put_foot, put_head
from kanaleto.paper.sheets import ExchangeSheet, PaperBox, TimingSheet

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_LEFT, _RIGHT, _TOP = 0.05, 0.95, 0.88
_CHARACTER, _ROW = 0.0062, 0.021
_REQUEST, _ANSWER = CURVES[2], CURVES[0]
_TONES = {
    "good": _ANSWER, "refused": WARN, "silent": ALARM, "garbled": CURVES[3], "strange": CURVES[3], "unreachable": ALARM
}  # fmt: skip
_MOST_WIDTH = 40


def draw_exchange(sheet: ExchangeSheet) -> "Figure":
    from matplotlib.figure import Figure

    figure = Figure(figsize=A4_WIDE)
    put_head(figure, sheet.title, sheet.about)
    put_foot(figure, sheet.notes)
    y = _TOP
    for frame in sheet.frames:
        figure.text(_LEFT, y, clean(frame.heading), fontsize=8, fontweight="bold", color=MUTED)
        y -= _ROW
        x = _LEFT
        for box in frame.boxes:
            width = _CHARACTER * (min(max(len(box.data), len(box.name), len(box.meaning)), _MOST_WIDTH) + 3)
            if x + width > _RIGHT and x > _LEFT:
                x, y = _LEFT, y - 3.5 * _ROW
            _put_box(figure, box, x, y, width)
            x += width + 0.004
        y -= 4.4 * _ROW
    return figure


def _put_box(figure: "Figure", box: PaperBox, x: float, y: float, width: float) -> None:
    from matplotlib.patches import Rectangle

    tone = ALARM if box.is_wrong else INK
    edge = ALARM if box.is_wrong else RULES
    figure.add_artist(Rectangle((x, y - 2.6 * _ROW), width, 3 * _ROW, fill=False, edgecolor=edge, lw=0.7))
    for number, (text, colour, weight) in enumerate(
        ((box.data, tone, "bold"), (box.name, MUTED, "normal"), (box.meaning, tone, "normal"))
    ):
        cut = text if len(text) <= _MOST_WIDTH else f"{text[: _MOST_WIDTH - 1]}…"
        figure.text(x + width / 2, y - (0.35 + 0.85 * number) * _ROW, clean(cut), fontsize=6.5, color=colour,
                    fontweight=weight, ha="center")  # fmt: skip


def draw_timing(sheet: TimingSheet) -> "Figure":
    from matplotlib.figure import Figure
    from matplotlib.patches import Patch

    figure = Figure(figsize=A4_WIDE)
    put_head(figure, sheet.title, sheet.about)
    put_foot(figure, sheet.notes)
    axes = figure.add_axes((0.16, 0.16, 0.80, 0.70))
    for bar in sheet.bars:
        tone = _TONES.get(bar.outcome, MUTED)
        axes.barh(bar.lane, bar.sent - bar.begin, left=bar.begin, height=0.5, color=_REQUEST)
        end = bar.first if bar.first else bar.last
        axes.hlines(bar.lane, bar.sent, end, color=tone if bar.outcome != "good" else RULES, lw=1.2)
        if bar.first:
            axes.barh(bar.lane, max(bar.last - bar.first, 0.0), left=bar.first, height=0.5, color=tone)
        if bar.outcome in ("silent", "unreachable"):
            axes.plot([bar.last], [bar.lane], marker="x", color=ALARM, markersize=5)
    axes.set_yticks(range(len(sheet.lanes)), [clean(name)[:30] for name in sheet.lanes])
    axes.set_ylim(len(sheet.lanes) - 0.4, -0.6)
    axes.set_xlabel("ms")
    axes.grid(axis="x", color=RULES, lw=0.4)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    shown = {bar.outcome for bar in sheet.bars}
    keys = [Patch(color=_REQUEST, label="request")]
    keys += [Patch(color=tone, label=word) for word, tone in _TONES.items() if word in shown]
    figure.legend(
        handles=keys, loc="lower right", ncols=len(keys), fontsize=7, frameon=False, bbox_to_anchor=(0.96, 0.88)
    )
    return figure
