"""Who writes a register: at most one at a time (a kept-alive write, a routine); a person holds nothing for long."""

from collections.abc import Callable

from msgspec import Struct

from kanaleto.wire.codes import Table


class Hold(Struct, frozen=True):
    """Items `first` to `end` (not included) of a table of one unit. `owner` tells holds apart, `name` is shown;
    `on_taken` is called when a person takes over."""

    line: str
    unit_id: int
    table: Table
    first: int
    end: int
    owner: str
    name: str
    on_taken: Callable[[], None]

    def meets(self, line: str, unit_id: int, table: Table, first: int, end: int) -> bool:
        is_unit = self.unit_id == unit_id or unit_id == 0
        return is_unit and (self.line, self.table) == (line, table) and self.first < end and first < self.end


class Holders:
    """For the engine's loop."""

    def __init__(self) -> None:
        self.holds: list[Hold] = []

    def who(self, line: str, unit_id: int, table: Table, first: int, end: int, owner: str) -> Hold | None:
        """Who else holds one of these."""
        for hold in self.holds:
            if hold.owner != owner and hold.meets(line, unit_id, table, first, end):
                return hold
        return None

    def take(self, hold: Hold) -> None:
        self.holds.append(hold)

    def release(self, owner: str) -> None:
        self.holds = [hold for hold in self.holds if hold.owner != owner]

    def take_over(self, hold: Hold) -> None:
        """A person has said so: who held it is notified, and stops."""
        self.release(hold.owner)
        hold.on_taken()
