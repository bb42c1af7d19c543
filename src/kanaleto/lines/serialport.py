"""A serial port as a channel: pyserial on two threads of its own, one that reads in short slices and one that writes on
time.

Reads are tagged with a generation, so that bytes read before a close are never delivered after the next open.
A pseudo-terminal knows no parity and no stop bits, and refuses a second opening with parity: they are left out there.
"""

import asyncio
import errno
import os
import select
import threading
import time
from collections.abc import Callable
from queue import SimpleQueue
from typing import Any

from msgspec.structs import replace

from kanaleto.lines.adapters import is_native_usb, is_pseudo_terminal
from kanaleto.lines.channel import Cause, OnData, OnLost, Unreachable
from kanaleto.lines.portcounters import PortCounters, read_counters
from kanaleto.lines.stablenames import port_now
from kanaleto.site.links.link import Parity
from kanaleto.site.links.serial import SerialLink
from kanaleto.supervision.owned import fault_sentence, report

try:
    import serial
except ImportError:  # a system without what pyserial needs for its ports
    serial = None  # type: ignore[assignment]

_SLICE_S = 0.05
_CLOSING_S = 2.0
_BEFORE_S = 1e-6
_closing: dict[str, threading.Thread] = {}  # ports whose last channel is being closed
_PARITY = {Parity.NONE: "N", Parity.EVEN: "E", Parity.ODD: "O"}  # as pyserial names them


