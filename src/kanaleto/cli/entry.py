"""Where the process begins: modules are loaded without the collector looking on, since nothing of them is garbage."""

import gc

_USUAL = gc.get_threshold()
_WHILE_LOADING = 100_000


def run() -> None:
    """The console script."""
    gc.set_threshold(_WHILE_LOADING, 20, 20)
    from kanaleto.cli.main import run as run_command

    run_command()


def settle() -> None:
    """What is loaded by now stays: the collector looks at what comes from now on."""
    gc.freeze()
    gc.set_threshold(*_USUAL)
