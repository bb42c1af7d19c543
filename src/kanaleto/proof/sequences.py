"""Verdicts of rehearsals, on the checkout sheet: claims of kind sequence. Whoever plays one stands in for the devices,
so they are rehearsed, never proved."""

from collections.abc import Sequence

from msgspec import Struct

from kanaleto.editing.presence import user_name
from kanaleto.proof.checkout import Checkout
from kanaleto.proof.claims import replacing
from kanaleto.proof.sheet import ClaimKey, SheetLine, new_id
from kanaleto.proof.taking import iso_of
from kanaleto.site.model import Site
from kanaleto.site.origin import Origin

_MOST_LEVEL = 200


class SequenceVerdict(Struct, frozen=True):
    """Of one expectation: the device or line that the step was about, what was expected, passed or failed, and what
    came of it."""

    target: str
    expect: str
    outcome: str
    text: str


def keep_sequences(
    checkout: Checkout, name: str, verdicts: Sequence[SequenceVerdict], now_s: float, who: str = ""
) -> int:
    """How many were kept; what is void proves nothing, and is left out. Raises CannotKeep."""
    who = who or user_name()
    with checkout.turn:
        checkout.look()
        claims = checkout.claims()
        lines: list[SheetLine] = []
        for number, one in enumerate(verdicts, 1):
            device = _device_of(checkout.site, one.target)
            if one.outcome not in ("passed", "failed") or not device:
                continue
            key = ClaimKey("sequence", device, "", f"{name}, {number}: {one.expect}"[:_MOST_LEVEL])
            replaces = replacing(claims, key, checkout.sheet.lines, who)
            lines.append(
                SheetLine(
                    new_id(), key.claim, device, "", one.outcome, iso_of(now_s), "", key.level, "found", one.expect,
                    None, "unit", one.text, "", None, "by rehearsal", who, Origin.STAND_IN.value, replaces or None,
                )
            )  # fmt: skip
        checkout.keep(lines, now_s)
        return len(lines)


def _device_of(site: Site, target: str) -> str:
    """A device by its name, or the first of a line."""
    for line in site.lines:
        if line.name == target and line.devices:
            return line.devices[0].name
    return next((device.name for _, device in site.devices() if device.name == target), "")
