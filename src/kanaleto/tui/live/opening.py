"""Makes the parts of Live."""

from typing import TYPE_CHECKING

from kanaleto.tui.live.across import AcrossPart
from kanaleto.tui.live.compare import ComparePart
from kanaleto.tui.live.moved import MovedPart
from kanaleto.tui.live.past import PastPart
from kanaleto.tui.shared.partof import Part
from kanaleto.tui.trend.pane import TrendPane

if TYPE_CHECKING:
    from kanaleto.tui.live.parts import Parts
    from kanaleto.tui.live.view import LiveView


def made(name: str, view: "LiveView", parts: "Parts") -> Part:
    """A part by its name."""
    if name == TrendPane.name:
        return TrendPane(parts.data, parts.leave, parts.unpin)
    if name == MovedPart.name:
        return MovedPart(parts.leave, view.go_to, lambda identity: parts.pin([identity]), lambda: view.device_here)
    if name == ComparePart.name:
        return ComparePart(parts.leave, view.go_to)
    if name == AcrossPart.name:
        return AcrossPart(parts.leave, view.go_to)
    assert name == PastPart.name, name
    return PastPart(parts.leave, view.go_to)
