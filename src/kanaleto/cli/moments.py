"""Moments as options take them, and as the screen shows them."""

from datetime import datetime

import click

from kanaleto.events.moments import micros_at


def micros_of(context: click.Context, parameter: click.Parameter, text: str | None) -> int | None:
    """A callback of an option: microseconds since 1970. Local time where no zone is given."""
    if text is None:
        return None
    try:
        return micros_at(text)
    except ValueError as error:
        raise click.BadParameter(str(error)) from None


def last_before(context: click.Context, parameter: click.Parameter, text: str | None) -> int | None:
    """The same, for `--to`, which excludes its moment: the last microsecond before it."""
    at_us = micros_of(context, parameter, text)
    return at_us - 1 if at_us is not None else None


def local(at_us: int) -> str:
    """Local time, to the millisecond."""
    return f"{datetime.fromtimestamp(at_us / 1e6).astimezone():%Y-%m-%d %H:%M:%S.%f}"[:-3]


def zone() -> str:
    """The zone of local times."""
    name = f"{datetime.now().astimezone():%z}"
    return f"UTC{name[:3]}:{name[3:]}"
