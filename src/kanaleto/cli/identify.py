"""`kanaleto identify`: what a device says of itself."""

import click

from kanaleto.cli.completing import links
from kanaleto.cli.failures import Failed
from kanaleto.cli.foreground import run_until_signal
from kanaleto.cli.options import require_unit, usage
from kanaleto.cli.output import emit, iso, say
from kanaleto.lines.channel import Unreachable
from kanaleto.lines.identify import Identification, identify
from kanaleto.lines.opening import exchanger_for
from kanaleto.site.links.parse import parse_link
from kanaleto.wire.identity import OBJECT_NAMES


@click.command("identify")
@click.argument("link", shell_complete=links)
@click.option("--unit", "unit_id", default=1, show_default=True, type=click.IntRange(0, 255))
@click.option(
    "--timeout", "timeout_s", default=1.0, show_default=True, type=click.FloatRange(0.001, 3600), help="seconds"
)
@click.option("--json", "is_json", is_flag=True, help="one object")
def command(link: str, unit_id: int, timeout_s: float, is_json: bool) -> int:
    """Ask a device what it is: its identification (2B/0E, as deep as it goes) and its server ID (11). It is only read.

    \b
    Example:
      kanaleto identify tcp://127.0.0.1:15020 --unit 2
    """
    parsed = usage(lambda: parse_link(link))
    require_unit(parsed, unit_id)
    found: list[Identification] = []

    async def work() -> None:
        exchanger = exchanger_for(parsed)
        try:
            await exchanger.open()
            found.append(await identify(exchanger, unit_id, timeout_s))
        except Unreachable as error:
            raise Failed(f"{parsed.place}: {error}") from None
        finally:
            exchanger.close()

    run_until_signal(work())
    if not found:
        return 0
    identification = found[0]
    if is_json:
        objects = {OBJECT_NAMES.get(number, f"0x{number:02X}"): text for number, text in identification.objects.items()}
        emit(
            {
                "at": iso(),
                "unit_id": unit_id,
                "objects": objects,
                "server_id": identification.server_id,
                "running": identification.is_running,
                "additional": identification.additional or None,
            }
        )
    else:
        for number, text in identification.objects.items():
            say(f"{OBJECT_NAMES.get(number, f'object 0x{number:02X}').replace('_', ' '):<18}  {text}")
        if identification.server_id is not None:
            state = {True: "  (running)", False: "  (not running)", None: ""}[identification.is_running]
            say(f"{'server ID':<18}  {identification.server_id}{state}")
            if identification.additional:
                say(f"{'additional data':<18}  {identification.additional}")
    if not identification.objects and identification.server_id is None:
        raise Failed(f"{parsed.place}, unit {unit_id}: {identification.reason}")
    return 0
