"""Findings: what a pattern of faults looks like, with its causes in the order of likelihood, what to try, and what
would tell the causes apart. Lines on a network never hear of wires, rates or terminators."""

from enum import Enum

from msgspec import Struct


class FindingKind(Enum):
    """The value is the word used in JSON."""

    SILENT_ONE = "silent-one"
    SILENT_ALL = "silent-all"
    NOT_LISTENING = "not-listening"
    ANOTHER_RATE = "another-rate"
    TWO_ALIKE = "two-alike"
    ECHO = "echo"
    TIMEOUT_SHORT = "timeout-short"
    LIMIT = "limit"
    END_OF_TABLE = "end-of-table"
    GATEWAY_PATH = "gateway-path"
    GATEWAY_TARGET = "gateway-target"
    HANGS_UP = "hangs-up"
    TAKES_FEW = "takes-few"
    OTHER_MASTER = "other-master"
    BUSY = "busy"
    TOO_FAST = "too-fast"
    RESTARTS = "restarts"
    PORT_HELD = "port-held"
    PORT_GONE = "port-gone"
    GROWS_WITH_LENGTH = "grows-with-length"
    MIXED_UP = "mixed-up"
    WRONG_UNIT = "wrong-unit"


class WireFinding(Struct, frozen=True):
    """`count` of `of` exchanges of a device, or of all of a line where `device` is empty; `what` goes on from the name;
    `rows` are the times of rows that show it, the first so many."""

    kind: FindingKind
    line: str
    device: str
    count: int
    of: int
    what: str
    causes: tuple[str, ...]
    tries: tuple[str, ...]
    apart: str
    rows: tuple[int, ...] = ()

    @property
    def who(self) -> str:
        return self.device or self.line

    @property
    def text(self) -> str:
        """In one sentence or two."""
        return f"{self.who} {self.what}: {self.causes[0]}."


class _Advice(Struct, frozen=True):
    causes: tuple[str, ...]
    tries: tuple[str, ...]
    apart: str


