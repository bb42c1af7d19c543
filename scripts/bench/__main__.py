"""Runs every measurement, or those named on the command line, and prints a table."""

import sys
from collections.abc import Callable

from scripts.bench import (
    bench_load,
    bridge,
    codecs,
    edits,
    history,
    keeping,
    loopback,
    many_devices,
    maps,
    memory,
    moving,
    planning,
    proof,
    read_command,
    screen,
    serial_line,
    serving,
    standing,
    trend,
    units,
    unknown,
    wire,
    writing,
)
from scripts.bench.figure import Figure

MEASUREMENTS: dict[str, Callable[[], list[Figure]]] = {
    "loopback": loopback.measure,
    "serial": serial_line.measure,
    "serving": serving.measure,
    "moving": moving.measure,
    "load": bench_load.measure,
    "screen": screen.measure,
    "codecs": codecs.measure,
    "read": read_command.measure,
    "planning": planning.measure,
    "maps": maps.measure,
    "edits": edits.measure,
    "standing": standing.measure,
    "units": units.measure,
    "unknown": unknown.measure,
    "many": many_devices.measure,
    "memory": memory.measure,
    "keeping": keeping.measure,
    "history": history.measure,
    "trend": trend.measure,
    "wire": wire.measure,
    "writing": writing.measure,
    "bridge": bridge.measure,
    "proof": proof.measure,
}


def main() -> None:
    wanted = sys.argv[1:] or list(MEASUREMENTS)
    figures = [figure for name in wanted for figure in MEASUREMENTS[name]()]
    width = max(len(figure.what) for figure in figures)
    print(f"{'what':{width}}  {'measured':>12}  {'floor':>12}  {'ratio':>7}  target")
    for figure in figures:
        print(f"{figure.what:{width}}  {figure.measured:>12}  {figure.floor:>12}  {figure.ratio:7.3f}  {figure.target}")


if __name__ == "__main__":
    main()
