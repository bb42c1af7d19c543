"""`--health HOST:PORT`: how a service does, for people (`GET /`: 200 while every line is well, else 503) and for what
collects figures (`GET /metrics`, Prometheus text). On loopback unless another address is named."""

import asyncio
from collections.abc import Callable, Iterator
from contextlib import suppress

from msgspec import Struct

from kanaleto.board.snapshot import Snapshot
from kanaleto.cli.failures import Failed
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.links.link import LOOPBACK
from kanaleto.supervision.owned import report
from kanaleto.values.visible import visible

_MOST_BYTES, _MOST_AT_ONCE, _WITHIN_S = 8192, 32, 5.0
_PERIODS, _LEAST_S = 3, 1.0
_MOST_SERIES = 2000
_HELP = {
    "kanaleto_line_up": "whether a line is connected, or served",
    "kanaleto_line_busy_ratio": "the share of the last minute in which a line was busy",
    "kanaleto_exchanges_total": "requests by their outcome",
    "kanaleto_answer_seconds": "how long good answers took, of the last 256",
    "kanaleto_bridge_requests_total": "requests of masters that a bridge passed on, by what came of them",
    "kanaleto_bridge_waiting": "requests of masters that wait for a line",
    "kanaleto_bridge_clients": "masters that are connected to a bridge",
    "kanaleto_moves_late_seconds_total": "bench time that was left out since the machine was too slow",
}


class HealthLine(Struct, frozen=True):
    """A line, whether it is well, and what is to be said of it."""

    name: str
    is_well: bool
    text: str


class HealthFigure(Struct, frozen=True):
    """One figure: its name, its labels, the number."""

    name: str
    labels: tuple[tuple[str, str], ...]
    value: float


def parse_place(text: str) -> tuple[str, int]:
    """`127.0.0.1:9100`, `[::1]:9100`, `:9100` or `9100`. Raises ValueError with one sentence."""
    host, colon, port = text.strip().rpartition(":")
    host = host.strip("[]") or LOOPBACK
    if not port.isdecimal() or not 0 <= int(port) <= 65535:
        raise ValueError(f"{text!r} is no place to listen on: write HOST:PORT, as in 127.0.0.1:9100")
    return (host if colon else LOOPBACK), int(port)


