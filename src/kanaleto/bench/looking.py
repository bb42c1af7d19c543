"""Looks at a bench that runs, a few times a second, and says how it stands."""

import time
from collections import deque

from kanaleto.bench.bench import Bench
from kanaleto.bench.masters import Masters
from kanaleto.bench.rehearsal import RehearsalRun, Verdict
from kanaleto.bench.states import (
    AskState,
    BenchState,
    ExpectState,
    FaultState,
    LookState,
    MasterState,
    RehearsalState,
    ServedDevice,
    ServedLine,
    StepState,
    WrittenState,
)

_RATE_S = 2.0  # over which time rates are reported
_LATELY_S = 10.0
_MOST_MASTERS, _MOST_ASKS = 50, 200


class _Rates:
    """How often a second counts go up, over the last seconds."""

    def __init__(self) -> None:
        self._past: deque[tuple[float, dict[str, int]]] = deque()

    def take(self, now_s: float, counts: dict[str, int]) -> dict[str, float]:
        self._past.append((now_s, counts))
        while len(self._past) > 2 and now_s - self._past[1][0] >= _RATE_S:
            self._past.popleft()
        then_s, before = self._past[0]
        within_s = now_s - then_s
        if within_s <= 0:
            return dict.fromkeys(counts, 0.0)
        return {name: max(count - before.get(name, 0), 0) / within_s for name, count in counts.items()}


class Looker:
    """Of one bench with its masters. `device` is looked at in full."""

    def __init__(self, bench: Bench, masters: Masters) -> None:
        self.device = ""
        self.rehearsal: RehearsalRun | None = None
        self.verdicts: list[Verdict] | None = None
        self._bench, self._masters = bench, masters
        self._asked, self._asking = _Rates(), _Rates()
        self._since: dict[int, float] = {}

    def state(self) -> BenchState:
        bench, now_s = self._bench, time.time()
        lines: list[ServedLine] = []
        devices: list[ServedDevice] = []
        with self._masters.locked():
            seen = list(self._masters.seen.values())
            counts = {one.name: one.times for one in seen}
        per_s = self._asking.take(now_s, counts)
        asked = self._asked.take(now_s, {one.device.name: one.requests for one in bench.devices})
        for units in bench.units:
            stand = bench.server.stand_of(units.line.name)
            if stand is None:
                continue
            served = units.served
            here = sum(one.line == units.line.name and now_s - one.last_s < _LATELY_S for one in seen)
            names = tuple(one.device.name for one in served)
            lines.append(ServedLine(units.line.name, str(bench.server.link_of(stand)), names, here))
            for simulated in served:
                name = simulated.device.name
                unit_id = units.unit_id_of(name)
                faults = tuple(str(wanted) for wanted, _ in bench.faults if wanted.target in (name, units.line.name))
                is_silenced = unit_id in units.silenced
                devices.append(
                    ServedDevice(name, units.line.name, unit_id, asked[name], simulated.requests, faults, is_silenced)
                )
        known = {id(wanted): self._since.setdefault(id(wanted), now_s) for wanted, _ in bench.faults}
        self._since = known
        return BenchState(
            now_s,
            bench.seed,
            bench.left_out_s,
            tuple(lines),
            tuple(devices),
            tuple(
                MasterState(
                    one.name, one.line, per_s[one.name], one.times, one.refused, one.last_s, one.code, one.device
                )
                for one in sorted(seen, key=lambda one: -one.last_s)[:_MOST_MASTERS]
            ),
            tuple(FaultState(wanted.target, wanted.name, str(wanted), known[id(wanted)]) for wanted, _ in bench.faults),
            self._look(),
            bench.hands.can_undo,
            self._rehearsed(),
        )

    def _look(self) -> LookState | None:
        bench, name = self._bench, self.device
        try:
            simulated = bench.server.device(name)
        except KeyError:
            return None
        movement = bench.movement
        states = {one.point: movement.state_of(name, one.point) for one in simulated.device.simulated.machines}
        held = tuple(point for device, point in movement.held if device == name)
        slowly = tuple(point for point in simulated.points if bench.hands.is_on_its_way(name, point))
        with self._masters.locked():
            rows = [row for (device, _), row in self._masters.written.items() if device == name]
            points = {
                id(row): [p for (d, p), master_row in self._masters.written.items() if master_row is row]
                for row in rows
            }
            asks = [one for one in self._masters.asked.values() if one.device == name]
        written = {
            point: WrittenState(
                point, row.at_s, row.master, row.address or 0, tuple(row.written or ()),
                tuple(row.old) if row.old is not None else None, row.code,
            )
            for row in rows
            for point in points[id(row)]
        }  # fmt: skip
        asks.sort(key=lambda one: (one.function, one.address, one.count, one.master))
        return LookState(
            name, simulated.state(), held, slowly, states, tuple(written.values()),
            tuple(
                AskState(one.master, one.function, one.address, one.count, one.times, one.last_s, one.period_s)
                for one in asks[:_MOST_ASKS]
            ),
        )  # fmt: skip

    # The rehearsal

    def _rehearsed(self) -> RehearsalState | None:
        run = self.rehearsal
        if run is None:
            return None
        judged = {(one.step, at): one for one, at in _numbered(self.verdicts or run.verdicts_now())}
        steps = tuple(
            StepState(
                step.at_s, run.end_of(step), str(step.fault), step.fault.target,
                tuple(
                    ExpectState(expected.words, one.outcome if one else "", one.text if one else "")
                    for at, expected in enumerate(step.expect)
                    for one in [judged.get((number, at))]
                ),
            )
            for number, step in enumerate(run.rehearsal.steps, 1)
        )  # fmt: skip
        is_over = self.verdicts is not None
        waits_for = tuple(run.waits_for[:6]) if not is_over else ()
        now_s = run.now_s if run.has_begun else 0.0
        return RehearsalState(
            run.rehearsal.name, min(now_s, run.rehearsal.lasts_s), run.rehearsal.lasts_s, steps, waits_for, is_over
        )


def _numbered(verdicts: list[Verdict]) -> list[tuple[Verdict, int]]:
    """Each with its number among those of its step."""
    found: list[tuple[Verdict, int]] = []
    for one in verdicts:
        found.append((one, sum(other.step == one.step for other, _ in found)))
    return found
