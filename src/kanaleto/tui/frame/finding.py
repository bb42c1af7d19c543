"""What `ctrl+p` finds: every action of every view and of the frame, and what can be done with what the cursor is on."""

from collections.abc import Callable, Iterator, Sequence
from functools import partial
from typing import Protocol

from kanaleto.board.snapshot import Snapshot
from kanaleto.planning.plan import Place, WhyNot
from kanaleto.polling.session import Session
from kanaleto.tui.frame.finder import Command
from kanaleto.tui.shared.actions import Action
from kanaleto.tui.shared.view import View

_MOST_OTHERS = 200  # devices beside the one in view, for which something is offered


class FrameParts(Protocol):
    current_digit: str

    @property
    def view_classes(self) -> Sequence[type[View]]: ...

    @property
    def everywhere(self) -> Sequence[Action]: ...

    @property
    def snapshot(self) -> Snapshot: ...

    def view_of(self, digit: str) -> View: ...

    def action_view(self, digit: str) -> None: ...

    def perform(self, action: str, digit: str) -> None: ...

    def do(self, what: Callable[[Session], object], text: str = "") -> None: ...

    def switch(self, what: str, lines: set[str] | None, do: Callable[[Session], object], text: str = "") -> None: ...


def commands(frame: FrameParts) -> Iterator[Command]:
    for view in frame.view_classes:
        yield Command(view.title, view.about, partial(frame.action_view, view.digit))
    for action in frame.everywhere:
        if action.is_found:
            yield Command(_capital(action.verb), action.key, partial(frame.perform, action.do, ""))
    here = list(frame.view_of(frame.current_digit).about_here())
    for device, point in here:
        yield from _commands_for(frame, device, point)
    first_views = [view for view in frame.view_classes if view.digit == frame.current_digit]
    for view in [*first_views, *(view for view in frame.view_classes if view not in first_views)]:
        for action in view.actions:
            if action.is_found:
                yield Command(f"{view.title}: {action.verb}", action.key, partial(frame.perform, action.do, view.digit))
    names = {name for name, _ in here}
    lines = {line.name for line, device in frame.snapshot.site.devices() if device.name in names}
    others = [device.name for _, device in frame.snapshot.site.devices() if device.name not in names]
    for device in others[:_MOST_OTHERS]:
        yield from _commands_for(frame, device, "", lines)


def _commands_for(
    frame: FrameParts, device: str, point: str, listed_lines: set[str] | None = None
) -> Iterator[Command]:
    """What can be done with a point, its device and its line, where that is not among `listed_lines`."""
    found = frame.snapshot.status_of(device)
    if found is None:
        return
    line, status = found
    name = line.line.name

    def doing(what: Callable[[Session], object], text: str) -> Callable[[], None]:
        return lambda: frame.do(what, text)

    if not line.is_off and status.device.is_enabled and not status.is_off and status.device.points:
        ask = doing(lambda s: s.ask_device(device), f"{device} is asked now")
        yield Command(f"Ask {device} now", "whatever its back-off", ask)
    is_new_line = listed_lines is None or name not in listed_lines
    if listed_lines is not None:
        listed_lines.add(name)
    if not line.is_off and is_new_line:
        again = doing(lambda s: s.reconnect(name), f"{name} is closed and opened again")
        yield Command(f"Reconnect {name} now", "whatever its pause", again)
    place = frame.snapshot.place_of((device, point))
    is_polled = isinstance(place, Place) and place.block is not None
    if point and (is_polled or (isinstance(place, Place) and place.because is WhyNot.SWITCHED_OFF)):
        word, of = ("off", f"of {device}, for now") if is_polled else ("on", f"of {device}")
        text = f"{point} of {device} is switched {word}{', for now' if is_polled else ''}"
        switch = doing(lambda s: s.switch_points(device, not is_polled, {point}), text)
        yield Command(f"Switch {point} {word}", of, switch)
    if status.device.points and status.device.is_enabled and not status.is_off:
        off = partial(
            frame.switch,
            f"switching {device} off",
            {name},
            lambda s: s.switch_points(device, False),
            f"{device} is switched off, for now",
        )
        yield Command(f"Switch {device} off", "all, for now", off)
    if status.points_off:
        again = doing(lambda s: s.switch_points(device, True), f"{device} is switched on")
        yield Command(f"Switch {device} on", "all of its points", again)
    word, what = ("on", "open it again") if line.is_off else ("off", "close it, for now")
    turn = partial(
        frame.switch,
        f"switching {name} off",
        {name},
        lambda s: s.switch_line(name, line.is_off),
        f"{name} is switched {word}{', for now' if word == 'off' else ''}",
    )
    if is_new_line:
        yield Command(f"Switch {name} {word}", what, turn)


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]
