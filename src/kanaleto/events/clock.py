"""Wall time as an anchor and the loop's time: what happens one after the other is reported so, whatever is done to the
machine's clock. It is anchored again when it is off, and that is reported."""

import time
from collections.abc import Callable

OFF_S = 0.5
_SLEPT_S = 2.0


def seconds_with_sleep() -> float:
    """Seconds that count sleep, where the system has such a clock."""
    clock = getattr(time, "CLOCK_BOOTTIME", None)
    return time.clock_gettime(clock) if clock is not None else time.monotonic()


class Clock:
    """`wall` gives seconds since 1970 as the machine tells them; without it the loop's own time is returned.
    `with_sleep` gives seconds that count while the machine sleeps."""

    def __init__(
        self,
        wall: Callable[[], float] | None = time.time,
        monotonic: Callable[[], float] = time.monotonic,
        with_sleep: Callable[[], float] = seconds_with_sleep,
    ) -> None:
        self._wall, self._monotonic, self._with_sleep = wall, monotonic, with_sleep
        self.anchor(monotonic)

    def anchor(self, monotonic: Callable[[], float]) -> None:
        """From now on by this time, the loop's."""
        self._monotonic = monotonic
        now_s = monotonic()
        self.offset = self._wall() - now_s if self._wall is not None else 0.0
        self._sleep_offset = self._with_sleep() - now_s

    def at(self, loop_s: float) -> float:
        """The wall time of a loop time, seconds since 1970."""
        return self.offset + loop_s

    def now(self) -> float:
        """Wall time, seconds since 1970."""
        return self.offset + self._monotonic()

    def look(self) -> str:
        """Whether the machine's clock was set, or the machine slept, since the last look: what happened, in words. The
        clock is anchored again then."""
        if self._wall is None:
            return ""
        now_s = self._monotonic()
        off_s = self._wall() - now_s - self.offset
        slept_s = self._with_sleep() - now_s - self._sleep_offset
        if abs(off_s) < OFF_S and slept_s < _SLEPT_S:
            return ""
        self.offset += off_s
        self._sleep_offset += slept_s
        set_s = off_s - slept_s if slept_s >= _SLEPT_S else off_s
        news = [f"the machine slept for {slept_s:.0f} s"] if slept_s >= _SLEPT_S else []
        if abs(set_s) >= OFF_S:
            news.append(f"the machine's clock was set {'forward' if set_s > 0 else 'back'} by {abs(set_s):.1f} s")
        return "; ".join(news)
