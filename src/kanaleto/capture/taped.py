"""Curves out of a site's tape: what its points were in the last hours, whether a record was asked for or not. Read in a
process of its own: a tape of two hours takes seconds, and nobody should feel them."""

import subprocess
import sys
from pathlib import Path

import msgspec
from msgspec import Struct

from kanaleto.board.memory import number_of
from kanaleto.capture.jsonlines import NoCapture
from kanaleto.capture.packing import BlockHead
from kanaleto.capture.reading import Capture
from kanaleto.capture.samples import samples_of
from kanaleto.files.loading import load_site
from kanaleto.site.filefaults import FaultyFile
from kanaleto.site.model import DEMAND, Device, Site

_LONGEST_S = 120.0
_GOOD, _NEVER = 0, 3
MOST_SAMPLES = 500_000


class TapeQuestion(Struct, frozen=True):
    """Points of a site between two moments (wall, seconds)."""

    site: str
    folder: str
    begin: float
    end: float
    wanted: list[tuple[str, str]]


class TapedCurve(Struct):
    """Times, numbers (None where there is none) and qualities, in order; the last stands until `until`."""

    at: list[float]
    value: list[float | None]
    quality: list[int]
    until: float


def taped_curves(question: TapeQuestion) -> dict[str, TapedCurve]:
    """By DEVICE/POINT; empty where nothing was taped, or nothing can be read."""
    folder = Path(question.folder)
    if not folder.is_dir():
        return {}
    try:
        site, _ = load_site(Path(question.site))
    except (FaultyFile, OSError):
        return {}
    wanted = frozenset("/".join(identity) for identity in question.wanted)
    narrowed, longest = _narrowed(site, wanted)
    first_us, last_us = round(question.begin * 1e6), round(question.end * 1e6)

    def wants(head: BlockHead) -> bool:
        return head.first_us <= last_us and head.last_us >= first_us

    found: dict[str, TapedCurve] = {}
    count = 0
    try:
        for sample in samples_of(Capture(folder, wants), narrowed, wanted):
            at, name = sample.at_us / 1e6, f"{sample.device}/{sample.point.name}"
            curve = found.get(name)
            if curve is None:
                curve = found[name] = TapedCurve([], [], [], 0.0)
            if curve.at and at < curve.at[-1]:
                continue  # under a clock that was set back
            if curve.at and at - curve.at[-1] > longest[name]:
                curve.at.append(curve.at[-1] + longest[name])
                curve.value.append(None)
                curve.quality.append(_NEVER)
            number, quality = number_of(sample.value)
            curve.at.append(at)
            curve.value.append(number if quality == _GOOD else None)
            curve.quality.append(quality)
            curve.until = at + longest[name]
            count += 1
            if count >= MOST_SAMPLES:
                break
    except (NoCapture, OSError):
        return found
    return found


def _narrowed(site: Site, wanted: frozenset[str]) -> tuple[Site, dict[str, float]]:
    """The site with the points that are wanted and those that are their powers of ten; and how long a value of each
    stands, in seconds."""
    lines, longest = [], dict[str, float]()
    for line in site.lines:
        devices: list[Device] = []
        for device in line.devices:
            points = [point for point in device.points if f"{device.name}/{point.name}" in wanted]
            powers = {point.exponent for point in points}
            also = [point for point in device.points if point.name in powers and point not in points]
            if points:
                devices.append(msgspec.structs.replace(device, points=(*also, *points)))
            for point in points:
                period_s = device.period_s if point.period_s == DEMAND else point.period_s
                longest[f"{device.name}/{point.name}"] = max(3 * period_s, device.timeout_s, 2.0)
        if devices:
            lines.append(msgspec.structs.replace(line, devices=tuple(devices)))
    return msgspec.structs.replace(site, lines=tuple(lines)), longest


def ask_elsewhere(question: TapeQuestion) -> dict[str, TapedCurve]:
    """The same, in a process of its own."""
    try:
        done = subprocess.run(
            [sys.executable, "-m", "kanaleto.capture.taped"], input=msgspec.json.encode(question), capture_output=True,
            timeout=_LONGEST_S, check=False,
        )  # fmt: skip
    except (OSError, subprocess.TimeoutExpired):
        return {}
    if done.returncode:
        return {}
    return msgspec.msgpack.decode(done.stdout, type=dict[str, TapedCurve])


def main() -> None:
    """A question as JSON on stdin, the answer packed on stdout."""
    question = msgspec.json.decode(sys.stdin.buffer.read(), type=TapeQuestion)
    sys.stdout.buffer.write(msgspec.msgpack.encode(taped_curves(question)))


if __name__ == "__main__":
    main()
