"""Who answers on a network range that the technician typed; never one that was not typed."""

import asyncio
import ipaddress
import re
from collections.abc import Callable
from enum import Enum

from msgspec import Struct

from kanaleto.lines.channel import Cause, Unreachable
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.opening import exchanger_for
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.probing.networkadapters import Adapter, adapters, relation
from kanaleto.probing.question import Never, first_question
from kanaleto.site.links.tcp import TcpLink

MOST_HOSTS = 4096
_AT_ONCE = 64
_OWN_UNITS = (255, 1, 0)  # the device itself is 255; many only know 1; 0 is accepted too


class HostState(Enum):
    """The value is the word used in JSON."""

    ANSWERS = "answers"
    ACCEPTS = "accepts"  # a connection, and nothing more
    REFUSED = "refused"
    SILENT = "silent"
    NO_ROUTE = "no route"


class HostFound(Struct, frozen=True):
    """One host and port: how it stands, in words, and which unit answered there."""

    host: str
    port: int
    state: HostState
    text: str
    unit_id: int | None = None


def parse_range(text: str) -> tuple[list[str], int]:
    """Hosts and port of `192.0.2.7`, `192.0.2.10-60`, `192.0.2.0/28` or a name, each with `:PORT` or 502. Raises
    ValueError."""
    place, port = text.strip().removeprefix("tcp://"), 502
    match = re.fullmatch(r"(.+):(\d+)", place) if place.count(":") == 1 else None
    if match is not None:
        place, port = match[1], int(match[2])
    if not 1 <= port <= 65535:
        raise ValueError(f"range {text!r}: port {port} is not in 1…65535")
    try:
        if "/" in place:
            network = ipaddress.ip_network(place, strict=False)
            if network.num_addresses > MOST_HOSTS + 2:
                raise ValueError(
                    f"range {text!r} has {network.num_addresses} addresses, {MOST_HOSTS} at most are asked at once"
                )
            return [str(host) for host in network.hosts()], port
        low_text, dash, high_text = place.partition("-")
        if dash and re.fullmatch(r"[\d.]+", place.replace("-", "")):
            low = ipaddress.IPv4Address(low_text.strip())
            high_text = high_text.strip()
            high = ipaddress.IPv4Address(
                high_text if "." in high_text else ".".join([*low_text.strip().split(".")[:3], high_text])
            )
            if high < low:
                raise ValueError(f"range {text!r} ends before it begins")
            if int(high) - int(low) >= MOST_HOSTS:
                raise ValueError(
                    f"range {text!r} has {int(high) - int(low) + 1} addresses, {MOST_HOSTS} at most are asked at once"
                )
            return [str(ipaddress.IPv4Address(number)) for number in range(int(low), int(high) + 1)], port
    except ipaddress.AddressValueError:
        raise ValueError(
            f"range {text!r} must read like 192.0.2.10-60, 192.0.2.0/28 or 192.0.2.7, with :PORT where it is not 502"
        ) from None
    except ValueError as error:
        if str(error).startswith("range"):
            raise
        raise ValueError(f"range {text!r}: {error}; write it like 192.0.2.10-60 or 192.0.2.0/28") from None
    if not re.fullmatch(r"[A-Za-z0-9._-]+|[0-9A-Fa-f:]+", place):
        raise ValueError(
            f"range {text!r} must read like 192.0.2.10-60, 192.0.2.0/28 or 192.0.2.7, with :PORT where it is not 502"
        )
    return [place], port


class HostSurvey:
    """`found` (by host), `asked` and `total` may be read from any thread while it runs."""

    def __init__(
        self,
        hosts: list[str],
        port: int,
        connect_s: float = 1.0,
        timeout_s: float = 0.5,
        never: Never = (),
        adapters_here: list[Adapter] | None = None,
        on_step: Callable[["HostSurvey"], None] | None = None,
    ) -> None:
        self.hosts, self.port = hosts, port
        self.found: dict[str, HostFound] = {}
        self._connect_s, self._timeout_s = connect_s, timeout_s
        self._question = first_question(never)
        self.adapters = adapters_here if adapters_here is not None else adapters()
        self._on_step = on_step

    @property
    def asked(self) -> int:
        return len(self.found)

    @property
    def left_s(self) -> float:
        return (len(self.hosts) - self.asked) / _AT_ONCE * self._connect_s

    async def run(self) -> dict[str, HostFound]:
        waiting = list(reversed(self.hosts))

        async def work() -> None:
            while waiting:
                host = waiting.pop()
                self.found[host] = await self._look(host)
                if self._on_step is not None:
                    self._on_step(self)

        async with asyncio.TaskGroup() as group:
            for _ in range(min(_AT_ONCE, len(self.hosts))):
                group.create_task(work())
        self.found = {host: self.found[host] for host in self.hosts}
        return self.found

    async def _look(self, host: str) -> HostFound:
        exchanger = exchanger_for(TcpLink(host, self.port), self._connect_s)
        where = relation(host, self.adapters)
        try:
            await exchanger.open()
        except Unreachable as error:
            state = {Cause.REFUSED: HostState.REFUSED, Cause.NO_ANSWER: HostState.SILENT}.get(
                error.cause, HostState.NO_ROUTE
            )
            words = {
                HostState.REFUSED: f"refused: the machine is there, and nothing listens on port {self.port}",
                HostState.SILENT: "silent: nobody has this address, or a firewall drops what is asked",
            }
            return HostFound(host, self.port, state, _with(words.get(state, str(error)), where))
        try:
            return await self._ask(exchanger, host, where)
        finally:
            exchanger.close()

    async def _ask(self, exchanger: Exchanger, host: str, where: str) -> HostFound:
        for unit in _OWN_UNITS:
            outcome = await exchanger.ask(unit, self._question, self._timeout_s)
            if outcome.kind in (OutcomeKind.GOOD, OutcomeKind.EXCEPTION):
                is_gateway = outcome.code in (0x0A, 0x0B)
                said = (
                    f"answers in {1000 * outcome.took_s:.1f} ms, unit {unit}" if not is_gateway else "a gateway answers"
                )
                return HostFound(host, self.port, HostState.ANSWERS, _with(said, where), None if is_gateway else unit)
            if outcome.kind is OutcomeKind.UNREACHABLE:
                break
        return HostFound(
            host, self.port, HostState.ACCEPTS, _with(f"accepts a connection and then: {outcome.reason}", where)
        )


def _with(text: str, where: str) -> str:
    return f"{text}; {where}" if where else text
