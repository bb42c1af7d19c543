"""Changing a device's own settings: its unit ID, its baud, parity and stop bits, by registers that its map marks so.

Nothing of the site changes before the device was found again with its new setting. Until then old and new are tried in
turns, and what is known is reported.
"""

import asyncio
from collections.abc import Callable
from contextlib import suppress
from enum import Enum

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.control.control import Control
from kanaleto.control.order import Order
from kanaleto.lines.channel import Unreachable
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.polling.session import Session
from kanaleto.probing.own_settings import meaning_of
from kanaleto.probing.question import MayNotTouch, first_question, survey_exchanger, untouchable
from kanaleto.site.links.link import FramingKind, Link, Parity, SerialSettings
from kanaleto.site.model import Device, Line, Point, PortSetting

LOOKED_FOR_S = 60.0
_TURN_S = 0.5
_TAKEN = (OutcomeKind.GOOD, OutcomeKind.EXCEPTION, OutcomeKind.GARBLED, OutcomeKind.UNEXPECTED)

MakeExchanger = Callable[[Link], Exchanger]


class Where(Enum):
    """Where the device answers after its power was off and on."""

    NEW = "new"
    OLD = "old"
    NOWHERE = "nowhere"


class FoundAgain(Struct, frozen=True):
    where: Where
    text: str


class SettingsChange(Struct, frozen=True):
    """What is to be changed: the unit ID, or the link of its line; and what is to be known before it is."""

    line: Line
    device: Device
    point: Point
    unit_id: int
    link: Link
    warning: str

    @property
    def text(self) -> str:
        if self.unit_id != self.device.unit_id:
            return f"unit ID {self.device.unit_id} → {self.unit_id}"
        return f"{_settings_text(self.line.link)} → {_settings_text(self.link)}"


class CannotChange(ValueError):
    """One sentence: why not."""


def _settings_text(link: Link) -> str:
    return str(link.settings) if link.is_serial else link.place


