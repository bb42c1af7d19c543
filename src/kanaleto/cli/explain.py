"""`kanaleto explain`: any frame, field by field."""

import sys

import click

from kanaleto.cli.hexadecimal import bytes_from
from kanaleto.cli.output import emit, say
from kanaleto.wire.explain import Field, explain_frame, guess, pdu_of, split_pair
from kanaleto.wire.frames import Role
from kanaleto.wire.pdu import PduError, Read, parse_request

_ROLES = {"request": Role.REQUESTS, "response": Role.ANSWERS}
_WORDS = {role: word for word, role in _ROLES.items()}


@click.command("explain", context_settings={"ignore_unknown_options": True})
@click.argument("hex_words", metavar="HEX...", nargs=-1, type=click.UNPROCESSED)
@click.option("--framing", type=click.Choice(["rtu", "ascii", "tcp"]), help="guessed when not given")
@click.option(
    "--as", "as_role", type=click.Choice(list(_ROLES)), help="which half of the traffic; guessed when not given"
)
@click.option("--answer", metavar="HEX", help="the answer that belongs to it: its registers get their addresses")
@click.option("--json", "is_json", is_flag=True, help="an object a frame")
def command(
    hex_words: tuple[str, ...], framing: str | None, as_role: str | None, answer: str | None, is_json: bool
) -> int:
    """Explain a frame: its fields with offsets, names and values, and the verdict on its check bytes.

    HEX may have spaces, colons, 0x and line breaks; `-` reads it from standard input. A request with its answer behind
    it is distinguished.

    \b
    Example: a request and its answer
      kanaleto explain 11 03 00 6B 00 03 76 87 --answer "11 03 06 AE 41 56 52 43 40 49 AD"
    """
    raw = bytes_from((sys.stdin.read(),) if hex_words == ("-",) else hex_words)
    role = _ROLES[as_role] if as_role else None
    found = guess(raw, framing, role)
    pair = split_pair(found.framing, raw) if answer is None and role is None else None
    if answer is not None:
        pair = (raw, bytes_from((answer,)))
    if pair is None:
        is_right = _tell(found.framing, found.role, raw, None, found.is_open, is_json)
        return 0 if is_right else 1
    first = _first_address(found.framing, pair[0])
    are_right = [
        _tell(found.framing, Role.REQUESTS, pair[0], None, False, is_json),
        _tell(found.framing, Role.ANSWERS, pair[1], first, False, is_json),
    ]
    return 0 if all(are_right) else 1


def _first_address(framing: str, raw: bytes) -> int | None:
    try:
        request = parse_request(pdu_of(framing, raw))
    except PduError:
        return None
    return request.address if isinstance(request, Read) else None


def _tell(framing: str, role: Role, raw: bytes, first_address: int | None, is_open: bool, is_json: bool) -> bool:
    """Print one frame; whether nothing in it is wrong."""
    fields = explain_frame(framing, role, raw, first_address)
    is_right = all(field.is_right is not False for field in fields)
    if is_json:
        emit(
            {"framing": framing, "as": _WORDS[role], "bytes": len(raw), "right": is_right}
            | {"fields": [_field_json(field, raw) for field in fields]}
        )
        return is_right
    other = " (may be read the other way too: --as)" if is_open else ""
    say(f"{framing.upper()} {_WORDS[role]}, {len(raw)} bytes{other}")
    width = max((len(_hex(field, raw, framing)) for field in fields), default=0)
    for field in fields:
        mark = "  ✕" if field.is_right is False else ""
        say(f"  {field.start:>3}  {_hex(field, raw, framing):<{width}}  {field.name:<14}  {field.meaning}{mark}")
    return is_right


def _hex(field: Field, raw: bytes, framing: str) -> str:
    part = raw[field.start : field.end]
    if framing == "ascii":
        return part.decode("latin-1").replace("\r", "␍").replace("\n", "␊")
    return part.hex(" ").upper()


def _field_json(field: Field, raw: bytes) -> dict[str, object]:
    return {
        "start": field.start,
        "end": field.end,
        "hex": raw[field.start : field.end].hex(),
        "name": field.name,
        "value": field.meaning,
        "right": field.is_right,
    }
