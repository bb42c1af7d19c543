"""What a report holds: the site, its checkout, and what was kept of it over a span of time. What is missing is
said, never left out."""

import sqlite3
from collections.abc import Collection, Sequence
from pathlib import Path

from msgspec import Struct

from kanaleto import __version__
from kanaleto.files.beside import folder_beside
from kanaleto.files.origins import look_around, origin_of
from kanaleto.history.journal import journals_of
from kanaleto.history.journalfile import JournalEvent, NewerFile, events_of
from kanaleto.proof.checkout import Checkout, sheet_path
from kanaleto.proof.claims import Claim
from kanaleto.site.model import Site

_ERRORS = (
    "line down", "device lost", "device slow", "unanswered", "exception", "garbled", "unexpected", "late", "overrun",
    "gateway", "watchdog", "limit", "fault",
)  # fmt: skip
_MOST_EVENTS = 400


class DeviceTalk(Struct):
    """How a device did over the time, out of the record; times in microseconds."""

    line: str
    device: str
    asked: int = 0
    good: int = 0
    silent: int = 0
    garbled: int = 0
    strange: int = 0
    unreachable: int = 0
    refused: int = 0
    medians: list[int] = []
    most: list[int] = []


class LineLoad(Struct):
    """How busy a line was, a share of each minute."""

    line: str
    origin: str
    busy: list[float] = []


class ReportFacts(Struct):
    """`missing` says what there is none of, in sentences, by section."""

    site: Site
    claims: list[Claim]
    messages: list[str]
    origins: dict[str, str]
    who: list[str]
    from_us: int | None
    to_us: int | None
    note: str
    version: str
    devices: list[DeviceTalk]
    loads: list[LineLoad]
    journal: list[JournalEvent]
    errors: list[JournalEvent]
    writes: list[JournalEvent]
    more_errors: int
    more_writes: int
    missing: dict[str, str]


def gather(
    site: Site, path: Path, from_us: int | None, to_us: int | None, devices: Collection[str], note: str
) -> ReportFacts:
    """Raises CannotKeep where the sheet cannot be read."""
    look_around()
    checkout = Checkout(site, sheet_path(path))
    claims = checkout.claims(devices)
    missing: dict[str, str] = {}
    events = _events(path, from_us, to_us, devices, missing)
    errors = [event for event in events if event.kind in _ERRORS]
    writes = [event for event in events if event.kind == "write"]
    talked, loads = _communication(site, path, from_us, to_us, devices, missing)
    if not claims:
        missing["checkout"] = "nothing is to be proved: the site has no points, or its maps say prove = no"
    elif not any(claim.lines for claim in claims):
        missing["checkout"] = "nothing has been proved yet: there is no evidence in the checkout sheet"
    who = sorted({line.who for claim in claims for line in claim.lines if line.who})
    origins = {line.name: origin_of(line).value for line in site.lines}
    messages = [*checkout.sheet.messages, *checkout.gone(claims)]
    return ReportFacts(
        site, claims, messages, origins, who, from_us, to_us, note, __version__, talked, loads,
        events, errors[-_MOST_EVENTS:], writes[-_MOST_EVENTS:], max(len(errors) - _MOST_EVENTS, 0),
        max(len(writes) - _MOST_EVENTS, 0), missing,
    )  # fmt: skip


def _events(
    path: Path, from_us: int | None, to_us: int | None, devices: Collection[str], missing: dict[str, str]
) -> list[JournalEvent]:
    found: list[JournalEvent] = []
    paths = journals_of(folder_beside(path))
    if not paths:
        missing["errors"] = missing["writes"] = "there is no journal yet: it begins when the site is opened or polled"
    for file in paths:
        try:
            found += list(events_of(file, from_us, to_us))
        except (sqlite3.Error, NewerFile, OSError) as error:
            missing["errors"] = missing["writes"] = f"{file} cannot be read: {error}"
    if devices:
        found = [event for event in found if not event.device or event.device in devices]
    return sorted(found, key=lambda event: event.begun)


def _communication(
    site: Site, path: Path, from_us: int | None, to_us: int | None, devices: Collection[str], missing: dict[str, str]
) -> tuple[list[DeviceTalk], list[LineLoad]]:
    from sqlalchemy.exc import SQLAlchemyError

    from kanaleto.history.query import History
    from kanaleto.history.recorderprocess import records_of
    from kanaleto.history.schema import NewerStore

    talked: dict[tuple[str, str], DeviceTalk] = {}
    loads: dict[str, LineLoad] = {}
    stores = [str(one) for one in records_of(folder_beside(path))]
    if not stores:
        missing["communication"] = "nothing was recorded yet: R in the application, or kanaleto poll --record"
    for store in stores:
        try:
            history = History(store)
        except (SQLAlchemyError, NewerStore, OSError, ValueError) as error:
            missing["communication"] = f"{store} cannot be read: {error}"
            continue
        try:
            for row in history.minutes(from_us, to_us):
                if row["site"] == site.name:
                    _add(row, talked, loads)
        except SQLAlchemyError as error:
            missing["communication"] = f"{store} cannot be read: {error}"
        finally:
            history.close()
    if stores and not talked and "communication" not in missing:
        missing["communication"] = "nothing was recorded in that time"
    order = {device.name: number for number, (_, device) in enumerate(site.devices())}
    shown = [talk for talk in talked.values() if not devices or talk.device in devices]
    return sorted(shown, key=lambda talk: order.get(talk.device, len(order))), list(loads.values())


def _add(row: dict[str, object], talked: dict[tuple[str, str], DeviceTalk], loads: dict[str, LineLoad]) -> None:
    line, device = str(row["name"]), str(row["device"])
    if not device:
        if isinstance(row["busy"], float):
            loads.setdefault(line, LineLoad(line, str(row["origin"]), [])).busy.append(row["busy"])
        return
    talk = talked.setdefault((line, device), DeviceTalk(line, device, medians=[], most=[]))
    for key in ("asked", "good", "silent", "garbled", "strange", "unreachable"):
        setattr(talk, key, getattr(talk, key) + _whole(row[key]))
    talk.refused += max(_whole(row["asked"]) - sum(
        _whole(row[key]) for key in ("good", "silent", "garbled", "strange", "unreachable")
    ), 0)  # fmt: skip
    if row["median_us"] is not None:
        talk.medians.append(_whole(row["median_us"]))
    if row["most_us"] is not None:
        talk.most.append(_whole(row["most_us"]))


def _whole(value: object) -> int:
    return value if isinstance(value, int) else 0


def left_of(claims: Sequence[Claim]) -> list[Claim]:
    """What is still to be done, what went wrong first."""
    order = {"failed": 0, "disputed": 1, "again": 2, "rehearsed": 4, "open": 3}
    return sorted((claim for claim in claims if claim.is_left), key=lambda claim: order.get(claim.state.value, 5))
