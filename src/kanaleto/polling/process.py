"""How a process that polls is set: open files, Python's collector of cycles, and threads that give way to each other.
While the collector looks, every thread waits."""

import gc
import sys

from kanaleto.lines.openfiles import raise_limit

SWITCH_INTERVAL_S = 0.0002  # a busy interface thread gives way to the engine after this long


def quieten_collector() -> None:
    """Let Python's collector of cycles pass over what is there for good, and come by less often: polling makes few
    cycles and many short-lived values, and a full collection stops every thread."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(5_000, 200, 50)  # often, and then for less than 5 ms: every thread waits meanwhile


def prepare_process() -> None:
    """Make a process ready to poll: open files, the collector, and threads that give way to each other."""
    raise_limit()
    quieten_collector()
    sys.setswitchinterval(SWITCH_INTERVAL_S)


def show_collector() -> None:
    """Have the collector see what was made since it came by last, a plan say. It walks through each large sequence the
    first time, and leaves those alone afterwards that hold nothing which could be part of a cycle, as points and
    places: those of one plan take a moment, those of thirty would take a long one."""
    gc.collect(0)
