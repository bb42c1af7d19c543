"""What the pattern of a capture looks like: what came of each device, counted, and what that means in plain words.
Holds counts only, however many exchanges there are."""

from collections.abc import Iterable

from msgspec import Struct, field

from kanaleto.analysis.diagnosis import Diagnosis, look_at
from kanaleto.board.health import Tally, WaterLevels
from kanaleto.board.snapshot import DeviceStatus, LineStatus
from kanaleto.capture.row import ExchangeRow, link_of
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.model import Device, Line
from kanaleto.wire.pdu import Refused

_TIMES = 256
_MOST_DEVICES = 5000


class Counted(Struct, eq=False):
    """What came of one device, or of a unit that has no name."""

    line: str
    link: str
    device: str
    unit_id: int
    kinds: dict[OutcomeKind, int] = field(default_factory=dict)
    codes: dict[int, int] = field(default_factory=dict)
    times: list[float] = field(default_factory=list)
    first_us: int = 0
    last_us: int = 0
    last_good_us: int | None = None
    silences_in_a_row: int = 0
    sent: int = 0
    received: int = 0

    @property
    def name(self) -> str:
        return self.device or f"unit {self.unit_id}"

    @property
    def asked(self) -> int:
        return sum(self.kinds.values())


class Pattern:
    """Feed it rows; ask it when they are over."""

    def __init__(self) -> None:
        self.counted: dict[tuple[str, str, int], Counted] = {}
        self.rows = 0
        self.first_us: int | None = None
        self.last_us = 0

    def add(self, row: ExchangeRow) -> None:
        self.rows += 1
        self.first_us = row.at_us if self.first_us is None else min(self.first_us, row.at_us)
        self.last_us = max(self.last_us, row.at_us)
        key = (row.line, row.device, row.unit_id)
        own = self.counted.get(key)
        if own is None:
            if len(self.counted) >= _MOST_DEVICES:
                return
            own = self.counted[key] = Counted(row.line, row.link, row.device, row.unit_id, first_us=row.at_us)
        kind = row.kind
        own.kinds[kind] = number = own.kinds.get(kind, 0) + 1
        own.last_us = row.at_us
        own.sent += len(row.request)
        own.received += len(row.answer)
        own.silences_in_a_row = own.silences_in_a_row + 1 if kind is OutcomeKind.TIMEOUT else 0
        if kind is OutcomeKind.GOOD:
            own.last_good_us = row.at_us
            took_s = row.took_us / 1e6
            if len(own.times) < _TIMES:
                own.times.append(took_s)
            else:
                own.times[number * 7919 % _TIMES] = took_s
        elif kind is OutcomeKind.EXCEPTION:
            answer = row.answered()
            code = answer.code if isinstance(answer, Refused) else 0
            own.codes[code] = own.codes.get(code, 0) + 1

    def add_all(self, rows: Iterable[ExchangeRow]) -> None:
        for row in rows:
            self.add(row)

    def findings(self) -> list[Diagnosis]:
        """In plain words, the worst first; nothing when all is well."""
        by_line: dict[str, list[Counted]] = {}
        for own in self.counted.values():
            by_line.setdefault(own.line, []).append(own)
        return look_at(tuple(self._line(name, counted) for name, counted in by_line.items()))

    def _line(self, name: str, counted: list[Counted]) -> LineStatus:
        devices = tuple(self._device(own) for own in counted)
        line = Line(name, link_of(counted[0].link), tuple(status.device for status in devices))
        lost = all(set(own.kinds) == {OutcomeKind.UNREACHABLE} for own in counted)
        return LineStatus(
            line=line, is_open=not lost, is_off=False, why_unreachable="nothing got through to it" if lost else "",
            next_connect_s=0.0, water=WaterLevels((), (), -1, -1, 0.0), busy=0.0, exchanges_per_s=0.0, overruns=0,
            late_answers=0, has_found_echo=False, devices=devices,
        )  # fmt: skip

    def _device(self, own: Counted) -> DeviceStatus:
        is_silent = own.silences_in_a_row > 1 or (own.last_good_us is None and OutcomeKind.TIMEOUT in own.kinds)
        since_us = own.last_good_us if own.last_good_us is not None else own.first_us
        return DeviceStatus(
            device=Device(own.name, own.unit_id, (), 1.0, 0), tally=_tally(own),
            silent_s=(self.last_us - since_us) / 1e6 if is_silent else None, next_try_s=0.0, notice_within_s=0.0,
            reason="", trouble=None, has_answered=own.last_good_us is not None, is_slow=False,
        )  # fmt: skip


def _tally(own: Counted) -> Tally:
    kinds = own.kinds
    return Tally(
        kinds.get(OutcomeKind.GOOD, 0), own.codes, kinds.get(OutcomeKind.TIMEOUT, 0), kinds.get(OutcomeKind.GARBLED, 0),
        kinds.get(OutcomeKind.UNEXPECTED, 0), kinds.get(OutcomeKind.UNREACHABLE, 0), tuple(own.times), own.sent,
        own.received,
    )  # fmt: skip
