"""Exchanges read back, from whatever keeps them: a tape, a capture of JSON lines, pcapng or pcap, or all the tape of a
site. One at a time: a file may be larger than memory."""

from collections.abc import Callable, Iterator
from pathlib import Path

from kanaleto.capture import jsonlines, packets, packing
from kanaleto.capture.jsonlines import NoCapture
from kanaleto.capture.packing import BlockHead
from kanaleto.capture.pairing import Pairing
from kanaleto.capture.row import ExchangeRow
from kanaleto.capture.tape import files_of, note_looked_at

__all__ = ["Capture", "NoCapture"]

_MOST_US = 247_000_000_000_000_000
"""Some centuries before dates end."""
IsWanted = Callable[[BlockHead], bool]


class Capture:
    """`path` is a file, or the folder of a site's tape. Iterating gives exchanges; `damaged` says afterwards what could
    not be read, at most so many sentences. Raises NoCapture where it is none at all, and OSError."""

    MOST_TOLD = 20

    def __init__(self, path: Path, wants: IsWanted = lambda head: True) -> None:
        self.path = path
        self.damaged: list[str] = []
        self._wants = wants
        if not path.is_dir() and not path.is_file():
            raise NoCapture(f"{path} is no ordinary file, and is not read")
        self._is_tape = path.is_dir() or packing.is_tape(path)
        if not self._is_tape and not packets.is_packets(path) and not jsonlines.is_json_lines(path):
            what = "is empty" if path.stat().st_size == 0 else "is none of these"
            raise NoCapture(f"{path} {what}: a capture as JSON lines, pcapng or pcap, or a tape of Kanaleto")

    @property
    def why(self) -> str:
        """What it was laid aside for; empty where it was not."""
        return str(packing.head_of(self.path).get("why", "")) if self.path.is_file() and self._is_tape else ""

    def __iter__(self) -> Iterator[ExchangeRow]:
        strange = 0
        for row in self._rows():
            if 0 <= row.at_us < _MOST_US:
                yield row
            else:
                strange += 1
        if strange:
            self.damaged.append(f"{strange} exchanges were passed over: their time is before 1970 or after 9700")

    def _rows(self) -> Iterator[ExchangeRow]:
        if self._is_tape:
            for path in files_of(self.path) if self.path.is_dir() else [self.path]:
                yield from self._of_tape(path)
        elif packets.is_packets(self.path):
            yield from self._of_packets()
        else:
            damaged = _Bounded(self.damaged, self.MOST_TOLD)
            with self.path.open("rb") as file:
                yield from jsonlines.read(file, self.path.name, damaged)

    def _of_tape(self, path: Path) -> Iterator[ExchangeRow]:
        note_looked_at(path)
        damaged = _Bounded(self.damaged, self.MOST_TOLD)
        try:
            with path.open("rb") as file:
                for head in packing.heads(file, damaged, path.name):
                    if not self._wants(head):
                        continue
                    try:
                        yield from packing.unpack(packing.body_of(file, head), head.rows)
                    except ValueError as error:
                        damaged.append(f"{path.name}: {error}")
        except FileNotFoundError:  # the ring has gone on meanwhile
            return

    def _of_packets(self) -> Iterator[ExchangeRow]:
        pairing = Pairing()
        with self.path.open("rb") as file:
            for packet in packets.read(file, self.path.name, _Bounded(self.damaged, self.MOST_TOLD)):
                yield from pairing.take(packet)
            yield from pairing.rest()
        for linktype, count in sorted(pairing.unknown.items()):
            self.damaged.append(f"{count} packets of link type {linktype} were passed over: it is not known here")
        if pairing.others:
            self.damaged.append(f"{pairing.others} packets of other protocols were passed over")
        if pairing.gaps:
            self.damaged.append(f"{pairing.gaps} times bytes of a connection are missing in the capture")


class _Bounded(list[str]):
    """Passes sentences on, the first so many."""

    def __init__(self, target: list[str], most: int) -> None:
        super().__init__()
        self._target, self._most = target, most

    def append(self, text: str) -> None:
        if len(self._target) < self._most:
            self._target.append(text)
        elif len(self._target) == self._most:
            self._target.append("and more of the kind")
