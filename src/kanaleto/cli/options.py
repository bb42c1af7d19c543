"""What `read` and `write` share: the arguments, and the values that they give."""

from collections.abc import Callable, Mapping, Sequence
from typing import Any, TypeVar

import click
from msgspec import Struct

from kanaleto.cli.completing import links
from kanaleto.site.counting import Numbering, from_wire, to_wire
from kanaleto.site.links.link import FramingKind, Link
from kanaleto.site.links.parse import parse_link
from kanaleto.values.codec import Codec
from kanaleto.values.scale import linear
from kanaleto.values.types import Kind, ValueType, order_for, parse_order, parse_type
from kanaleto.wire.codes import Table

_F = TypeVar("_F", bound=Callable[..., Any])
T = TypeVar("T")


class Target(Struct, frozen=True):
    """Where to read or write, and how its registers are read."""

    link: Link
    table: Table
    address: int
    numbering: Numbering
    codec: Codec
    unit_id: int
    decimals: int | None

    @property
    def per_value(self) -> int:
        """Items that one value takes."""
        return 1 if self.table.is_bits else self.codec.registers

    def shown_address(self, address: int) -> str:
        """An address as it is counted, with the wire's beside it where that differs."""
        as_map = from_wire(address, self.table, self.numbering)
        return as_map if self.numbering is Numbering.PROTOCOL else f"{as_map} ({address})"


_RETRIES = click.option("--retries", default=1, show_default=True, type=click.IntRange(0, 100))


def target_options(is_read: bool) -> Callable[[_F], _F]:
    """The options that read and write share; a write is never repeated by itself."""

    def add(function: _F) -> _F:
        for option in reversed(
            [
                click.argument("link", shell_complete=links),
                click.argument("table", type=click.Choice([table.value for table in Table], case_sensitive=False)),
                click.argument("address"),
                click.option(
                    "--unit", "unit_id", default=1, show_default=True, type=click.IntRange(0, 255), help="unit ID"
                ),
                click.option(
                    "--type",
                    "type_text",
                    metavar="TYPE",
                    help="uint16 (default), int16, float32, text:8, …; coils are bool",
                ),
                click.option(
                    "--order",
                    "order_text",
                    metavar="ORDER",
                    help="ABCD (default), CDAB, BADC or DCBA; AB or BA for 16 bits; EFGHABCD and so on for 64",
                ),
                click.option("--factor", type=float, default=1.0, help="value = raw × factor + offset"),
                click.option("--offset", type=float, default=0.0),
                click.option("--decimals", type=click.IntRange(0, 12), help="round to so many"),
                click.option(
                    "--numbering",
                    type=click.Choice([numbering.value for numbering in Numbering]),
                    default="protocol",
                    show_default=True,
                    help="how ADDRESS counts: from 0, from 1, or as a reference such as 40001",
                ),
                click.option(
                    "--timeout",
                    "timeout_s",
                    default=1.0,
                    show_default=True,
                    type=click.FloatRange(0.001, 3600),
                    help="seconds",
                ),
                *([_RETRIES] if is_read else []),
                click.option("--json", "is_json", is_flag=True, help="one object a line"),
            ]
        ):
            function = option(function)
        return function

    return add


def usage(make: Callable[[], T]) -> T:
    """The value, or its ValueError as wrong usage."""
    try:
        return make()
    except ValueError as error:
        raise click.UsageError(str(error)) from None


def require_unit(link: Link, unit_id: int, may_broadcast: bool = False) -> None:
    """Raises click.UsageError when that unit cannot be asked on this link."""
    if link.framing is not FramingKind.TCP and not (0 if may_broadcast else 1) <= unit_id <= 247:
        raise click.UsageError(f"unit {unit_id} cannot answer on a serial line; the units are 1…247")


def make_target(
    link: str, table: str, address: str, unit_id: int, type_text: str | None, order_text: str | None,
    factor: float, offset: float, decimals: int | None, numbering: str, may_broadcast: bool = False,
) -> Target:  # fmt: skip
    """Everything checked; raises click.UsageError with one sentence."""
    where = Table(table.lower())
    counting = Numbering(numbering)
    parsed = usage(lambda: parse_link(link))
    require_unit(parsed, unit_id, may_broadcast)
    default = ValueType(Kind.BOOL if where.is_bits else Kind.UINT16)
    value_type = usage(lambda: parse_type(type_text)) if type_text else default
    if where.is_bits and value_type.kind is not Kind.BOOL:
        raise click.UsageError(f"--type {value_type} does not fit {where.title}; they are bool")
    own_order = usage(lambda: parse_order(order_text)) if order_text else None
    order = usage(lambda: order_for(value_type, own_order, None))
    scale = usage(lambda: linear(factor, offset))
    if scale is not None and (not value_type.takes_scale or where.is_bits):
        raise click.UsageError(f"type {value_type} takes no --factor and no --offset")
    wire_address = usage(lambda: to_wire(address, where, counting))
    return Target(parsed, where, wire_address, counting, Codec(value_type, order, scale), unit_id, decimals)


def sectioned(sections: Mapping[str, Sequence[str]]) -> type[click.Command]:
    """A command whose `--help` has its options in sections, by the names of their parameters."""

    class Sectioned(click.Command):
        def format_options(self, context: click.Context, formatter: click.HelpFormatter) -> None:
            params = self.get_params(context)
            named = {name for names in sections.values() for name in names}
            rest = [parameter.name for parameter in params if parameter.name not in named]
            for title, names in {**sections, "Always": [*sections.get("Always", ()), *rest]}.items():
                options = [parameter for parameter in params if isinstance(parameter, click.Option)]
                wanted = [option for name in names for option in options if option.name == name]
                rows = [row for option in wanted if (row := option.get_help_record(context)) is not None]
                with formatter.section(title):
                    formatter.write_dl(rows)

    return Sectioned
