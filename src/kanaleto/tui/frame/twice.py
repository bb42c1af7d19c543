"""What would let a device act of its own, or end what is kept alive, is wanted twice: the same key, within some
seconds."""

from collections.abc import Collection, Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from kanaleto.tui.shared.context import Context

_TWICE_S = 6.0
EDITING = "edit"
"""Stands for a key where an edit is wanted twice."""


class Twice:
    """Remembers the key that was pressed once."""

    def __init__(self) -> None:
        self._key, self._at = "", 0.0

    def is_sure(
        self, context: "Context", key: str, what: str, lines: Collection[str] | None = None, users: Sequence[str] = ()
    ) -> bool:
        """Whether `what` may be done now; otherwise it is reported what it would do, and to whom. `lines`: only these
        lines' devices are concerned; `users` write there."""
        text = "; ".join(users[:2]) + (f" and {len(users) - 2} more" if len(users) > 2 else "")
        effect = "it goes on as it began, unless its point moves" if key == EDITING else f"{what} ends that"
        text = f"{text}: {effect}" if text else self._tripping(context, what, lines)
        now = context.engine.now_s()
        if not text or (self._key == key and now - self._at < _TWICE_S):
            return True
        self._key, self._at = key, now
        context.tell(f"{text}: {'press ' + key if len(key) == 1 or key == 'space' else 'do it'} again if you mean it")
        return False

    def _tripping(self, context: "Context", what: str, lines: Collection[str] | None) -> str:
        snapshot = context.snapshot
        devices = [] if snapshot.is_held else list(snapshot.at_risk)
        if lines is not None:
            there = {device.name for line in snapshot.site.lines if line.name in lines for device in line.devices}
            devices = [device for device in devices if device.name in there]
        if not devices:
            return ""
        shortest = min(devices, key=lambda device: device.watchdog_s or 0)
        names = shortest.name if len(devices) == 1 else f"{shortest.name} and {len(devices) - 1} more"
        return f"{what} lets the watchdog of {names} trip after {shortest.watchdog_s:g} s"
