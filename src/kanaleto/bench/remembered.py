"""The state of a bench as a value: what stands in all registers, what moves them and how far it is. A bench begins
again in it after its process was killed, or with `--keep` at its next start."""

from collections.abc import Mapping
from typing import Any

from kanaleto.bench.bench import Bench

VERSION = 1


def state_of(bench: Bench) -> dict[str, Any]:
    """Fit for JSON."""
    return {
        "kanaleto_bench": VERSION,
        "site": bench.site.name,
        "steps": bench.movement.steps,
        "devices": {
            simulated.device.name: {
                "unit_id": units.unit_id_of(simulated.device.name),
                "tables": simulated.state(),
                **bench.movement.state(simulated.device.name),
            }
            for units in bench.units
            for simulated in units.devices
        },
    }


def recall(bench: Bench, state: Mapping[str, Any]) -> None:
    """Go on from there, with all that there still is. Raises ValueError where it is no state of a bench."""
    if not isinstance(state, Mapping) or state.get("kanaleto_bench") != VERSION:
        raise ValueError("is no state that a bench has left")
    devices = state.get("devices")
    if not isinstance(devices, Mapping):
        raise ValueError("names no devices")
    for units in bench.units:
        for simulated in units.devices:
            name = simulated.device.name
            kept = devices.get(name)
            if kept is None:
                continue
            try:
                simulated.recall({table: (int(first), str(text)) for table, (first, text) in kept["tables"].items()})
                bench.movement.recall(name, kept)
                unit_id = int(kept["unit_id"])
            except (KeyError, TypeError, AttributeError, ValueError):
                raise ValueError(f"what it says of {name} cannot be read") from None
            if unit_id != units.unit_id_of(name):
                units.readdress(units.unit_id_of(name), unit_id)
    bench.forget_settings()
