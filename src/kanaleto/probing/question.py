"""What a survey asks with, and the address that it may ask first."""

import asyncio
from collections.abc import Awaitable, Callable

from msgspec import Struct

from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.opening import exchanger_for
from kanaleto.lines.outcome import Outcome
from kanaleto.site.links.link import Link
from kanaleto.site.model import Device
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read, Request

Ask = Callable[[int, Request, float], Awaitable[Outcome]]
"""Unit ID, request and timeout in seconds; gives the one outcome."""

Never = tuple[tuple[Table, int, int], ...]
"""Addresses that must never be touched: table, first and last."""

Opener = Callable[[Link], Exchanger]
"""Makes an exchanger for a link, not opened yet."""

CARE = "asking only reads; yet some devices clear a counter when read, and some drives trip once asking ends"
"""What is said before a line is asked."""

LAST_ADDRESS = 0xFFFF
_CONNECT_S = 3.0


_SILENT_SHARE, _FIRST_S = 0.1, 1.6


class Timing(Struct, frozen=True):
    """How a survey goes about it: seconds to wait for an answer (None for each survey's own), seconds between two
    requests."""

    timeout_s: float | None = None
    pause_s: float = 0.0


def parse_timing(text: str) -> Timing:
    """`0.8`, or `0.8, 0.05`: timeout and pause in seconds; nothing for what surveys take by themselves. Raises
    ValueError."""
    parts = [part.strip().removesuffix("s").strip() for part in text.replace(";", ",").split(",")]
    wrong = "type a timeout in seconds (0.01 to 60), and behind a comma the pause between requests (0 to 60): 0.8, 0.05"
    if not text.strip():
        return Timing()
    try:
        numbers = [float(part) for part in parts]
    except ValueError:
        raise ValueError(wrong) from None
    pause_s = numbers[1] if len(numbers) > 1 else 0.0
    if len(numbers) > 2 or not 0.01 <= numbers[0] <= 60 or not 0 <= pause_s <= 60:
        raise ValueError(wrong)
    return Timing(numbers[0], pause_s)


def spaced(ask: Ask, pause_s: float) -> Ask:
    """With so much of a pause before each request."""
    if not pause_s:
        return ask

    async def ask_spaced(unit_id: int, request: Request, timeout_s: float) -> Outcome:
        await asyncio.sleep(pause_s)
        return await ask(unit_id, request, timeout_s)

    return ask_spaced


class Sparing:
    """Asks on a line that others use: who is silent takes no more of it than a silent device may, a tenth, but for the
    first moment, in which it is found out that nobody is there."""

    def __init__(self, ask: Ask) -> None:
        self._ask = ask
        self._not_before_s = 0.0
        self._credit_s = _FIRST_S

    async def __call__(self, unit_id: int, request: Request, timeout_s: float) -> Outcome:
        loop = asyncio.get_running_loop()
        await asyncio.sleep(max(self._not_before_s - loop.time(), 0.0))
        began_s = loop.time()
        outcome = await self._ask(unit_id, request, timeout_s)
        if not outcome.is_answer:
            took_s = loop.time() - began_s
            self._credit_s -= took_s
            if self._credit_s < 0:
                self._not_before_s = loop.time() + took_s / _SILENT_SHARE - took_s
        return outcome


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
    return exchanger_for(link, _CONNECT_S, quarantine_s=0.0)
