"""Times and states in the words that the screen uses everywhere."""

import textwrap
from datetime import datetime

from kanaleto.board.snapshot import DeviceStatus, LineStatus
from kanaleto.lines.outcome import OutcomeKind


def age_text(age_s: float | None) -> str:
    """How old: short and relative."""
    if age_s is None:
        return "—"
    if age_s < 99.95:
        return f"{age_s:.1f} s"
    if age_s < 5400:
        return f"{age_s / 60:.0f} min"
    return f"{age_s / 3600:.0f} h"


def clock_text(wall_s: float) -> str:
    """A wall time of today, to the millisecond, in local time."""
    return datetime.fromtimestamp(wall_s).strftime("%H:%M:%S.%f")[:-3]


def moment_text(wall_s: float) -> str:
    """A wall time to the second, with its day where it is not today."""
    moment = datetime.fromtimestamp(wall_s)
    return f"{moment:%H:%M:%S}" if moment.date() == datetime.now().date() else f"{moment:%m-%d %H:%M}"


def device_state(line: LineStatus, status: DeviceStatus) -> str:
    """good, late, silent, garbled or idle: which shape and colour a device gets."""
    if not status.device.is_enabled or not status.device.points or status.is_off or line.is_off:
        return "idle"
    if line.why_unreachable or status.silent_s is not None:
        return "silent"
    if not status.has_answered:
        return "idle"
    if status.trouble is OutcomeKind.EXCEPTION or (status.points_refused and not status.reason):
        return "late"
    return "garbled" if status.reason else "good"


def device_phrase(line: LineStatus, status: DeviceStatus) -> str:
    """How a device is doing."""
    if not status.device.is_enabled:
        return "switched off in the site file"
    if not status.device.points:
        return "no points yet"
    if line.lent_to:
        return f"{line.lent_to} has its line; escape in Find ends that"
    if line.is_off:
        return "its line is switched off, for now"
    if status.is_off:
        return "switched off, for now: enabled=no in its settings keeps it so"
    if line.why_unreachable:
        return f"the line is down, next try in {line.next_connect_s:.0f} s"
    if status.silent_s is not None:
        return f"silent for {age_text(status.silent_s)}, next try in {status.next_try_s:.0f} s"
    if not status.has_answered:
        return "not answered yet"
    if status.reason:
        return status.reason
    took = f"{1000 * status.tally.took[1]:.1f} ms" if status.tally.took else ""
    points = [
        (status.points_off, "switched off, for now"),
        (status.points_refused, "refused: E tells why"),
    ]
    texts = [f"{count} point{'s' if count != 1 else ''} {what}" for count, what in points if count]
    return " · ".join([took, *texts] if took else texts)


def line_phrase(line: LineStatus, is_held: bool) -> tuple[str, str]:
    """How a line is doing, and in which tone."""
    if line.lent_to:
        return f"{line.lent_to} has it · escape in Find ends that", "ochre"
    if line.is_off:
        return "switched off, for now", "ochre"
    if line.why_unreachable:
        return f"down, next try in {line.next_connect_s:.0f} s: {line.why_unreachable}", "terracotta"
    if not line.is_open:
        return "connecting", "muted"
    if is_held:
        return "held", "ochre"
    if not line.devices:
        return "no devices", "muted"
    off = sum(status.is_off for status in line.devices)
    more = f" · {off} off" if off else ""
    silent = len(line.silent)
    if silent:
        if silent == len(line.devices):
            return "all devices silent" if silent > 1 else "its device is silent", "terracotta"
        return f"{silent} device{'s' if silent > 1 else ''} silent{more}", "terracotta"
    if off and off == len(line.devices):
        return "all devices switched off, for now" if off > 1 else "its device is switched off, for now", "ochre"
    asked = [status for status in line.devices if status.device.points and not status.is_off]
    waiting = sum(not status.has_answered for status in asked)
    if waiting:
        return f"{waiting} not answered yet{more}", "muted"
    refusing = sum(bool(status.reason) for status in line.devices)
    if refusing:
        return f"{refusing} with exceptions or garbled answers{more}", "ochre"
    refused = sum(status.points_refused for status in line.devices)
    if refused:
        return f"{refused} point{'s' if refused != 1 else ''} refused{more}", "ochre"
    return (f"all others answering{more}", "ochre") if off else ("all answering", "verdigris")


def wrapped(text: str, width: int) -> list[str]:
    """The text in rows of at most `width` characters, broken between words where that can be."""
    return textwrap.wrap(text, max(width, 1), break_on_hyphens=False)
