"""From a link to something that can be asked."""

from kanaleto.lines.channel import Channel
from kanaleto.lines.exchange import QUARANTINE_S, Exchanger
from kanaleto.lines.tcp import TcpChannel
from kanaleto.lines.udp import UdpChannel
from kanaleto.site.link import FramingKind, Link, SerialLink, TcpLink, UdpLink
from kanaleto.wire.ascii import Ascii
from kanaleto.wire.frames import Framing
from kanaleto.wire.rtu import Rtu
from kanaleto.wire.tcp import Tcp


def framing_of(link: Link) -> Framing:
    if link.framing is FramingKind.ASCII:
        return Ascii(link.delimiter)
    return Rtu() if link.framing is FramingKind.RTU else Tcp()


def channel_for(link: Link, connect_timeout_s: float) -> Channel:
    if isinstance(link, TcpLink):
        return TcpChannel(link, connect_timeout_s)
    if isinstance(link, UdpLink):
        return UdpChannel(link, connect_timeout_s)
    from kanaleto.lines.serialport import SerialChannel  # pyserial costs a start that needs no port too much

    return SerialChannel(link)


def exchanger_for(
    link: Link, connect_timeout_s: float = 3.0, gap_s: float = 0.0, quarantine_s: float = QUARANTINE_S
) -> Exchanger:
    """An exchanger on a new channel of `link`, not opened yet."""
    has_echo = link.has_echo if isinstance(link, SerialLink) else False
    return Exchanger(channel_for(link, connect_timeout_s), framing_of(link), gap_s, quarantine_s, has_echo)
