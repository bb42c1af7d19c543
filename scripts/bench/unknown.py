"""What is found of forty made-up lines that nobody knows: within five minutes of line time, and without a limit; on a
virtual clock, several lines at a time in processes of their own.

The floor is what is there. For the requests it is what an asker would need who knows everything: one for each unit, and
as few as the device allows for all that it holds.
"""

import multiprocessing
import os
from dataclasses import dataclass
from unittest import mock

from tests.habits import KINDS, halves, outcomes
from tests.judged import Judged, judged
from tests.layouts import read
from tests.madeup import MadeLine, made_line
from tests.test_habits import FIRST_JUDGED, settings_found_s
from tests.virtual import run_virtual

from kanaleto.site.links.serial import SerialLink
from kanaleto.unknown.everything import Everything
from scripts.bench.figure import Figure

SEEDS = range(40)
_WITHOUT_LIMIT = (2, 6, 9, 14, 23, 25, 31, 35)
_WITHIN_S = 300.0
_QUICK_BAUD = 9600
_LAYOUTS = 60
_NOISY_LINES, _GARBAGE_SHARE, _SOON_S = 100, 0.3, 60.0


@dataclass
class _Line:
    """What came of one line: judged, questions asked and the least that would do, whether it is a quick one."""

    result: Judged
    asked: int
    least: int
    is_quick: bool
    is_reads_only: bool


def measure() -> list[Figure]:
    with multiprocessing.get_context("spawn").Pool(os.cpu_count() or 1) as pool:
        limited = pool.map(_within, SEEDS, chunksize=1)
        whole = pool.map(_without_limit, _WITHOUT_LIMIT, chunksize=1)
        noisy = pool.map(_is_soon, range(FIRST_JUDGED, FIRST_JUDGED + _NOISY_LINES), chunksize=4)
    quick = [line for line in limited if line.is_quick]
    results = [line.result for line in limited]
    units = sum(len(made_line(seed).devices) for seed in SEEDS)
    missing = sum(len(result.missing_units) for result in results)
    invented = sum(len(result.invented_units) for result in results)
    assert all(line.is_reads_only for line in (*limited, *whole)), "something was asked that is no read"
    return [
        _share("settings within 60 s where 30 % garbage comes at wrong rates", sum(noisy), len(noisy), "≥ 0.95"),
        _share("unknown lines: settings right", sum(result.has_settings for result in results), len(results), "1"),
        _share(f"unknown lines: units found, {invented} invented", units - missing, units, "≥ 0.99"),
        _share(
            "unknown lines: readable addresses in 300 s, ≥ 9600 baud and TCP",
            sum(line.result.found for line in quick), sum(line.result.addresses for line in quick), "≥ 0.95",
        ),
        _share(
            "unknown lines: readable addresses in 300 s, all",
            sum(result.found for result in results), sum(result.addresses for result in results),
        ),
        _share(
            "unknown lines: readable addresses without a limit, 8 lines",
            sum(line.result.found for line in whole), sum(line.result.addresses for line in whole), "≥ 0.98",
        ),
        _share(
            "unknown lines: cuts, types and orders right of what was found",
            sum(result.right for result in results), sum(result.read for result in results), "≥ 0.95",
        ),
        *_habits(),
        Figure(
            "unknown lines: questions in 300 s, mean of a line",
            f"{sum(line.asked for line in limited) / len(limited):.0f}",
            f"{sum(line.least for line in limited) / len(limited):.0f}",
            sum(line.asked for line in limited) / max(sum(line.least for line in limited), 1),
        ),
    ]  # fmt: skip


def _habits() -> list[Figure]:
    """Lines with habits of their own, both halves: what may be looked at while something is built, and what not."""
    figures = []
    for half, seeds in zip(("looked at", "judged"), halves(len(KINDS)), strict=True):
        came = outcomes(seeds)
        least = min(came, key=lambda one: one.good / max(one.readings, 1))
        title = f"lines with habits, {half}"
        figures += [
            _share(f"{title}: units found, {sum(one.invented for one in came)} invented",
                   sum(one.units - one.missing for one in came), sum(one.units for one in came), "≥ 0.99"),
            _share(f"{title}: readable addresses in 300 s",
                   sum(one.found for one in came), sum(one.addresses for one in came), "≥ 0.95"),
            _share(f"{title}: cuts, types and orders right of what was found",
                   sum(one.right for one in came), sum(one.read for one in came), "≥ 0.95"),
            _share(f"{title}: readings of the drafted sites that are good",
                   sum(one.good for one in came), sum(one.readings for one in came), "≥ 0.99"),
            _share(f"{title}: the same of the worst: {least.kind}", least.good, least.readings, "≥ 0.99"),
            _share(f"{title}: a stand-in answers as the original, what stands still",
                   sum(one.answered for one in came), sum(one.asked for one in came), "≥ 0.99"),
            _share(f"{title}: a site that can be used within 60 s",
                   sum(one.usable_s <= _SOON_S for one in came), len(came), "1"),
            Figure(f"{title}: readings of what resets", str(max(one.most_readings for one in came)), "2",
                   max(one.most_readings for one in came) / 2, "≤ 1"),
        ]  # fmt: skip
    values = read(range(1, 2 * _LAYOUTS, 2))
    sure_ones = [value.is_right for value in values if value.found is not None and value.found.sure >= 0.9]
    figures += [
        _share("layouts to judge by: cuts and types right", sum(v.is_right for v in values if not v.is_zero),
               sum(not v.is_zero for v in values)),
        _share("layouts to judge by: right of what is told 0.9 sure or more", sum(sure_ones), len(sure_ones), "≥ 0.9"),
    ]  # fmt: skip
    return figures


def _share(what: str, found: int, there: int, target: str = "") -> Figure:
    return Figure(what, str(found), str(there), found / max(there, 1), target)


def _is_soon(seed: int) -> bool:
    took_s = settings_found_s(seed, _GARBAGE_SHARE)
    return took_s is not None and took_s <= _SOON_S


def _within(seed: int) -> _Line:
    return _search(seed, _WITHIN_S)


def _without_limit(seed: int) -> _Line:
    return _search(seed, None)


def _search(seed: int, within_s: float | None) -> _Line:
    line = made_line(seed, tells_parity=False)
    link = SerialLink("/virtual") if line.is_serial else line.link
    search = Everything(link, not line.is_serial, within_s, opener=line.opener)
    with mock.patch("kanaleto.probing.portsettings.is_pseudo_terminal", lambda port: True):
        run_virtual(search.run())
    is_quick = not isinstance(line.link, SerialLink) or line.link.settings.baud >= _QUICK_BAUD
    return _Line(judged(line, search), search.asked, _least(line), is_quick, not line.outside)


def _least(line: MadeLine) -> int:
    """Requests of an asker who knows everything."""
    return sum(1 + device.requests_for_all() for device in line.devices.values())
