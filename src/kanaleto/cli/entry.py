"""Where the process begins."""

from kanaleto.supervision.collector import begin_loading


def run() -> None:
    """The console script."""
    begin_loading()
    from kanaleto.cli.main import run as run_command

    run_command()
