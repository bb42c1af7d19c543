"""What a simulated device has beside its tables: files of records, queues, its identification."""

from kanaleto import __version__
from kanaleto.site.model import Device
from kanaleto.wire.codes import ExceptionCode
from kanaleto.wire.identity import Identify, Identity, answer_from
from kanaleto.wire.records import MOST_FIFO, Fifo, FileRead, ReadFifo, ReadFile, WriteFile


class Extras:
    """From the site file: `files`, `fifos`, `identity`, `server_id`."""

    def __init__(self, device: Device) -> None:
        simulated = device.simulated
        self.server_id = (simulated.server_id or device.name).encode("utf-8")[:100]
        self._files = {(file, first): bytearray(2 * (last - first + 1)) for file, first, last in simulated.files}
        self._fifos = dict(simulated.fifos)
        objects = {0: "Kanaleto", 1: device.name, 2: __version__} | dict(simulated.identity)
        self._objects = {number: text.encode("utf-8") for number, text in objects.items()}

    def do(
        self, request: ReadFile | WriteFile | ReadFifo | Identify
    ) -> FileRead | WriteFile | Fifo | Identity | ExceptionCode:
        """The answer, or the exception."""
        match request:
            case ReadFile():
                return self._read(request)
            case WriteFile():
                return self._write(request)
            case ReadFifo():
                words = self._fifos.get(request.address)
                if words is None:
                    return ExceptionCode.ILLEGAL_DATA_ADDRESS
                return Fifo(words) if len(words) <= MOST_FIFO else ExceptionCode.ILLEGAL_DATA_VALUE
            case Identify():
                return answer_from(self._objects, request)

    def _place(self, file: int, record: int, count: int) -> tuple[bytearray, int] | None:
        """The records and where in them the span begins, in bytes; None where it is not all there."""
        for (number, first), data in self._files.items():
            start = 2 * (record - first)
            if number == file and start >= 0 and start + 2 * count <= len(data):
                return data, start
        return None

    def _read(self, request: ReadFile) -> FileRead | ExceptionCode:
        parts = []
        for span in request.spans:
            place = self._place(span.file, span.record, span.count)
            if place is None:
                return ExceptionCode.ILLEGAL_DATA_ADDRESS
            data, start = place
            parts.append(bytes(data[start : start + 2 * span.count]))
        return FileRead(tuple(parts))

    def _write(self, request: WriteFile) -> WriteFile | ExceptionCode:
        places = [self._place(part.file, part.record, len(part.data) // 2) for part in request.parts]
        if any(place is None for place in places):
            return ExceptionCode.ILLEGAL_DATA_ADDRESS
        for part, place in zip(request.parts, places, strict=True):
            if place is not None:
                data, start = place
                data[start : start + len(part.data)] = part.data
        return request
