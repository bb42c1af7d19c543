"""`kanaleto demo`: the demo site, its devices played by a process of their own."""

import click

from kanaleto.cli.app import start
from kanaleto.cli.failures import Failed
from kanaleto.cli.polling import poll_site, tell_summary
from kanaleto.demo.start import CannotStart, Demo
from kanaleto.files.loading import load_whole


@click.command("demo")
@click.option("--headless", "is_headless", is_flag=True, help="no screen: poll it and print a summary")
@click.option("--for", "for_s", type=click.FloatRange(0), metavar="S", help="end after so many seconds")
@click.option("--theme", type=click.Choice(["lagoon", "fresco"]), default="lagoon", show_default=True)
@click.option("--lesson", "is_lesson", is_flag=True, help="with one point wrong on purpose, to be found")
@click.option("--read-only", "is_read_only", is_flag=True, help="nothing is ever written to a device")
@click.pass_context
def command(
    context: click.Context, is_headless: bool, for_s: float | None, theme: str, is_lesson: bool, is_read_only: bool
) -> int:
    """Alder Lock, a made-up canal lock: simulated devices on two serial lines and TCP, and the application polling
    them.

    \b
    Example:
      kanaleto demo --headless --for 5
    """
    try:
        with Demo(is_lesson) as demo:
            loaded = load_whole(demo.site_path)
            if not is_headless:
                start(loaded, theme, for_s, is_read_only or bool(context.obj))
                return 0
            session = poll_site(loaded.site, for_s, is_quiet=True, is_json=False)
            tell_summary(session, is_json=False)
            if not any(record is not None for record in session.board.records):
                raise Failed("not one good sample came")
    except CannotStart as error:
        raise Failed(str(error)) from None
    return 0
