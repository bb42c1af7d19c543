"""Python's collector of cycles, which is set nowhere else. While it looks, every thread waits, so that what lasts is
never looked at again."""

import gc

_WHILE_LOADING = 2_000_000
_WHILE_POLLING = 5_000, 200, 50
"""Young objects are looked at often, and for less than 5 ms; the old ones hardly ever: polling makes few cycles and
many short-lived values. With Python's own (700, 10, 10) a line waited 40 ms for it with 20 000 points."""


def begin_loading() -> None:
    """Modules are loaded without the collector: nothing of them is garbage."""
    gc.set_threshold(_WHILE_LOADING, 20, 20)


def settle() -> None:
    """What there is by now stays; the collector looks at what comes from now on."""
    gc.freeze()
    gc.set_threshold(*_WHILE_POLLING)