class Health:
    """Answers at one place; `lines` and `samples` are asked at each request, on the loop that it was started on."""

    def __init__(
        self,
        place: tuple[str, int],
        lines: Callable[[], list[HealthLine]],
        samples: Callable[[], Iterator[HealthFigure]],
    ) -> None:
        self.place = place
        self._lines, self._samples = lines, samples
        self._server: asyncio.Server | None = None
        self._count = 0

    async def start(self) -> None:
        """Raises Failed."""
        host, port = self.place
        try:
            self._server = await asyncio.start_server(self._answer, host, port, limit=_MOST_BYTES)
        except OSError as error:
            raise Failed(f"--health {host}:{port} cannot be bound: {error.strerror or error}") from None
        self.place = self._server.sockets[0].getsockname()[:2]

    def stop(self) -> None:
        if self._server is not None:
            self._server.close()

    async def _answer(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """One request a connection; who is slow or wrong costs nobody else anything."""
        self._count += 1
        try:
            if self._count <= _MOST_AT_ONCE:
                async with asyncio.timeout(_WITHIN_S):
                    head = await reader.readuntil(b"\r\n\r\n")
                    writer.write(self._made(head))
                    await writer.drain()
        except (TimeoutError, OSError, asyncio.IncompleteReadError, asyncio.LimitOverrunError):
            pass
        except Exception as error:  # an internal error costs this request
            report("health", error)
        finally:
            self._count -= 1
            with suppress(OSError):
                writer.close()

    def _made(self, head: bytes) -> bytes:
        method, _, rest = head.partition(b" ")
        path = rest.partition(b" ")[0].partition(b"?")[0]
        if method not in (b"GET", b"HEAD"):
            return _response("405 Method Not Allowed", "only GET is answered here\n", False)
        with_body = method == b"GET"
        if path == b"/":
            lines = self._lines()
            is_well = all(line.is_well for line in lines)
            text = "".join(f"{'well' if line.is_well else 'NOT WELL'}  {line.name}: {line.text}\n" for line in lines)
            return _response("200 OK" if is_well else "503 Service Unavailable", text or "no lines\n", with_body)
        if path == b"/metrics":
            return _response("200 OK", text_of(self._samples()), with_body, "text/plain; version=0.0.4; charset=utf-8")
        return _response("404 Not Found", "there are / and /metrics\n", with_body)


def _response(status: str, text: str, with_body: bool, kind: str = "text/plain; charset=utf-8") -> bytes:
    data = text.encode()
    head = f"HTTP/1.1 {status}\r\nContent-Type: {kind}\r\nContent-Length: {len(data)}\r\nConnection: close\r\n\r\n"
    return head.encode() + (data if with_body else b"")


def text_of(samples: Iterator[HealthFigure]) -> str:
    """Prometheus text, at most so many series."""
    by_name: dict[str, list[HealthFigure]] = {}
    for count, sample in enumerate(samples):
        if count >= _MOST_SERIES:
            break
        by_name.setdefault(sample.name, []).append(sample)
    rows: list[str] = []
    for name, figures in by_name.items():
        kind = "counter" if name.endswith("_total") else "gauge"
        rows += [f"# HELP {name} {_HELP.get(name, '')}".rstrip(), f"# TYPE {name} {kind}"]
        for sample in figures:
            labels = ",".join(f'{key}="{_escaped(value)}"' for key, value in sample.labels)
            rows.append(f"{name}{{{labels}}} {sample.value:.9g}" if labels else f"{name} {sample.value:.9g}")
    return "\n".join(rows) + "\n"


def _escaped(text: str) -> str:
    return visible(text).replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")


def polled_lines(snapshot: Snapshot) -> list[HealthLine]:
    """A line is well that is connected and gave a good answer within three of its periods."""
    found: list[HealthLine] = []
    for status in snapshot.lines:
        blocks = [block for block in snapshot.plan.blocks_of(status.line) if block.period_s > 0]
        times = [record.at_s for block in blocks if (record := snapshot.board.records[block.index]) is not None]
        within_s = max(_PERIODS * min((block.period_s for block in blocks), default=0.0), _LEAST_S)
        age_s = snapshot.now_s - max(times) if times else None
        if status.why_unreachable or not status.is_open:
            found.append(HealthLine(status.line.name, False, status.why_unreachable or "not connected"))
        elif blocks and (age_s is None or age_s > within_s):
            text = "no good answer yet" if age_s is None else f"the last good answer is {age_s:.1f} s old"
            found.append(HealthLine(status.line.name, False, text))
        else:
            silent = len(status.silent)
            text = f"{100 * status.busy:.0f} % busy, {status.exchanges_per_s:.1f}/s"
            found.append(HealthLine(status.line.name, True, text + (f", {silent} silent" if silent else "")))
    return found


def polled_samples(snapshot: Snapshot) -> Iterator[HealthFigure]:
    well = {line.name: line.is_well for line in polled_lines(snapshot)}
    for status in snapshot.lines:
        of_line = (("line", status.line.name),)
        yield HealthFigure("kanaleto_line_up", of_line, float(well[status.line.name]))
        yield HealthFigure("kanaleto_line_busy_ratio", of_line, status.busy)
    for status in snapshot.lines:
        for device_status in status.devices:
            labels = (("line", status.line.name), ("device", device_status.device.name))
            tally = device_status.tally
            counts = {
                OutcomeKind.GOOD: tally.good, OutcomeKind.EXCEPTION: sum(tally.exceptions.values()),
                OutcomeKind.TIMEOUT: tally.timeouts, OutcomeKind.GARBLED: tally.garbled,
                OutcomeKind.UNEXPECTED: tally.unexpected, OutcomeKind.UNREACHABLE: tally.unreachable,
            }  # fmt: skip
            for kind, count in counts.items():
                yield HealthFigure("kanaleto_exchanges_total", (*labels, ("outcome", kind.value)), count)
            if tally.took is not None:
                for quantile, seconds in (("0.5", tally.took[1]), ("0.95", tally.took[2])):
                    yield HealthFigure("kanaleto_answer_seconds", (*labels, ("quantile", quantile)), seconds)
