"""How each device answers and what that looks like, for the panel beside the bytes: of the last ten minutes, an hour,
round the cursor, or all of a capture; counted again now and then, on the thread that reads."""

from collections.abc import Mapping, Sequence
from concurrent.futures import Future
from enum import Enum
from time import monotonic

from kanaleto.capture.reel import Reel
from kanaleto.capture.row import ExchangeRow
from kanaleto.capture.served import ServedPoints
from kanaleto.evidence.finding import WireFinding
from kanaleto.evidence.findings import findings_of, remarks_of
from kanaleto.evidence.gathered import Gathered, OfDevice
from kanaleto.evidence.owncounts import OwnCounts
from kanaleto.lines.portcounters import PortCounters, port_text

_LEAST_APART_S, _TIMES_AS_LONG = 3.0, 8.0
_MINUTE_US = 60_000_000


class AnswersOf(Enum):
    """Of when. The value says it on the screen."""

    MINUTES = "the last 10 min"
    HOUR = "the last hour"
    CURSOR = "5 min round the cursor"
    ALL = "all that is kept"

    @property
    def next(self) -> "AnswersOf":
        spans = list(AnswersOf)
        return spans[(spans.index(self) + 1) % len(spans)]


class Looking:
    """`devices`, `findings` and `remarks` are of the last counting that was finished."""

    def __init__(self) -> None:
        self.span = AnswersOf.MINUTES
        self.order: Sequence[tuple[str, int]] = ()
        """Line and unit ID of the devices of the open site, in its order."""
        self.served: ServedPoints | None = None
        """Of the open site, where it is its exchanges."""
        self.ports: Mapping[str, PortCounters | None] = {}
        """What the ports of lines have counted by themselves."""
        self.devices: list[OfDevice] = []
        self.findings: list[WireFinding] = []
        self.remarks: list[str] = []
        self.rows = 0
        self.version = 0
        self.when: list[str] = []
        """When it fails, in words, once that was asked."""
        self._of: object = None
        self._counting: tuple[Gathered, OwnCounts, Future[None]] | None = None
        self._begun_s = self._due_s = 0.0

    def look(
        self, reel: Reel, key: int | None, now_us: int, is_over: bool, timeouts_us: Mapping[tuple[str, int], int]
    ) -> bool:
        """Begin where it is time, take what is done; whether there is something new. `key` is the cursor's; of what is
        over there is no need to count twice."""
        has_news = self._take()
        ranked = reel.newest
        if not len(ranked):
            return has_news
        first, last = ranked.parts[0].first, 1 << 62
        match self.span:
            case AnswersOf.MINUTES:
                first = now_us - 10 * _MINUTE_US
            case AnswersOf.HOUR:
                first = now_us - 60 * _MINUTE_US
            case AnswersOf.CURSOR:
                middle = key if key is not None else now_us
                first, last = middle - 5 * _MINUTE_US, middle + 5 * _MINUTE_US
        of = (reel, self.span, key if self.span is AnswersOf.CURSOR else None, len(ranked) if is_over else None)
        if of != self._of and self._counting is not None and (self._of is None or of[:2] != self._of[:2]):  # type: ignore[index]
            self._counting[2].cancel()
            self._counting = None
        is_due = of != self._of or (not is_over and monotonic() >= self._due_s)
        if self._counting is None and is_due:
            gathered, counts = Gathered(timeouts_us), OwnCounts(self.served)

            def add(row: ExchangeRow) -> None:
                gathered.add(row)
                counts.add(row)

            self._of, self._begun_s = of, monotonic()
            self._counting = gathered, counts, reel.each(ranked, first, last, add)
        return has_news

    def say_when(self, texts: list[str]) -> None:
        self.when = texts
        self.version += 1

    def _take(self) -> bool:
        if self._counting is None or not self._counting[2].done():
            return False
        gathered, own_counts, done = self._counting
        self._counting = None
        took_s = monotonic() - self._begun_s
        self._due_s = monotonic() + max(_LEAST_APART_S, _TIMES_AS_LONG * took_s)
        if done.cancelled() or done.exception() is not None:
            return False
        lines = list(gathered.lines.values())
        order = {place: number for number, place in enumerate(self.order)}
        self.devices = sorted(gathered.devices, key=lambda device: order.get((device.line, device.unit_id), len(order)))
        self.rows = gathered.rows
        self.findings = findings_of(lines)
        ports = (
            port_text(
                line.name, self.ports.get(line.name), sum(device.garbled.count for device in line.devices.values())
            )
            for line in lines
        )
        self.remarks = [*remarks_of(lines, self.findings), *(text for text in ports if text), *own_counts.sentences()]
        self.version += 1
        return True
