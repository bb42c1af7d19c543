"""From a link to something that can be asked. A kind of link that is reached in a new way has a line in `_CHANNELS`."""

from collections.abc import Callable
from typing import Any

from kanaleto.lines.channel import Channel
from kanaleto.lines.exchange import QUARANTINE_S, Exchanger
from kanaleto.lines.tcp import TcpChannel
from kanaleto.lines.udp import UdpChannel
from kanaleto.site.links.link import FramingKind, Link
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.links.udp import UdpLink
from kanaleto.wire.ascii import Ascii
from kanaleto.wire.frames import Framing
from kanaleto.wire.rtu import Rtu
from kanaleto.wire.tcp import Tcp


def _serial(link: SerialLink, connect_timeout_s: float, preferred: str) -> Channel:
    from kanaleto.lines.serialport import SerialChannel  # pyserial costs a start that needs no port too much

    return SerialChannel(link, preferred)


_CHANNELS: dict[type[Link], Callable[[Any, float, str], Channel]] = {
    TcpLink: lambda link, connect_timeout_s, preferred: TcpChannel(link, connect_timeout_s),
    UdpLink: lambda link, connect_timeout_s, preferred: UdpChannel(link, connect_timeout_s),
    SerialLink: _serial,
}


def framing_of(link: Link) -> Framing:
    if link.framing is FramingKind.ASCII:
        return Ascii(link.delimiter)
    return Rtu() if link.framing is FramingKind.RTU else Tcp()


def channel_for(link: Link, connect_timeout_s: float, preferred: str = "") -> Channel:
    """`preferred` is the stable name of the adapter that a serial port should be, wherever that is now."""
    make = next(_CHANNELS[kind] for kind in type(link).__mro__ if kind in _CHANNELS)
    return make(link, connect_timeout_s, preferred)


def exchanger_for(
    link: Link, connect_timeout_s: float = 3.0, gap_s: float = 0.0, quarantine_s: float = QUARANTINE_S,
    preferred: str = "",
) -> Exchanger:  # fmt: skip
    """An exchanger on a new channel of `link`, not opened yet."""
    return Exchanger(
        channel_for(link, connect_timeout_s, preferred), framing_of(link), gap_s, quarantine_s, link.has_echo
    )
