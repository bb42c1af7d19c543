"""A capture that was asked for: JSON lines or pcapng by its ending, rotated by size, the oldest of so many dropped."""

import math
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import BinaryIO

from kanaleto.capture import jsonlines
from kanaleto.capture.jsonlines import CapturedLine, NoCapture
from kanaleto.capture.pcapng import PcapngWriter
from kanaleto.capture.row import ExchangeRow

MOST_BYTES, MOST_FILES = 100_000_000, 10
_ENDINGS = (".jsonl", ".pcapng")


def need_new(path: Path) -> None:
    """Raises NoCapture where no capture can be begun there."""
    if path.suffix.lower() not in _ENDINGS:
        raise NoCapture(f"{path.name} does not tell its form; end it in .jsonl or .pcapng")
    if path.exists():
        raise NoCapture(f"{path} is there already; name another file")
    if not path.absolute().parent.is_dir():
        raise NoCapture(f"{path} cannot be written: there is no folder {path.absolute().parent}")


class CaptureFile:
    """Raises NoCapture where the file cannot be begun; later faults are OSError."""

    def __init__(
        self,
        path: Path,
        site: str,
        lines: Sequence[CapturedLine],
        most_bytes: int = MOST_BYTES,
        most_files: int = MOST_FILES,
    ) -> None:
        need_new(path)
        self.path = path
        self._site, self._lines = site, lines
        self._most_bytes, self._most_files = most_bytes, most_files
        self._pcapng = PcapngWriter() if path.suffix.lower() == ".pcapng" else None
        self._number, self._size, self._paths = 0, 0, list[Path]()
        try:
            self._file = self._begin()
        except OSError as error:
            raise NoCapture(f"{path} cannot be written: {error.strerror or error}") from None

    def _begin(self) -> BinaryIO:
        self._number += 1
        path = self.path if self._number == 1 else self.path.with_stem(f"{self.path.stem}-{self._number:04}")
        file = path.open("xb" if self._number == 1 else "wb")
        head = self._pcapng.begin() if self._pcapng is not None else jsonlines.head(self._site, self._lines)
        file.write(head)
        file.flush()
        self._size = len(head)
        self._paths.append(path)
        if len(self._paths) > self._most_files:
            self._paths.pop(0).unlink(missing_ok=True)
        return file

    def put(self, rows: list[ExchangeRow], before_us: float = math.inf) -> None:
        """Exchanges, on disk when this gives back. Packets of `before_us` and later wait: an exchange that is still
        under way may have earlier ones."""
        if self._pcapng is None:
            self._write(jsonlines.line_of(row) for row in rows)
            return
        for row in rows:
            self._pcapng.take(row)
        self._write(self._pcapng.ready(before_us))

    def _write(self, pieces: Iterable[bytes]) -> None:
        has_written = False
        for data in pieces:
            self._file.write(data)
            self._size += len(data)
            has_written = True
            if self._size > self._most_bytes:
                self._file.close()
                self._file = self._begin()
        if has_written:
            self._file.flush()

    def close(self) -> None:
        if self._pcapng is not None:
            self._write(self._pcapng.ready(math.inf))
        self._file.close()