class SerialChannel:
    """Opens the port of `link` with its settings, for this program alone; where `preferred` names an adapter that is
    there, its port, whatever number it has now."""

    is_datagram = False

    def __init__(self, link: SerialLink, preferred: str = "") -> None:
        self._named, self._preferred = link, preferred
        self._link = link
        self._loop: asyncio.AbstractEventLoop | None = None
        self._port: serial.Serial | None = None
        self._outgoing: SimpleQueue[tuple[bytes, float] | None] = SimpleQueue()
        self._generation = 0
        self._keeps_time = False
        self._counted_before: PortCounters | None = None
        self._reader: threading.Thread | None = None

    @property
    def character_s(self) -> float:
        return self._link.settings.character_s

    @property
    def gap_s(self) -> float:
        return self._link.settings.gap_s

    @property
    def keeps_time(self) -> bool:
        """A pseudo-terminal and a device on USB are quicker than their settings; a port of another machine shares its
        network's whims."""
        return self._keeps_time

    @property
    def is_open(self) -> bool:
        return self._port is not None

    async def open(self, on_data: OnData, on_lost: OnLost) -> None:
        loop = self._loop = asyncio.get_running_loop()
        place = self._named.port if self._named.is_remote else port_now(self._named.port, self._preferred)
        self._link = self._named if place == self._named.port else replace(self._named, port=place)
        self._port = port = await loop.run_in_executor(None, _open_port, self._link)
        port_name = self._link.port
        self._keeps_time = not (self._link.is_remote or is_pseudo_terminal(port_name) or is_native_usb(port_name))
        self._generation += 1
        outgoing: SimpleQueue[tuple[bytes, float] | None] = SimpleQueue()
        self._outgoing = outgoing
        generation = self._generation
        can_select = hasattr(port, "fileno") and not self._link.is_remote  # a port of this machine, not on Windows
        self._counted_before = read_counters(port.fileno()) if can_select else None

        def deliver(data: bytes, at: float) -> None:
            if generation == self._generation:
                on_data(data, at)

        def lose(why: str) -> None:
            if generation == self._generation:
                self.close()
                on_lost(why)

        def call(function: Callable[..., None], *arguments: object) -> None:
            try:
                loop.call_soon_threadsafe(function, *arguments)
            except RuntimeError:  # the loop is closed: nobody listens any more
                return

        def is_current() -> bool:
            return generation == self._generation

        # whoever has it knows of each byte whether it was there before a request was written
        reading = threading.Lock()

        def take_waiting(before: float | None = None) -> bool:
            """Deliver what is there: as of now, or as of before what is about to be written."""
            with reading:
                waiting = port.in_waiting
                data = port.read(waiting) if waiting else b""
                if data:
                    call(deliver, data, loop.time() if before is None else before)
            return bool(data)

        def read() -> None:
            is_empty = False
            while is_current():
                try:
                    if not can_select:
                        data = port.read(port.in_waiting or 1)
                        if data:
                            call(deliver, data, loop.time())
                    elif select.select([port.fileno()], [], [], _SLICE_S)[0] and not take_waiting():
                        if is_empty:  # ready, and nothing is there, twice: it has hung up, and reading says so
                            port.read(1)
                        is_empty = not is_empty
                    else:
                        is_empty = False
                except (
                    OSError,
                    TypeError,
                    ValueError,
                ) as error:  # pyserial raises the latter two on a port closed meanwhile
                    call(lose, f"port {self._link.port} is gone: {_reason(error)}")
                    return
                except Exception as error:  # an internal error, or of the library: the port is lost, and opened again
                    report(f"reading port {self._link.port}", error)
                    call(lose, fault_sentence(error))
                    return

        def write() -> None:
            while (job := outgoing.get()) is not None and is_current():
                data, not_before = job
                delay = not_before - loop.time()
                if delay > 0:
                    time.sleep(delay)
                try:
                    if can_select:
                        take_waiting(not_before - _BEFORE_S)
                    _send(port, data, self._link.sets_rts, self.character_s)
                except (OSError, TypeError, ValueError) as error:
                    call(lose, f"port {self._link.port} takes no bytes: {_reason(error)}")
                    return
                except Exception as error:  # as above
                    report(f"writing to port {self._link.port}", error)
                    call(lose, fault_sentence(error))
                    return

        self._reader = threading.Thread(target=read, name=f"read {self._link.port}", daemon=True)
        self._reader.start()
        threading.Thread(target=write, name=f"write {self._link.port}", daemon=True).start()

    def empty(self) -> None:
        """The thread that writes does it, right before."""

    def write(self, data: bytes, not_before: float) -> float:
        if self._loop is None or self._port is None:
            raise RuntimeError("write on a channel that is not open")
        start = max(not_before, self._loop.time())
        self._outgoing.put((data, start))
        return start + len(data) * self.character_s

    def drop(self) -> None:
        """Nothing waits here: bytes are on the wire, or lost."""

    def counted(self) -> PortCounters | None:
        port, before = self._port, self._counted_before
        try:
            now = read_counters(port.fileno()) if port is not None and before is not None else None
        except (OSError, ValueError):  # it was unplugged in this moment
            return None
        return now.since(before) if now is not None and before is not None else None

    def close(self) -> None:
        port, self._port = self._port, None
        self._generation += 1
        self._outgoing.put(None)
        if port is not None:
            thread = threading.Thread(
                target=_close_port, args=(port, self._reader), name=f"close {self._link.port}", daemon=True
            )
            _closing[self._link.port] = thread
            thread.start()


def _send(port: "serial.Serial", data: bytes, sets_rts: bool, character_s: float) -> None:
    """Write; where RTS switches an RS-485 transceiver, raise it for as long as the bytes take."""
    if not sets_rts:
        port.write(data)
        return
    port.rts = True
    try:
        end = time.monotonic() + len(data) * character_s
        port.write(data)
        port.flush()
        time.sleep(max(end - time.monotonic(), 0))  # some drivers say that they are done before the last byte has left
    finally:
        port.rts = False


def _close_port(port: "serial.Serial", reader: threading.Thread | None) -> None:
    """Close it once nobody reads any more: a read under way would keep the port, and its lock, until it ends."""
    try:
        if reader is not None and reader is not threading.current_thread():
            if hasattr(port, "cancel_read"):
                port.cancel_read()
            reader.join(_CLOSING_S)
        port.close()
    except OSError:  # an adapter that was pulled out cannot be closed in good order, and need not be
        return


