"""What a serial port is, known by its name and by the system, without opening it."""

import os
from pathlib import Path

from kanaleto.site.links.link import Link
from kanaleto.site.links.serial import SerialLink

_NATIVE_USB = ("/dev/ttyACM", "/dev/cu.usbmodem", "/dev/tty.usbmodem", "/dev/ttyGS")
_LATENCY_MS = 16.0  # what most adapters hold bytes back for, where nothing tells


def is_native_usb(port: str) -> bool:
    """Whether `port` is a device that is itself on USB, where its bytes take no time, whatever its settings say."""
    return os.path.realpath(port).startswith(_NATIVE_USB)


def is_pseudo_terminal(port: str) -> bool:
    """Whether `port` is (a link to) a pseudo-terminal."""
    return os.path.realpath(port).startswith("/dev/pts/")


def held_back_ms(link: Link) -> float:
    """How long the adapter may hold back a byte that came: what the link says, what the system tells of the adapter,
    else 16 ms. On a network and on a pseudo-terminal nothing is held back."""
    if not isinstance(link, SerialLink) or link.local_port is None:
        return 0.0
    if link.latency_ms is not None:
        return link.latency_ms
    port = os.path.realpath(link.local_port)
    if is_pseudo_terminal(port):
        return 0.0
    try:
        return float(Path(f"/sys/class/tty/{os.path.basename(port)}/device/latency_timer").read_text())
    except (OSError, ValueError):
        return _LATENCY_MS
