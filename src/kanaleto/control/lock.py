"""The lock on writing. It begins locked, is opened on purpose for a device or for the whole site, and closes by itself:
after ten minutes, after five without a key, at another site, and once the machine slept.

It is asked in the instant in which a write would be sent, and looks at the clocks itself then; nothing has to run for
it to close. All that it knows stands in one immutable state, so that any thread may ask; who changes it does so only
where nobody else has done so since it looked.
"""

import threading
import time
from collections.abc import Callable

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.events.clock import seconds_with_sleep

UNLOCKED_S, IDLE_S = 600.0, 300.0
_SLEPT_S, _SOON_S = 2.0, 60.0


class LockState(Struct, frozen=True):
    """Until when what may be written, by the clock that counts sleep: devices by name, and (where `site_until_s` is not
    0) all of them."""

    devices: tuple[tuple[str, float], ...] = ()
    site_until_s: float = 0.0
    last_key_s: float = 0.0
    slept_offset_s: float = 0.0
    why: str = "writing is locked: u unlocks it"

    @property
    def is_open(self) -> bool:
        """Whether anything is unlocked, if its time is not over."""
        return bool(self.devices) or self.site_until_s > 0


class Lock:
    """`is_read_only` for a program that never writes. With `consents` it is open throughout: whoever runs a command
    that writes has said so by that."""

    def __init__(
        self,
        is_read_only: bool = False,
        consents: bool = False,
        with_sleep: Callable[[], float] = seconds_with_sleep,
        monotonic: Callable[[], float] = time.monotonic,
    ) -> None:
        self.is_read_only = is_read_only
        self._consents = consents and not is_read_only
        self._with_sleep, self._monotonic = with_sleep, monotonic
        self.state = LockState()
        self.kept_shut = ""
        """Why it cannot be opened now, while a line changes between devices and what stands in for them."""
        self._changing = threading.Lock()

    def _swap(self, old: LockState, new: LockState) -> None:
        """`new`, where `old` still holds: what another thread has closed meanwhile stays so."""
        with self._changing:
            if self.state is old:
                self.state = new

    def _offset(self) -> float:
        return self._with_sleep() - self._monotonic()

    def unlock(self, device: str = "") -> None:
        """A device, or the whole site where none is named, for ten minutes from now on."""
        if self.is_read_only or self.kept_shut:
            return
        now, old_state = self._with_sleep(), self._looked_at()
        state = old_state
        if device:
            others = tuple((name, until) for name, until in state.devices if name != device)
            state = replace(state, devices=(*others, (device, now + UNLOCKED_S)))
        else:
            state = replace(state, site_until_s=now + UNLOCKED_S)
        self._swap(old_state, replace(state, last_key_s=now, slept_offset_s=self._offset(), why=""))

    def lock(self, why: str = "writing is locked: u unlocks it") -> None:
        with self._changing:
            self.state = LockState(why=why)

    def note_key(self) -> None:
        """Somebody is there."""
        state = self._looked_at()
        if state.is_open:
            self._swap(state, replace(state, last_key_s=self._with_sleep()))

    def _looked_at(self) -> LockState:
        """The state as it is by now: what is over is over."""
        state = self.state
        if not state.is_open:
            return state
        now = self._with_sleep()
        devices = tuple((name, until) for name, until in state.devices if until > now)
        site_until_s = state.site_until_s if state.site_until_s > now else 0.0
        if self._offset() - state.slept_offset_s >= _SLEPT_S:
            looked = LockState(why="writing was locked because the machine slept: u unlocks it")
        elif now - state.last_key_s >= IDLE_S:
            looked = LockState(why="writing was locked after 5 minutes without a key: u unlocks it")
        elif not devices and not site_until_s:
            looked = LockState(why="writing was locked when its 10 minutes were over: u unlocks it")
        elif (devices, site_until_s) == (state.devices, state.site_until_s):
            return state
        else:
            looked = replace(state, devices=devices, site_until_s=site_until_s)
        self._swap(state, looked)
        return self.state if self.state is not state else looked

    def why_not(self, device: str) -> str:
        """Why nothing may be written to a device now; nothing when it may. An empty name stands for what has none: that
        needs the whole site unlocked."""
        if self.is_read_only:
            return "this program was started with --read-only: nothing is written"
        if self._consents:
            return ""
        if self.kept_shut:
            return self.kept_shut
        state = self._looked_at()
        if state.site_until_s or (device and device in dict(state.devices)):
            return ""
        if state.devices:
            names = ", ".join(name for name, _ in state.devices)
            return f"writing is unlocked for {names} only: u unlocks {device or 'the whole site, pressed twice'}"
        return state.why

    def is_unlocked(self, device: str) -> bool:
        """Whether a person has unlocked it, alone or with the whole site."""
        state = self._looked_at()
        return bool(state.site_until_s) or device in dict(state.devices)

    def unlocked_now(self) -> tuple[str, float]:
        """What is unlocked, in words, and for how many seconds yet; nothing where nothing is."""
        state = self._looked_at()
        now = self._with_sleep()
        if not state.is_open:
            return "", 0.0
        idle_s = state.last_key_s + IDLE_S - now
        idle_s = idle_s if idle_s < _SOON_S else UNLOCKED_S  # which begins again with each key
        if state.site_until_s:
            return "the site", min(state.site_until_s - now, idle_s)
        names = [name for name, _ in state.devices]
        left_s = max(until for _, until in state.devices) - now
        return names[0] if len(names) == 1 else f"{len(names)} devices", min(left_s, idle_s)
