"""A drill: what is owned is made to fail now and then, where the environment asks for it. Whoever tests looks then
whether each failure was reported and the rest goes on.

`KANALETO_DRILL=SEED:SECONDS:FILE`: about every so many seconds one of what has turns fails once, but for what would end
all; its name goes into FILE, a line each, once it has failed.
"""

import os
import random
import threading
import time
from pathlib import Path

from kanaleto.supervision.owned import After, Owned, owned_now

_VARIABLE = "KANALETO_DRILL"
# the same within ten seconds is reported as a number, and a line that fails five times a minute ends all
_NOT_AGAIN_S = 20.0
_TURN_S, _LOOK_S = 5.0, 0.05


def begin_drill() -> None:
    """Nothing where the environment does not ask for it."""
    text = os.environ.get(_VARIABLE, "")
    if text:
        seed, every_s, path = text.split(":", 2)
        work = (random.Random(seed), float(every_s), Path(path))
        threading.Thread(target=_drill, args=work, name="drill", daemon=True).start()


def _drill(pick: random.Random, every_s: float, path: Path) -> None:
    failed_s: dict[str, float] = {}
    while True:
        time.sleep(pick.uniform(0.5, 1.5) * every_s)
        now_s = time.monotonic()
        able = {
            owned.name: owned
            for owned in owned_now()
            if owned.has_turns
            and owned.after is not After.ENDS_ALL
            and now_s - failed_s.get(owned.name, -_NOT_AGAIN_S) >= _NOT_AGAIN_S
        }
        if not able:
            continue
        owned = able[pick.choice(sorted(able))]
        failed_s[owned.name] = now_s
        if _has_failed(owned):
            with path.open("a", encoding="utf-8") as file:
                file.write(f"{owned.name}\n")


def _has_failed(owned: Owned) -> bool:
    """Whether it had a turn."""
    before, end_s = owned.failures, time.monotonic() + _TURN_S
    owned.raise_once()
    while owned.failures == before and time.monotonic() < end_s:
        time.sleep(_LOOK_S)
    return owned.failures > before