_BOTH: dict[FindingKind, _Advice] = {
    FindingKind.NOT_LISTENING: _Advice(
        ("nothing listens at that port", "its service was not started", "the port is another one than 502"),
        ("look at the port number in its settings", "kanaleto find --hosts with that address"),
        "connect from the device's own page or panel: where that shows it as a server, the port is wrong",
    ),
    FindingKind.TIMEOUT_SHORT: _Advice(
        ("the timeout is shorter than it needs", "it is slowed down by other work"),
        ("a longer timeout_s", "a longer period"),
        "where a timeout twice as long leaves no failure, it was the timeout",
    ),
    FindingKind.LIMIT: _Advice(
        ("one request may ask fewer registers of it",),
        ("max_registers (or max_bits) in its settings",),
        "ask for one register fewer by a scratch reading, until it answers",
    ),
    FindingKind.END_OF_TABLE: _Advice(
        ("its table ends before those addresses", "the manual counts them otherwise (from 1, or by 40001)"),
        ("look at the addresses and how the manual counts them (numbering)",),
        "read the last address that answers and the next one by a scratch reading",
    ),
    FindingKind.GATEWAY_PATH: _Advice(
        ("its gateway has no way to that unit", "the unit ID is not in the gateway's table"),
        ("look at the gateway's routes, and at the unit ID",),
        "ask another unit behind the same gateway",
    ),
    FindingKind.GATEWAY_TARGET: _Advice(
        ("the device behind its gateway does not answer", "the line behind the gateway is broken"),
        ("look at its supply, and at the line behind the gateway",),
        "ask another unit behind the same gateway: where that answers, it is the device",
    ),
    FindingKind.BUSY: _Advice(
        ("it is at work and cannot answer yet", "another master keeps it busy"),
        ("a longer period", "fewer requests at once"),
        "hold polling for a minute and ask once: where that is answered, it is the pace",
    ),
    FindingKind.TOO_FAST: _Advice(
        ("it needs a pause between two requests", "its own work delays it after each answer"),
        ("gap_ms on its line, as long as the shortest pause that it answered after",),
        "the same requests with a gap: where none fails, it was the pause",
    ),
    FindingKind.RESTARTS: _Advice(
        ("it starts again and again: its supply breaks down", "its watchdog ends it", "somebody switches it off"),
        ("measure its supply while it fails", "look at its operating hours and its log"),
        "whether its counters begin at 0 after each outage",
    ),
    FindingKind.WRONG_UNIT: _Advice(
        ("another device answers in its place", "its unit ID was changed", "the gateway maps the unit ID otherwise"),
        ("look at the unit ID of the device and of its gateway",),
        "ask the unit ID that answers",
    ),
    FindingKind.HANGS_UP: _Advice(
        ("it closes the connection by itself", "it allows so many requests, or so much time, for a connection"),
        ("connects_per_request on its line", "look at the idle time in its settings"),
        "count the requests of each connection: always the same number is a limit of requests",
    ),
    FindingKind.TAKES_FEW: _Advice(
        ("it takes few connections, and others have them", "connections of before still stand"),
        ("end other programs that ask it", "kanaleto poll of one station, and bridge the others"),
        "end all other masters: where it then answers, there were too many",
    ),
    FindingKind.MIXED_UP: _Advice(
        ("it gives answers to the wrong requests", "it mixes up several masters or requests at once"),
        ("one request at a time (in_flight = 1)", "its maker's newer firmware"),
        "one master and one request at a time: where none is mixed up then, it is that",
    ),
    FindingKind.SILENT_ONE: _Advice(
        ("it has no supply or was switched off", "its unit ID was changed"),
        ("look at its supply and its unit ID",),
        "look at its own display: where it shows life, it is the unit ID",
    ),
    FindingKind.SILENT_ALL: _Advice(
        ("the gateway answers, and nobody behind it does", "the unit IDs are others"),
        ("look at the unit IDs, and at the line behind the gateway",),
        "kanaleto find with all unit IDs",
    ),
    FindingKind.ECHO: _Advice(
        ("the far end repeats what is sent", "the port number is that of an echo service"),
        ("look at the port number and at what stands behind it",),
        "send bytes that are no request: where they come back too, it is an echo",
    ),
    FindingKind.GROWS_WITH_LENGTH: _Advice(
        ("what stands between damages long answers: a gateway's serial side, or the device's own network part",),
        ("smaller requests (max_registers)", "look at the line behind the gateway"),
        "ask one register and a hundred by scratch readings, a hundred times each",
    ),
    FindingKind.ANOTHER_RATE: _Advice(
        ("the gateway's serial settings are not those of its devices",),
        ("look at the settings of the gateway's serial side",),
        "ask another unit behind the same gateway",
    ),
    FindingKind.TWO_ALIKE: _Advice(
        ("two devices behind the gateway have this unit ID",),
        ("take one device off the line behind the gateway, and ask again",),
        "with one of the two without supply the other answers well",
    ),
    FindingKind.OTHER_MASTER: _Advice(
        ("another master speaks on the line behind the gateway",),
        ("look who else asks there",),
        "hold polling and listen there",
    ),
}
_WIRED: dict[FindingKind, _Advice] = {
    FindingKind.SILENT_ONE: _Advice(
        ("it has no supply, or its plug is out", "its unit ID was changed", "its own settings are others"),
        ("look at its supply, its plug and its unit ID",),
        "look at its own display: where it shows life, ask all unit IDs (kanaleto find)",
    ),
    FindingKind.SILENT_ALL: _Advice(
        ("the pair is broken or crossed near the adapter", "baud or parity is another", "the unit IDs are others"),
        ("look at the adapter and the wires", "kanaleto find --settings"),
        "unplug the far end, and measure A to B at rest: without a bias of 0.2 V the pair or its supply is at fault",
    ),
    FindingKind.ANOTHER_RATE: _Advice(
        ("baud, parity or stop bits are not those of the device", "the pair is crossed"),
        ("kanaleto find --settings", "look at its settings of the port"),
        "bytes that come at every setting, and at none a frame, are no matter of settings",
    ),
    FindingKind.TWO_ALIKE: _Advice(
        ("two devices have this unit ID and answer at once",),
        ("take one of them off the line, and ask again",),
        "with one of the two without supply the other answers well",
    ),
    FindingKind.ECHO: _Advice(
        ("the adapter repeats what it sends", "nothing else is on the line"),
        ("echo=yes on its link",),
        "unplug the line from the adapter: where the request still comes back, it is the adapter",
    ),
    FindingKind.OTHER_MASTER: _Advice(
        ("another master speaks on this line",),
        ("kanaleto find LINK --listen 30", "ask who else has the line, and take turns through a bridge"),
        "hold polling and listen: what is heard then is the other one",
    ),
    FindingKind.GROWS_WITH_LENGTH: _Advice(
        (
            "reflections: a terminator is missing, or there are too many",
            "noise on the pair",
            "the rate is a little off",
        ),
        ("look at terminators, screen and earth", "a lower baud", "smaller requests (max_registers)"),
        "unplug the far end: where long answers then come whole, it is the far terminator; measure A to B at rest",
    ),
    FindingKind.PORT_HELD: _Advice(
        ("another program holds the port",),
        ("kanaleto find --ports says who", "end that program"),
        "end the other program: where the port then opens, it was that",
    ),
    FindingKind.PORT_GONE: _Advice(
        ("the adapter was unplugged, or its driver let it go", "its name has changed"),
        ("look at the plug of the adapter", "kanaleto find --ports"),
        "plug it in again: where it has another name, prefer_port keeps it",
    ),
    FindingKind.WRONG_UNIT: _Advice(
        ("another device answers in its place: its unit ID was changed", "an adapter changes the unit ID"),
        ("look at the unit IDs on this line",),
        "ask the unit ID that answers, and take the device off the line",
    ),
    FindingKind.MIXED_UP: _Advice(
        ("answers come late and are taken for those of the next request", "two masters share this line"),
        ("a longer timeout_s", "kanaleto find LINK --listen 30"),
        "with a timeout twice as long none is mixed up where they were late",
    ),
}


def finding(
    kind: FindingKind,
    line: str,
    device: str,
    count: int,
    of: int,
    what: str,
    is_wired: bool,
    rows: tuple[int, ...] = (),
) -> WireFinding:
    """With its advice, for a serial line or a network."""
    advice = (_WIRED.get(kind) if is_wired else None) or _BOTH.get(kind) or _WIRED[kind]
    return WireFinding(kind, line, device, count, of, what, advice.causes, advice.tries, advice.apart, rows)