class SettingChanges:
    """For the engine's loop."""

    def __init__(self, session: Session, control: Control, make: MakeExchanger = survey_exchanger) -> None:
        self._session, self._control, self._make = session, control, make

    async def prepare(self, order: Order) -> SettingsChange:
        """What the order would change. Raises CannotChange: with nothing written."""
        line, device, point = self._place(order)
        assert point.setting is not None
        value = point.codec.decode(order.data)
        code = int(value) if isinstance(value, int | float) else None
        meaning = meaning_of(point, code) if code is not None else None
        if meaning is None:
            raise CannotChange(
                f"nobody knows what {order.new_text} means: the map's labels must name the codes of {point.name}"
            )
        if point.setting is PortSetting.UNIT_ID:
            return await self._to_unit(line, device, point, int(meaning))
        link = line.link
        if link.settings is None:
            raise CannotChange(f"{line.name} is no serial line: write {point.name} as any other point")
        users = [kept.name for kept in self._control.alives.of_line(line.name)]
        if users:
            raise CannotChange(f"{users[0]} is kept alive on {line.name}: stop that first")
        settings = _changed(link.settings, point.setting, meaning)
        others = [each_device.name for each_device in line.devices if each_device.name != device.name]
        warning = ""
        if others:
            warning = f"{len(others)} more on {line.name} ({', '.join(others[:6])}) do not hear at these settings"
        return SettingsChange(line, device, point, device.unit_id, link.with_serial(settings, link.framing), warning)

    def _place(self, order: Order) -> tuple[Line, Device, Point]:
        for line, device in self._session.site.devices():
            for point in device.points:
                if (device.name, (point.name,)) == (order.device, order.points) and point.setting is not None:
                    return line, device, point
        raise CannotChange(f"{order.name} of {order.device} is no setting of its port any more")

    async def _to_unit(self, line: Line, device: Device, point: Point, unit_id: int) -> SettingsChange:
        most = 255 if line.link.framing is FramingKind.TCP else 247
        if not 1 <= unit_id <= most:
            raise CannotChange(f"unit IDs are 1…{most}, not {unit_id}")
        for neighbour in line.devices:
            if neighbour.unit_id == unit_id and neighbour.name != device.name:
                raise CannotChange(f"unit ID {unit_id} is {neighbour.name} already")
        if unit_id != device.unit_id:
            outcome = await self._knock(line, device, unit_id)
            if outcome.kind in _TAKEN and not outcome.is_of_gateway:
                raise CannotChange(
                    f"somebody answers at unit ID {unit_id} already ({outcome.reason or 'a good answer'})"
                )
            if outcome.kind is OutcomeKind.UNREACHABLE:
                raise CannotChange(f"whether unit ID {unit_id} is free could not be asked: {outcome.reason}")
        return SettingsChange(line, device, point, unit_id, line.link, "")

    async def _knock(self, line: Line, device: Device, unit_id: int) -> Outcome:
        try:
            question = first_question(untouchable(device))
            return await self._session.named(line.name).ask(unit_id, question, device.timeout_s)
        except (MayNotTouch, KeyError, OverflowError) as error:
            raise CannotChange(str(error)) from None

    # Once it is written, and its power was off and on

    async def find(self, change: SettingsChange, within_s: float = LOOKED_FOR_S) -> FoundAgain:
        """Where it answers: new and old in turns, until one does."""
        try:
            if change.link == change.line.link:
                return await self._find_unit(change, within_s)
            return await self._find_settings(change, within_s)
        except CannotChange as error:
            return FoundAgain(Where.NOWHERE, str(error))

    async def _find_unit(self, change: SettingsChange, within_s: float) -> FoundAgain:
        loop = asyncio.get_running_loop()
        end_s = loop.time() + within_s
        while True:
            for where, unit_id in ((Where.NEW, change.unit_id), (Where.OLD, change.device.unit_id)):
                outcome = await self._knock(change.line, change.device, unit_id)
                if outcome.is_answer:
                    return self._found(change, where)
            if loop.time() >= end_s:
                return self._found(change, Where.NOWHERE)
            await asyncio.sleep(_TURN_S)

    async def _find_settings(self, change: SettingsChange, within_s: float) -> FoundAgain:
        link = change.line.link
        loop = asyncio.get_running_loop()
        end_s = loop.time() + within_s
        question = first_question(untouchable(change.device))
        async with self._session.borrowed(link, f"looking for {change.device.name}"):
            while True:
                for where, tried in ((Where.NEW, change.link), (Where.OLD, link)):
                    exchanger = self._make(tried)
                    try:
                        await exchanger.open()
                        outcome = await exchanger.ask(change.device.unit_id, question, change.device.timeout_s)
                    except Unreachable as error:
                        return FoundAgain(Where.NOWHERE, f"{link.place} cannot be opened: {error}")
                    finally:
                        with suppress(OSError):
                            exchanger.close()
                    if outcome.is_answer:
                        return self._found(change, where)
                if loop.time() >= end_s:
                    return self._found(change, Where.NOWHERE)
                await asyncio.sleep(_TURN_S)

    def _found(self, change: SettingsChange, where: Where) -> FoundAgain:
        name = change.device.name
        what = f"unit ID {change.unit_id}" if change.link == change.line.link else _settings_text(change.link)
        if where is Where.NEW:
            return FoundAgain(where, f"{name} answers with its new setting, {what}")
        if where is Where.OLD:
            return FoundAgain(
                where,
                f"{name} still answers with its old setting: it takes {what} after power off and on, or not at all",
            )
        return FoundAgain(where, f"{name} answers neither with {what} nor as before: the site is left as it is")


def _changed(settings: SerialSettings, setting: PortSetting, meaning: str) -> SerialSettings:
    if setting is PortSetting.BAUD:
        return replace(settings, baud=int(meaning))
    if setting is PortSetting.PARITY:
        parity = Parity(meaning)
        return replace(settings, parity=parity)
    return replace(settings, stop=int(meaning))
