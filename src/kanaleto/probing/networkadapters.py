"""The network adapters of this machine, and whether an address lies in the network of one of them."""

import ipaddress
import socket

from msgspec import Struct


class Adapter(Struct, frozen=True):
    """An address of this machine: the adapter's name, the address with its network, whether it is up."""

    name: str
    interface: ipaddress.IPv4Interface | ipaddress.IPv6Interface
    is_up: bool


def adapters() -> list[Adapter]:
    """Every address that this machine has."""
    import psutil  # only needed where somebody looks for adapters

    states = psutil.net_if_stats()
    found = []
    for name, addresses in psutil.net_if_addrs().items():
        for address in addresses:
            if address.family not in (socket.AF_INET, socket.AF_INET6):
                continue
            text = address.address.partition("%")[0]
            try:
                interface = ipaddress.ip_interface(f"{text}/{_prefix(address.netmask)}" if address.netmask else text)
            except ValueError:
                continue
            found.append(Adapter(name, interface, name in states and states[name].isup))
    return found


def _prefix(netmask: str) -> str:
    return str(bin(int(ipaddress.IPv6Address(netmask))).count("1")) if ":" in netmask else netmask


def relation(host: str, adapters_here: list[Adapter]) -> str:
    """In words: by which adapter `host` is reached, or that it lies in no network of this machine."""
    try:
        address = ipaddress.ip_address(host)
    except ValueError:
        return ""
    if address.is_loopback:
        return "this machine itself"
    for adapter in adapters_here:
        if address == adapter.interface.ip:
            return f"this machine's own address, on {adapter.name}"
        if (
            address.version == adapter.interface.version
            and address in adapter.interface.network
            and not adapter.interface.ip.is_loopback
        ):
            state = "" if adapter.is_up else ", which is down"
            return f"same network as {adapter.interface} on {adapter.name}{state}"
    usable = [
        str(adapter.interface)
        for adapter in adapters_here
        if not adapter.interface.ip.is_loopback and adapter.interface.version == address.version
    ]
    return "in none of this machine's networks" + (
        f" ({', '.join(usable[:3])})" if usable else ": it has no address but its own loopback"
    )
