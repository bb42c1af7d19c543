"""Puts what is shown on paper."""

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from kanaleto.tui.live.view import LiveView


def ask_export(view: "LiveView") -> None:
    view.context.tell("nothing to export yet")
