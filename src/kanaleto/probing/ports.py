"""The serial ports of this machine: what they are, who holds them, and what is wrong with them, in words."""

import os
from pathlib import Path

from msgspec import Struct

from kanaleto.lines.stablenames import stable_names

try:
    from serial.tools import list_ports
except ImportError:  # a system without what pyserial needs: no ports are listed
    list_ports = None  # type: ignore[assignment]


class PortInfo(Struct, frozen=True):
    """A serial port. `stable_name` is a path that stays the same when adapters change places; `holder` says who has it
    open, where the system tells; `trouble` is what is wrong, in words."""

    path: str
    description: str = ""
    maker: str = ""
    serial_number: str = ""
    stable_name: str = ""
    holder: str = ""
    trouble: str = ""

    @property
    def state(self) -> str:
        """In a few words: free, held, or what is wrong."""
        return self.trouble or (f"held by {self.holder}" if self.holder else "free")


def list_serial_ports() -> list[PortInfo]:
    """Every port that the system names, in order."""
    stable = stable_names()
    holders = _holders()
    found: list[PortInfo] = []
    if list_ports is None:
        return found
    for port in sorted(list_ports.comports(), key=lambda port: port.device):
        if not port.vid and port.device.startswith("/dev/ttyS") and not _is_real(port.device):
            continue  # Linux names ports that no machine has had for long
        found.append(
            PortInfo(
                port.device,
                "" if port.description in ("n/a", None) else str(port.description),
                str(port.manufacturer or ""),
                str(port.serial_number or ""),
                stable.get(os.path.realpath(port.device), ""),
                holders.get(os.path.realpath(port.device), ""),
                _trouble(port.device),
            )
        )
    return found


def describe_port(path: str) -> PortInfo:
    """What can be said of one port that was typed, or that a site names."""
    for port in list_serial_ports():
        if port.path == path:
            return port
    real = os.path.realpath(path)
    if "/" not in path:
        return PortInfo(path)
    if not os.path.exists(path):
        return PortInfo(path, trouble="there is no such port; is the adapter plugged in?")
    kind = "pseudo-terminal" if real.startswith("/dev/pts/") else ""
    return PortInfo(
        path, kind, holder=_holders().get(real, ""), stable_name=stable_names().get(real, ""), trouble=_trouble(path)
    )


def _is_real(path: str) -> bool:
    """Whether a built-in port has hardware behind it, as far as the system tells."""
    kind = Path("/sys/class/tty") / Path(path).name / "type"
    try:
        return kind.read_text().strip() != "0"
    except OSError:
        return True


def _trouble(path: str) -> str:
    if "/" not in path or os.access(path, os.R_OK | os.W_OK):
        return ""
    try:
        import grp  # not on Windows, where no port has a group

        group = grp.getgrgid(os.stat(path).st_gid).gr_name
    except (ImportError, KeyError, OSError):
        return "no permission"
    return f"permission: add yourself to the group {group}"


def _holders() -> dict[str, str]:
    """Who has which terminal open, by its real path: `name (process 4122)`. Only what this user may see; this process
    is left out."""
    found: dict[str, str] = {}
    our_process = str(os.getpid())
    try:
        processes = [entry for entry in os.listdir("/proc") if entry.isdecimal() and entry != our_process]
    except OSError:
        return found
    for process in processes:
        folder = f"/proc/{process}/fd"
        try:
            targets = {os.readlink(f"{folder}/{name}") for name in os.listdir(folder)}
        except OSError:
            continue
        # whoever made a pseudo-terminal keeps its far end open too
        is_maker = "/dev/ptmx" in targets or "/dev/pts/ptmx" in targets
        for target in targets:
            if target.startswith("/dev/tty") or (target.startswith("/dev/pts/") and not is_maker):
                found.setdefault(target, f"{_process_name(process)} (process {process})")
    return found


def _process_name(process: str) -> str:
    try:
        return Path(f"/proc/{process}/comm").read_text().strip()
    except OSError:
        return "a program"
