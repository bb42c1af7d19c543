"""How a line is wired, as a technician notes it: the order along the cable, terminators, bias."""

from msgspec import Struct

MASTER = "Master"
"""Stands for this machine in an order."""


class Wiring(Struct, frozen=True):
    """`order` names the master and devices along the cable. `length_m` is in metres, None where nobody measured."""

    order: tuple[str, ...] = ()
    terminators: tuple[str, ...] = ()
    bias: str = ""
    wires: int | None = None
    length_m: float | None = None
    note: str = ""


NO_WIRING = Wiring()


def ordered(wiring: Wiring, devices: list[str]) -> list[str]:
    """Master and devices along the cable: as noted, those that are not noted at the end."""
    noted = [name for name in wiring.order if name == MASTER or name in devices]
    start = [] if MASTER in noted else [MASTER]
    return [*start, *noted, *(name for name in devices if name not in noted)]
