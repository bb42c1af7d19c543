"""What every drawn widget can reach: the application's palette and its latest moment."""

from typing import TYPE_CHECKING, cast

from textual.widget import Widget

from kanaleto.tui.shared.look import Palette

if TYPE_CHECKING:
    from kanaleto.tui.app import KanaletoApp


class Drawn(Widget):
    """Mix-in for widgets that draw rows themselves."""

    @property
    def kanaleto(self) -> "KanaletoApp":
        return cast("KanaletoApp", self.app)

    @property
    def palette(self) -> Palette:
        return self.kanaleto.palette
