"""The serial ports of this machine, looked at now and then on a thread: asking the system takes a while."""

from collections.abc import Iterable
from threading import Thread

from kanaleto.probing.ports import PortInfo, describe_port, list_serial_ports


class PortWatch:
    """`found` is replaced whole."""

    def __init__(self) -> None:
        self.found: tuple[PortInfo, ...] = ()
        self._thread: Thread | None = None

    def look(self, named: Iterable[str]) -> None:
        """Look again, also at ports that were named and that the system does not list; unless that is under way."""
        if self._thread is None or not self._thread.is_alive():
            self._thread = Thread(target=self._look, args=(set(named),), name="ports", daemon=True)
            self._thread.start()

    def _look(self, named: set[str]) -> None:
        ports = list_serial_ports()
        more = named - {port.path for port in ports}
        self.found = (*ports, *(describe_port(path) for path in sorted(more)))
