"""Plans that another has replaced are let go of a little at a time: to free what twenty thousand places take is one
step that no other thread gets between, longer than a line should wait."""

import threading
import time
from collections import deque

from kanaleto.planning.plan import DevicePlan, Plan

_AFTER_S = 2.0  # by then nobody draws from it any more
_PAUSE_S = 0.001
_AT_ONCE = 500
_FEW = 1000  # points that nobody notices the end of
_MOST_WAITING = 8


class Leaving:
    """Holds what is on its way out, and a thread as long as there is any."""

    def __init__(self) -> None:
        self._waiting: deque[tuple[float, list[DevicePlan]]] = deque(maxlen=_MOST_WAITING)
        self._lock = threading.Lock()
        self._is_at_work = False

    def let_go(self, old: Plan, new: Plan) -> None:
        """What `new` has not of `old`."""
        stays = {id(part) for part in new.parts}
        parts = [part for part in old.parts if id(part) not in stays and len(part.places) > _FEW]
        if not parts:
            return
        with self._lock:
            self._waiting.append((time.monotonic() + _AFTER_S, parts))
            if not self._is_at_work:
                self._is_at_work = True
                threading.Thread(target=self._work, name="leaving", daemon=True).start()

    def _work(self) -> None:
        while True:
            with self._lock:
                if not self._waiting:
                    self._is_at_work = False
                    return
                due_s, parts = self._waiting.popleft()
            time.sleep(max(due_s - time.monotonic(), 0.0))
            while parts:
                _take_apart(parts.pop())


def _take_apart(part: DevicePlan) -> None:
    """In pieces, from those that only lead to others on."""
    looked_up = list(vars(part).values())
    rest: list[object] = [*part.device.points, *part.blocks, *part.places]
    del part
    while looked_up:
        looked_up.pop()
        time.sleep(_PAUSE_S)
    while rest:
        del rest[-_AT_ONCE:]
        time.sleep(_PAUSE_S)
