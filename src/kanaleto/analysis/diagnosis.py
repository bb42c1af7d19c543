"""What a pattern of faults looks like, in plain words: who is silent while its neighbours answer, whose bytes come
garbled, who refuses."""

from msgspec import Struct

from kanaleto.board.snapshot import DeviceStatus, LineStatus
from kanaleto.lines.outcome import OF_GATEWAY
from kanaleto.wire.codes import ExceptionCode, exception_text

_ALL_SILENT = {
    True: "all of its devices are silent: look at the adapter, the wires, and baud and parity at both ends.",
    False: "the connection is accepted and nobody answers on it: look at the "
    "unit IDs, and at the line behind the gateway.",
}
_GARBLED = {
    True: "look at screen, terminators and earth.",
    False: "look at what stands between: a gateway's serial side, or the device's own network part.",
}
_GARBLED_SHARE = 0.005
_FEW = 20


class Diagnosis(Struct, frozen=True):
    """`who` is a device or a line, `text` goes on from its name."""

    who: str
    text: str
    is_garbled: bool = False


def is_wired(line: LineStatus) -> bool:
    """Whether there are wires, a rate and terminators that could be wrong: not on a network."""
    return line.line.link.local_port is not None


def _advice(code: int) -> str:
    """What may be done about an exception (application protocol 1.1b3, 7)."""
    match code:
        case ExceptionCode.ILLEGAL_FUNCTION:
            return "it does not know the function: name those that it knows (functions = […])"
        case ExceptionCode.ILLEGAL_DATA_ADDRESS:
            return "look at the addresses and how the manual counts them"
        case ExceptionCode.ILLEGAL_DATA_VALUE:
            return "look at how many registers one request may ask (max_registers)"
        case ExceptionCode.ACKNOWLEDGE | ExceptionCode.SERVER_DEVICE_BUSY:
            return "it is at work and is asked again: a longer period leaves it more time"
        case ExceptionCode.SERVER_DEVICE_FAILURE | ExceptionCode.MEMORY_PARITY_ERROR:
            return "the device itself has failed at it: look at its own display"
    return "its manual says what that means"


def look_at(lines: tuple[LineStatus, ...]) -> list[Diagnosis]:
    """Findings, the worst first; nothing when all is well."""
    found: list[Diagnosis] = []
    for line in lines:
        if line.why_unreachable:
            found.append(Diagnosis(line.line.name, f"cannot be reached: {line.why_unreachable}"))
            continue
        if line.has_found_echo:
            found.append(
                Diagnosis(
                    line.line.name, "its adapter repeats what it sends: add echo=yes to its link.", is_garbled=True
                )
            )
        silent = line.silent
        if len(silent) > 1 and len(silent) == len(line.devices):
            found.append(Diagnosis(line.line.name, _ALL_SILENT[is_wired(line)]))
        else:
            found += [_silent(line, status) for status in silent]
    for line in lines:
        found += [finding for status in line.devices for finding in _faults(line, status)]
    return found


def _silent(line: LineStatus, status: DeviceStatus) -> Diagnosis:
    neighbours = len(line.devices) - len(line.silent)
    never = "has never answered" if not status.has_answered else f"stopped {status.silent_s or 0:.0f} s ago"
    noticed = f" Its return is noticed within {status.notice_within_s:.0f} s."
    if neighbours:
        those = "its neighbour still answers" if neighbours == 1 else "its neighbours still answer"
        whole = "so the line is whole" if is_wired(line) else "so the connection is whole"
        plug = "its supply, its plug, or its unit ID" if is_wired(line) else "its supply and its unit ID"
        return Diagnosis(status.device.name, f"{never}; {those}, {whole}: look at {plug}.{noticed}")
    where = (
        "wires, settings and unit ID" if is_wired(line) else "its supply and its unit ID: the connection is accepted"
    )
    return Diagnosis(status.device.name, f"{never}, and nobody else is on {line.line.name}: look at {where}.")


def _faults(line: LineStatus, status: DeviceStatus) -> list[Diagnosis]:
    found = []
    tally, name = status.tally, status.device.name
    wrong = tally.garbled + tally.unexpected
    if tally.exchanges >= _FEW and wrong / tally.exchanges > _GARBLED_SHARE:
        share = 100 * wrong / tally.exchanges
        found.append(
            Diagnosis(
                name,
                f"{share:.1f} % of its answers come garbled: {_GARBLED[is_wired(line)]}",
                is_garbled=True,
            )
        )
    if status.is_slow:
        found.append(
            Diagnosis(name, f"answers slowly: its timeout of {status.device.timeout_s:g} s leaves little room.")
        )
    refused = {code: count for code, count in tally.exceptions.items() if code not in OF_GATEWAY}
    missing = sum(tally.exceptions.values()) - sum(refused.values())
    if missing and status.silent_s is None:
        found.append(
            Diagnosis(
                name, f"was missing {missing} times, said its gateway: look at its line behind it, and its supply."
            )
        )
    if refused:
        code, count = max(refused.items(), key=lambda item: item[1])
        told = f"refused {count} times with exception {code}, {exception_text(code)}: {_advice(code)}."
        found.append(Diagnosis(name, told))
    return found
