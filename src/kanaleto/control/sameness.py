"""Whether a device is the one that the site knows, before it is written to: by the stable name of its adapter, by its
identification, by the point that is its tag. Asked once a connection; what is known stays beside the site."""

import asyncio
import json
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from msgspec import Struct, ValidationError
from msgspec.json import decode

from kanaleto.files.texts import CannotRead, read_bounded
from kanaleto.files.whole import write_whole
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.lines.stablenames import port_now, stable_name
from kanaleto.polling.line import LinePoller
from kanaleto.site.model import Device, Line
from kanaleto.wire.codes import Function
from kanaleto.wire.identity import OBJECT_NAMES, Depth, Identify, Identity
from kanaleto.wire.pdu import Read, ReadAnswer, Request

FILE = "known.json"
_MOST_BYTES = 4_000_000
_REFUSED = "refused"


class KnownDevice(Struct):
    """What is known of a device: empty is not known. `has_no_identity` where it does not answer identification."""

    adapter: str = ""
    identity: dict[str, str] = {}
    tag: str = ""
    has_no_identity: bool = False


class Sameness:
    """`folder` gives where what is known stands, or None where nothing is kept. For the engine's loop."""

    def __init__(self, folder: Callable[[], Path | None], adapter_of: Callable[[str], str] = stable_name) -> None:
        self._folder, self._adapter_of = folder, adapter_of
        self._known: dict[str, KnownDevice] = {}
        self._read_from: Path | None = None
        self._compared: dict[str, tuple[LinePoller, int, int]] = {}
        self._found: dict[str, KnownDevice] = {}

    async def compare(self, poller: LinePoller, device: Device) -> str:
        """How it differs from what is known, or nothing. What was not known is known from now on."""
        key = (poller, device.unit_id, poller.connection.openings if not poller.line.connects_per_request else 0)
        if self._compared.get(device.name) == key:
            return ""
        await self._load()
        known = self._known.get(device.name, KnownDevice())
        found = await self._look(poller, device, known)
        differs = list(_differences(poller.line, known, found))
        if differs:
            self._found[device.name] = found
            return f"{device.name} is not as it was: {'; '.join(differs)}"
        self._compared[device.name] = key
        await self._learn(device.name, known, found)
        return ""

    async def accept(self, poller: LinePoller, device: Device) -> None:
        """Somebody has said that it is the right one, as it was found."""
        found = self._found.pop(device.name, None)
        if found is not None:
            await self._learn(device.name, KnownDevice(), found)
            self._compared[device.name] = (poller, device.unit_id, poller.connection.openings)

    async def _look(self, poller: LinePoller, device: Device, known: KnownDevice) -> KnownDevice:
        link = poller.line.link
        found = KnownDevice()
        if link.local_port is not None:
            found.adapter = self._adapter_of(port_now(link.local_port, poller.line.prefer_port))
        functions = device.limits.functions
        if not known.has_no_identity and (functions is None or Function.ENCAPSULATED in functions):
            found.identity, found.has_no_identity = await self._identity(poller, device)
        else:
            found.has_no_identity = known.has_no_identity
        point = next((point for point in device.points if point.name == device.tag), None)
        if point is not None and point.access.is_read:
            outcome = await self._ask(poller, device, Read(point.table, point.address, point.size))
            found.tag = outcome.data.hex() if isinstance(outcome, ReadAnswer) else _REFUSED if outcome is False else ""
        return found

    async def _identity(self, poller: LinePoller, device: Device) -> tuple[dict[str, str], bool]:
        content = await self._ask(poller, device, Identify(Depth.BASIC))
        if isinstance(content, Identity):
            objects = {
                OBJECT_NAMES.get(number, str(number)): raw.decode("utf-8", "replace") for number, raw in content.objects
            }
            return objects, False
        return {}, True  # nor is one that falls silent at it, or closes its connection, asked for it ever again

    async def _ask(self, poller: LinePoller, device: Device, request: Request) -> object:
        """The answer; False for a refusal, None where nothing sound came."""
        outcome = await poller.ask(device.unit_id, request, device.timeout_s, device)
        if outcome.is_good:
            return outcome.content
        return False if outcome.kind is OutcomeKind.EXCEPTION else None

    # What is kept

    async def _load(self) -> None:
        path = self._path()
        if path is None or path == self._read_from:
            return
        if self._read_from is not None:
            self._compared.clear()
        self._read_from = path
        self._known = await asyncio.to_thread(_read, path)

    def _path(self) -> Path | None:
        folder = self._folder()
        return folder / FILE if folder is not None else None

    async def _learn(self, name: str, known: KnownDevice, found: KnownDevice) -> None:
        new = KnownDevice(
            found.adapter or known.adapter, found.identity or known.identity, found.tag or known.tag,
            found.has_no_identity,
        )  # fmt: skip
        if self._known.get(name) == new:
            return
        self._known[name] = new
        path = self._path()
        if path is not None:
            text = json.dumps(
                {key: _plain(known_device) for key, known_device in sorted(self._known.items())},
                ensure_ascii=False,
                indent=1,
            )
            await asyncio.to_thread(_write, path, text)


def _plain(known: KnownDevice) -> dict[str, object]:
    return {
        "adapter": known.adapter,
        "identity": known.identity,
        "tag": known.tag,
        "has_no_identity": known.has_no_identity,
    }


def _read(path: Path) -> dict[str, KnownDevice]:
    """Nothing where there is none, or it is damaged: then all is learned again."""
    try:
        return decode(read_bounded(path, _MOST_BYTES), type=dict[str, KnownDevice])
    except (OSError, ValidationError, ValueError, CannotRead):
        return {}


def _write(path: Path, text: str) -> None:
    with suppress(OSError):
        path.parent.mkdir(parents=True, exist_ok=True)
        write_whole(path, text + "\n")


def _differences(line: Line, known: KnownDevice, found: KnownDevice) -> list[str]:
    differences: list[str] = []
    wanted = line.prefer_port
    if wanted and found.adapter and not found.adapter.endswith(wanted):
        differences.append(f"the adapter is {found.adapter}, the site wants {wanted}")
    elif known.adapter and found.adapter and known.adapter != found.adapter:
        differences.append(f"the adapter is {found.adapter}, it was {known.adapter}")
    for name in sorted(set(known.identity) | set(found.identity)):
        before, now = known.identity.get(name, ""), found.identity.get(name, "")
        if before and now and before != now:
            differences.append(f"{name.replace('_', ' ')} is {now!r}, it was {before!r}")
    if known.identity and found.has_no_identity:
        differences.append("it does not say what it is any more, and did so before")
    if known.tag and found.tag == _REFUSED != known.tag:
        differences.append("its tag cannot be read any more")
    elif known.tag and found.tag and known.tag != found.tag:
        differences.append(f"its tag reads {found.tag.upper()}, it was {known.tag.upper()}")
    return differences
