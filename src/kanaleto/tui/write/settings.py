"""A device's own setting, changed from the line that writes: asked first, written, its power cycle asked for, looked
for, and only then noted in the site."""

from collections.abc import Callable
from concurrent.futures import Future
from functools import partial

from kanaleto.control.changing import CannotChange, FoundAgain, SettingChanges, SettingsChange, Where
from kanaleto.control.order import Order, Result
from kanaleto.editing.adding import set_link
from kanaleto.editing.deviceedit import change_device
from kanaleto.tui.shared.context import Context
from kanaleto.tui.shared.question import Choice, WriteQuestion


class SettingSteps:
    """`ask` shows a question where the line was; `tell` a sentence."""

    def __init__(self, context: Context, ask: Callable[[WriteQuestion], None]) -> None:
        self._context, self._ask = context, ask
        self._changes = SettingChanges(context.engine.session, context.control)

    def begin(self, order: Order) -> None:
        self._context.tell("asking first whether that can be …")
        done = self._context.engine.run(self._changes.prepare(order))
        done.add_done_callback(lambda came: self._context.later(lambda: self._prepared(order, came)))

    def _prepared(self, order: Order, came: "Future[SettingsChange]") -> None:
        error = came.exception()
        if error is not None:
            self._context.tell(f"not written: {error}")
            if not isinstance(error, CannotChange):
                raise error
            return
        change = came.result()
        text = f"{change.text}. It is written to the device first; the site changes once it is found again."
        if change.warning:
            text += f"\n{change.warning}."
        write = Choice("y", "write it", partial(self._write, order, change))
        self._ask(WriteQuestion(f"{change.device.name}: {change.point.name}", text, (write,)))

    def _write(self, order: Order, change: SettingsChange) -> None:
        done = self._context.engine.run(self._context.control.orders.send(order))
        done.add_done_callback(lambda came: self._context.later(lambda: self._written(order, change, came)))

    def _written(self, order: Order, change: SettingsChange, came: "Future[Result]") -> None:
        if came.cancelled() or came.exception() is not None:
            self._context.tell(f"not written: {came.exception()}")
            return
        result = came.result()
        if result.needs is not None:
            agreed = order.with_consent(result.needs)
            self._ask(
                WriteQuestion(
                    change.device.name, result.text, (Choice("y", "write it", partial(self._write, agreed, change)),)
                )
            )
        elif not result.is_done and not result.order.may_repeat and result.outcome is None:
            self._context.tell(f"not written: {result.text}")
        else:
            self._ask_for_power(change, f"{change.text}: {result.text}.")

    def _ask_for_power(self, change: SettingsChange, before: str) -> None:
        text = (
            f"{before}\nSwitch {change.device.name} off and on again now; then it is looked for, old and new in turns."
        )
        self._ask(
            WriteQuestion(
                f"{change.device.name}: power", text, (Choice("y", "look for it", partial(self._look, change)),)
            )
        )

    def _look(self, change: SettingsChange) -> None:
        self._context.tell(f"looking for {change.device.name}, with the new setting and the old in turns …")
        done = self._context.engine.run(self._changes.find(change))
        done.add_done_callback(lambda came: self._context.later(lambda: self._found(change, came)))

    def _found(self, change: SettingsChange, came: "Future[FoundAgain]") -> None:
        if came.cancelled() or came.exception() is not None:
            self._context.tell(f"not looked for: {came.exception()}")
            return
        found = came.result()
        if found.where is not Where.NEW:
            again = Choice("y", "look again", partial(self._look, change))
            self._ask(WriteQuestion(f"{change.device.name}: {found.where.value}", found.text, (again,)))
            return
        self._context.tell(f"{found.text}; the site follows")
        if change.unit_id != change.device.unit_id:
            self._context.edit(change_device(change.device.name, {"unit_id": change.unit_id}))
        else:
            if change.line.led_from is None:  # else it is a stand-in's, and nothing of that is saved
                self._context.edit(set_link(change.line.name, change.link))
