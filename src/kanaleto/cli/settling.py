"""Modules are loaded without the collector looking on: nothing of them is garbage."""

import gc

_USUAL = gc.get_threshold()
_WHILE_LOADING = 2_000_000


def begin_loading() -> None:
    gc.set_threshold(_WHILE_LOADING, 20, 20)


def settle() -> None:
    """What is loaded by now stays: the collector looks at what comes from now on."""
    gc.freeze()
    gc.set_threshold(*_USUAL)
