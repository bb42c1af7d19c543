"""What a survey asks with, and the address that it may ask first."""

from collections.abc import Awaitable, Callable

from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.opening import channel_for, framing_of
from kanaleto.lines.outcome import Outcome
from kanaleto.site.link import Link, SerialLink
from kanaleto.site.model import Device
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read, Request

Ask = Callable[[int, Request, float], Awaitable[Outcome]]
"""Unit ID, request and timeout in seconds; gives the one outcome."""

Never = tuple[tuple[Table, int, int], ...]
"""Addresses that must never be touched: table, first and last."""

Opener = Callable[[Link], Exchanger]
"""Makes an exchanger for a link, not opened yet."""

LAST_ADDRESS = 0xFFFF
_CONNECT_S = 3.0


class MayNotTouch(ValueError):
    """Everything that could be asked is on the list of what must never be touched."""


def untouchable(device: Device) -> Never:
    """What a device must never be asked for: what `never_read` names, and points that are only written, since reading
    may do something there."""
    written = tuple((p.table, p.address, p.end - 1) for p in device.points if not p.access.is_read)
    return (*device.limits.never_read, *written)


def is_forbidden(never: Never, table: Table, first: int, last: int) -> bool:
    return any(of is table and low <= last and first <= high for of, low, high in never)


def first_question(never: Never = ()) -> Read:
    """The read that a survey knocks with: one holding register from 0 on, the first that may be touched. Raises
    MayNotTouch."""
    for table in (Table.HOLDING, Table.INPUT):
        at = 0
        while at <= LAST_ADDRESS:
            ends = [high for of, low, high in never if of is table and low <= at <= high]
            if not ends:
                return Read(table, at, 1)
            at = max(ends) + 1
    raise MayNotTouch(
        "every holding and input register is on the list of what must never be touched, so nothing can be asked"
    )


def survey_exchanger(link: Link) -> Exchanger:
    """An exchanger without a quarantine after each silence: a survey asks every unit once, and sees itself to what
    comes late."""
    has_echo = isinstance(link, SerialLink) and link.has_echo
    return Exchanger(channel_for(link, _CONNECT_S), framing_of(link), quarantine_s=0.0, has_echo=has_echo)
