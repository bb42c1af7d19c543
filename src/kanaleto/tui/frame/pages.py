"""The pages that are shown in place of a view: the error log, the page of keys, the finder. Made once the first frame
stands."""

from textual.widget import Widget
from textual.widgets import ContentSwitcher

from kanaleto.tui.frame.acting import ActingView
from kanaleto.tui.frame.eventlog import EventsView
from kanaleto.tui.frame.finder import Finder
from kanaleto.tui.frame.finding import FrameParts, commands
from kanaleto.tui.frame.keys import Keys

EVENTS = f"view-{EventsView.digit}"
ACTING = f"view-{ActingView.digit}"


def pages(frame: FrameParts) -> list[Widget]:
    return [
        EventsView(id=EVENTS),
        ActingView(id=ACTING),
        Keys(frame.view_classes, frame.everywhere, lambda: frame.current_digit, id="keys"),
        Finder(lambda: frame.action_view(frame.current_digit), lambda: commands(frame), id="finder"),
    ]


async def mount_hidden(switcher: ContentSwitcher, widget: Widget) -> None:
    widget.display = False
    await switcher.mount(widget)