def _open_port(link: SerialLink) -> "serial.Serial":
    if serial is None:
        raise Unreachable(f"this system opens no serial ports: {link.port} is out of reach here", Cause.OTHER)
    closing = _closing.pop(link.port, None)
    if closing is not None:
        closing.join(_CLOSING_S)  # or this process would find the port held by itself
    settings = link.settings
    is_plain = is_pseudo_terminal(link.port)
    if "/" in link.port and not link.is_remote and not os.path.exists(link.port):
        raise Unreachable(f"there is no port {link.port}; is the adapter plugged in?", Cause.NO_PORT)
    options: dict[str, Any] = {} if link.is_remote else {"exclusive": True, "write_timeout": 5}
    try:
        port = serial.serial_for_url(
            link.port,
            settings.baud,
            do_not_open=True,
            bytesize=8 if is_plain else settings.data,
            parity="N" if is_plain else _PARITY[settings.parity],
            stopbits=1 if is_plain else settings.stop,
            timeout=_SLICE_S,
            rtscts=link.uses_rtscts,
            **options,
        )
        if link.sets_rts:
            port.rts = False  # before it is opened: nothing drives the bus meanwhile
        port.open()
        return port
    except (OSError, ValueError) as error:
        raise _unreachable(link, error) from None


def _unreachable(link: SerialLink, error: Exception) -> Unreachable:
    number = getattr(error, "errno", None)
    text = str(error).lower()
    if link.is_remote:
        place = link.port.removeprefix("rfc2217://")
        if "refused" in text:
            return Unreachable(f"{place} refused the connection; nothing listens on that port", Cause.REFUSED)
        refused = _refused_settings(str(error), link)
        if refused:
            return Unreachable(f"the port server at {place} does not set {refused}; ask for what it can", Cause.OTHER)
        if "rfc2217" in text or "waiting for option" in text:
            return Unreachable(f"{place} is no port server that can be asked for settings (RFC 2217)", Cause.OTHER)
        return Unreachable(f"the port at {place} cannot be opened: {_reason(error)}", Cause.NO_ANSWER)
    if number == errno.ENOENT or "filenotfound" in text:
        return Unreachable(f"there is no port {link.port}; is the adapter plugged in?", Cause.NO_PORT)
    if number in (errno.EBUSY, errno.EAGAIN) or "exclusively lock" in text or "access is denied" in text:
        return Unreachable(f"port {link.port} is held by another program", Cause.HELD)
    if number in (errno.EACCES, errno.EPERM):
        return Unreachable(
            f"no permission for port {link.port}; add yourself to the group that owns it (often dialout)",
            Cause.PERMISSION,
        )
    if number in (errno.ENOTTY, errno.EINVAL) or "inappropriate ioctl" in text:
        return Unreachable(f"{link.port} is no serial port, or does not take {link.settings}", Cause.OTHER)
    return Unreachable(f"port {link.port} cannot be opened: {_reason(error)}", Cause.OTHER)


def _refused_settings(text: str, link: SerialLink) -> str:
    """Which settings a port server did not take, by the names that the library gives its options; "" for none."""
    if "remote rejected" not in text and "parameter change" not in text:
        return ""
    settings = link.settings
    asked = {
        "baudrate": f"{settings.baud} baud",
        "datasize": f"{settings.data} data bits",
        "parity": f"{settings.parity.value} parity",
        "stopsize": f"{settings.stop} stop bit" + "s" * (settings.stop > 1),
        "control": "its handshake",
    }
    not_taken = [words for name, words in asked.items() if f"'{name}'" in text or f"{name}:REQUESTED" in text]
    return ", ".join(not_taken) or str(settings)


def _reason(error: Exception) -> str:
    if isinstance(error, OSError) and error.strerror:
        return error.strerror.lower()
    if "returned no data" in str(error):
        return "the far end hung up or was unplugged"
    return str(error) or type(error).__name__
