"""A capture as JSON lines: the first says what it is, each other one is an exchange."""

import json
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, BinaryIO, NamedTuple

from kanaleto import __version__
from kanaleto.capture.row import ExchangeRow
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.origin import Origin

MOST_LINE = 1 << 20


class NoCapture(Exception):
    """One sentence: why a file is no capture, or what in it is not."""


class CapturedLine(NamedTuple):
    """`exact_ms` is how late a byte of it may have been seen."""

    name: str
    link: str
    origin: str = Origin.REAL.value
    exact_ms: float = 0.0


def head(site: str, lines: Sequence[CapturedLine]) -> bytes:
    """The first line."""
    fields = {
        "kanaleto_capture": 1,
        "site": site,
        "lines": [line._asdict() for line in lines],
        "version": __version__,
        "clock": "at: when the first byte of the request went; sent_ms, first_ms, last_ms after that",
    }
    return json.dumps(fields, ensure_ascii=False).encode() + b"\n"


def lines_of(path: Path) -> list[CapturedLine]:
    """What the first line of a capture says of its lines; nothing where it is none of this form."""
    try:
        with path.open("rb") as file:
            lines = json.loads(file.readline(MOST_LINE))["lines"]
        return [
            CapturedLine(str(one["name"]), str(one["link"]), str(one.get("origin", Origin.REAL.value)),
                         float(one.get("exact_ms", 0.0)))
            for one in lines
        ]  # fmt: skip
    except (OSError, ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return []


def iso_us(at_us: int) -> str:
    """UTC, to the microsecond."""
    moment = datetime.fromtimestamp(at_us // 1_000_000, UTC).replace(microsecond=at_us % 1_000_000)
    return moment.isoformat(timespec="microseconds").replace("+00:00", "Z")


def as_object(row: ExchangeRow) -> dict[str, Any]:
    """An exchange as captures and `kanaleto wire --json` have it."""
    return {
        "at": iso_us(row.at_us),
        "line": row.line,
        "unit_id": row.unit_id,
        "request": row.request.hex(),
        "answer": row.answer.hex(),
        "outcome": row.kind.value,
        "took_ms": row.took_us / 1000,
        "attempt": row.attempt,
        "device": row.device,
        "origin": row.origin,
        "sent_ms": row.sent_us / 1000,
        "first_ms": row.first_us / 1000,
        "last_ms": row.last_us / 1000,
        "reason": row.reason,
    }


def line_of(row: ExchangeRow) -> bytes:
    return json.dumps(as_object(row), ensure_ascii=False, separators=(", ", ": ")).encode() + b"\n"


def read(file: BinaryIO, name: str, damaged: list[str]) -> Iterator[ExchangeRow]:
    """Exchanges of a capture, line by line; what is none is reported in `damaged` and passed over."""
    links: dict[str, str] = {}
    number = place = 0
    while raw := file.readline(MOST_LINE):
        number += 1
        place += len(raw)
        text = raw.strip()
        if not text:
            continue
        try:
            entry = json.loads(text)
            if not isinstance(entry, dict):
                raise ValueError("is no object")
            if "kanaleto_capture" in entry:
                links = _links_of(entry, name)
                continue
            yield _row(entry, links)
        except (ValueError, KeyError, TypeError, OverflowError, RecursionError) as error:
            cut = not raw.endswith(b"\n")
            why = "is cut short" if cut else f"is no exchange: {_why(error)}"
            damaged.append(f"{name}, line {number}, {why}")


def _links_of(entry: dict[str, Any], name: str) -> dict[str, str]:
    version = entry["kanaleto_capture"]
    if not isinstance(version, int) or version > 1:
        raise NoCapture(f"{name} was written by a newer version of Kanaleto (capture {version}; this one knows 1)")
    lines = entry.get("lines")
    return {str(one["name"]): str(one["link"]) for one in lines} if isinstance(lines, list) else {}


def _row(entry: dict[str, Any], links: dict[str, str]) -> ExchangeRow:
    moment = datetime.fromisoformat(str(entry["at"]).replace("Z", "+00:00"))
    if moment.tzinfo is None:
        moment = moment.replace(tzinfo=UTC)
    since = moment - datetime(1970, 1, 1, tzinfo=UTC)
    last = _micros(entry.get("last_ms", entry.get("took_ms", 0)))
    line = str(entry["line"])
    unit_id = int(entry["unit_id"])
    if not 0 <= unit_id <= 255:
        raise ValueError(f"unit ID {unit_id} is not in 0…255")
    return ExchangeRow(
        (since.days * 86400 + since.seconds) * 1_000_000 + since.microseconds,
        line,
        links.get(line, ""),
        str(entry.get("origin", Origin.REAL.value)),
        str(entry.get("device") or ""),
        unit_id,
        OutcomeKind(entry["outcome"]),
        int(entry.get("attempt", 0)),
        bytes.fromhex(entry["request"]),
        bytes.fromhex(entry.get("answer") or ""),
        _micros(entry.get("sent_ms", 0)),
        _micros(entry.get("first_ms", 0)),
        last,
        str(entry.get("reason", "")),
    )


def _micros(milliseconds: object) -> int:
    if isinstance(milliseconds, bool) or not isinstance(milliseconds, int | float) or not 0 <= milliseconds < 1e10:
        raise ValueError(f"{milliseconds!r} is no number of milliseconds")
    return round(milliseconds * 1000)


def _why(error: Exception) -> str:
    return f"it has no {error}" if isinstance(error, KeyError) else str(error)


def is_json_lines(path: Path) -> bool:
    with path.open("rb") as file:
        return file.read(64).lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"{")
