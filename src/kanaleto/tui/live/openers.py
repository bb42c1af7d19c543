"""What opens the parts of Live, with what the cursor is on and what is marked."""

from inspect import isawaitable

from kanaleto.planning.plan import AnyPlace, Identity
from kanaleto.tui.live.parts import Parts
from kanaleto.tui.live.rows import DeviceRow, LiveRows
from kanaleto.tui.shared.view import View
from kanaleto.tui.write.points import ask_writable, write_points


class Openers(View):
    """The view is one of these."""

    parts: Parts
    _list: LiveRows

    @property
    def _current(self) -> AnyPlace | None:
        raise NotImplementedError

    def _in_order(self, identities: set[Identity]) -> list[Identity]:
        raise NotImplementedError

    async def action_pad(self) -> None:
        if self.device_here:
            await self.parts.begin("pad", self.device_here, [])
        else:
            self.context.tell("put the cursor on a device, or a point of one")

    async def action_held(self) -> None:
        if self.device_here:
            await self.parts.begin("held", self.device_here, [])
        else:
            self.context.tell("put the cursor on a device, or a point of one")

    async def action_write(self) -> None:
        if self.parts.current is not None:
            came = self.parts.perform(self.parts.name, "write")
            if isawaitable(came):
                await came
        elif isinstance(self._list.current, DeviceRow) and not self._list.marked:
            await self.action_pad()
        else:
            write_points(self.context, self._in_order(self._list.marked), self._current)

    def action_writable(self) -> None:
        ask_writable(self.context, self._in_order(self._list.marked), self._current)

    async def action_moved(self) -> None:
        await self.parts.begin("moved", self.device_here, [])

    async def action_past(self) -> None:
        await self.parts.open("past")

    async def action_compare(self) -> None:
        await self.parts.begin("compare", self.device_here, self._in_order(self._list.marked))

    async def action_across(self) -> None:
        await self.parts.begin("across", self.device_here, self._in_order(self._list.marked))
