"""Makes the parts of Live."""

from collections.abc import Callable
from typing import NamedTuple

from kanaleto.planning.plan import Identity
from kanaleto.tui.live.across import AcrossPart
from kanaleto.tui.live.compare import ComparePart
from kanaleto.tui.live.held import HeldPart
from kanaleto.tui.live.moved import MovedPart
from kanaleto.tui.live.pad import PadPart
from kanaleto.tui.live.past import PastPart
from kanaleto.tui.shared.partof import Part
from kanaleto.tui.trend.data import TrendData
from kanaleto.tui.trend.pane import TrendPane


class Doors(NamedTuple):
    """What a part may ask of the view."""

    leave: Callable[[], None]
    go_to: Callable[[Identity], None]
    pin: Callable[[Identity], None]
    unpin: Callable[[Identity], None]
    device_here: Callable[[], str]


def made(name: str, data: TrendData, doors: Doors) -> Part:
    """A part by its name."""
    if name == TrendPane.name:
        return TrendPane(data, doors.leave, doors.unpin)
    if name == MovedPart.name:
        return MovedPart(doors.leave, doors.go_to, doors.pin, doors.device_here)
    if name == ComparePart.name:
        return ComparePart(doors.leave, doors.go_to)
    if name == AcrossPart.name:
        return AcrossPart(doors.leave, doors.go_to)
    if name == HeldPart.name:
        return HeldPart(doors.leave, doors.go_to)
    if name == PadPart.name:
        return PadPart(doors.leave)
    assert name == PastPart.name, name
    return PastPart(doors.leave, doors.go_to)
