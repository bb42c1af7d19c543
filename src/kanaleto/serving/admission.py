"""Who may be connected to a server, and who goes when places run short: first those that never asked anything, then
those that have not asked for long. A client that polls is never cut off. Whoever is refused or dropped is reported in
one line, and the same of the same host only now and then."""

import asyncio
import time
from collections.abc import Callable, Sequence
from ipaddress import IPv4Network, IPv6Network, ip_address, ip_network

MOST_CONNECTIONS = 400
MOST_HANDSHAKES = 64
HANDSHAKE_S = 10.0
IDLE_S = 120.0
"""Whoever has not asked for so long has no claim to its place when others want one."""
_AGAIN_S = 10.0
_MOST_TOLD = 1000

OnClient = Callable[[str], None]
"""Told of a client: one sentence, who and what."""


def host_of(transport: asyncio.BaseTransport) -> str:
    """Address and port of the far end, for people."""
    peer = transport.get_extra_info("peername")
    return f"{peer[0]}:{peer[1]}" if isinstance(peer, tuple) and len(peer) >= 2 else "somebody"


class Admission:
    """The places of one server. `name` is for messages; `clock` gives seconds."""

    def __init__(self, name: str, clock: Callable[[], float] = time.monotonic, most: int = MOST_CONNECTIONS) -> None:
        self.on_client: OnClient | None = None
        self._name, self._clock, self._most = name, clock, most
        self._clients: tuple[IPv4Network | IPv6Network, ...] = ()
        self.limit: int | None = None
        """So many connections and no more, where whoever is served bears no more; one more is refused, or (`lets_go`)
        pushes out who came first."""
        self.lets_go = False
        self._in: dict[asyncio.Transport, None] = {}  # in the order in which they came
        self._silent: dict[asyncio.Transport, None] = {}  # never asked anything; the oldest first
        self._asking: dict[asyncio.Transport, float] = {}  # when they asked last; the longest ago first
        self._shaking: dict[asyncio.Transport, None] = {}  # in a TLS handshake; the oldest first
        self._last_said: dict[tuple[str, str], tuple[float, int]] = {}

    def let_in_only(self, clients: Sequence[str]) -> None:
        """Nobody but these addresses and networks is let in; all where none are named. Raises ValueError."""
        self._clients = tuple(ip_network(text.strip(), strict=False) for text in clients)

    def may_ask(self, host: str) -> bool:
        """Whether an address is let in."""
        if not self._clients:
            return True
        address = ip_address(host.partition("%")[0])
        peer = getattr(address, "ipv4_mapped", None) or address
        return any(peer in network for network in self._clients)

    @property
    def connections(self) -> list[asyncio.Transport]:
        return [*self._shaking, *self._silent, *self._asking]

    def begin_handshake(self, transport: asyncio.Transport) -> None:
        """It came, and is to show first who it is; too many of those push the oldest out."""
        if len(self._shaking) >= MOST_HANDSHAKES:
            self.drop(next(iter(self._shaking)), f"{MOST_HANDSHAKES} handshakes are under way")
        self._shaking[transport] = None

    def admit(self, transport: asyncio.Transport) -> bool:
        """Whether it has a place; somebody without a claim may have lost it for this one."""
        peer = transport.get_extra_info("peername")
        if self._clients and not (isinstance(peer, tuple) and self.may_ask(str(peer[0]))):
            self.drop(transport, "only those may ask that --clients names")
            return False
        if self.limit is not None and len(self._in) >= self.limit:
            if not self.lets_go:
                self.drop(transport, f"the device takes {self.limit} connections at a time")
                return False
            self.drop(next(iter(self._in)), f"the device takes {self.limit} connections, and another came")
        self._in[transport] = None
        if len(self._silent) + len(self._asking) >= self._most:
            if self._silent:
                self.drop(next(iter(self._silent)), "it never asked anything, and others want its place")
            else:
                idlest, asked_s = next(iter(self._asking.items()))
                if self._clock() - asked_s < IDLE_S:
                    self.drop(transport, f"all {self._most} places are taken by clients that poll")
                    return False
                self.drop(idlest, f"it has not asked for {self._clock() - asked_s:.0f} s, and others want its place")
        self._silent[transport] = None
        return True

    def note_use(self, transport: asyncio.Transport) -> None:
        """A sound request came on it."""
        if transport in self._silent or transport in self._asking:
            self._silent.pop(transport, None)
            self._asking.pop(transport, None)  # so that it goes to the end
            self._asking[transport] = self._clock()

    def drop_idle(self, idle_s: float) -> None:
        """Whoever has not asked for so long is cut off."""
        now_s = self._clock()
        for transport, asked_s in list(self._asking.items()):
            if now_s - asked_s < idle_s:
                break
            self.drop(transport, f"it has not asked for {idle_s:g} s")

    def forget(self, transport: asyncio.Transport) -> None:
        """It has gone, or its handshake is over."""
        self._in.pop(transport, None)
        self._silent.pop(transport, None)
        self._asking.pop(transport, None)
        self._shaking.pop(transport, None)

    def drop(self, transport: asyncio.Transport, why: str) -> None:
        """Close it at once, and tell who and why."""
        self.forget(transport)
        self.tell(host_of(transport), f"was cut off: {why}")
        transport.abort()

    def tell(self, who: str, what: str) -> None:
        """One line; of one host and one kind every `_AGAIN_S` at most, with how many there were meanwhile."""
        host, now = who.rpartition(":")[0] or who, self._clock()
        key = (host, what[:40])
        last_s, held_back = self._last_said.get(key, (-_AGAIN_S, 0))
        if now - last_s < _AGAIN_S:
            self._last_said[key] = (last_s, held_back + 1)
            return
        if len(self._last_said) >= _MOST_TOLD:
            self._last_said.clear()
        self._last_said[key] = (now, 0)
        if self.on_client is not None:
            more = f" ({held_back} more times since)" if held_back else ""
            self.on_client(f"{self._name}: {who} {what}{more}")
