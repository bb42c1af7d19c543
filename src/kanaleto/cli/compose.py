"""`kanaleto compose`: the bytes of a request or an answer in every framing; nothing is sent."""

import click

from kanaleto.cli.options import usage
from kanaleto.cli.output import emit, say
from kanaleto.wire.ascii import Ascii
from kanaleto.wire.compose import FORMS, compose
from kanaleto.wire.rtu import Rtu
from kanaleto.wire.tcp import Tcp

_HELP = (
    """Print the bytes of a request or an answer as RTU, ASCII and TCP, check bytes included. Nothing is sent.

\b
What can be composed (numbers decimal or 0x…):
"""
    + "".join(f"  {form}\n" for form in FORMS.values())
    + """
\b
Example:
  kanaleto compose read holding 0x6B 3 --unit 17
"""
)


@click.command("compose", help=_HELP, context_settings={"ignore_unknown_options": True})
@click.argument("words", metavar="WHAT...", nargs=-1, required=True, type=click.UNPROCESSED)
@click.option("--unit", "unit_id", default=1, show_default=True, type=click.IntRange(0, 255))
@click.option("--transaction", default=1, show_default=True, type=click.IntRange(0, 65535), help="of the TCP frame")
@click.option("--json", "is_json", is_flag=True, help="one object")
def command(words: tuple[str, ...], unit_id: int, transaction: int, is_json: bool) -> int:
    message = usage(lambda: compose(list(words)))
    pdu = message.encode()
    frames = {framing.name: framing.encode(unit_id, pdu, transaction) for framing in (Rtu(), Ascii(), Tcp())}
    if is_json:
        emit({"unit_id": unit_id, "pdu": pdu.hex()} | {name: raw.hex() for name, raw in frames.items()})
        return 0
    say(f"rtu    {frames['rtu'].hex(' ').upper()}")
    say(f"ascii  {frames['ascii'].decode('ascii').strip()}␍␊")
    say(f"tcp    {frames['tcp'].hex(' ').upper()}")
    return 0
