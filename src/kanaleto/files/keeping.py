"""What a site file says of what is kept."""

from collections.abc import Callable

from kanaleto.files import schema
from kanaleto.site.formula import formula_faults
from kanaleto.site.model import KEEPING_EVENTS, Derived, Keeping, Line


def read_keeping(
    table: schema.SiteTable, derived: tuple[Derived, ...], lines: tuple[Line, ...],
    fault: Callable[[tuple[str, ...], str], object],
) -> Keeping:  # fmt: skip
    """Of the table of the site; `fault` is told what is wrong, with the key."""
    told = table.lay_aside if table.lay_aside is not None else list(Keeping().lay_aside)
    keeping = Keeping(tuple(told), table.keep_days, table.keep_mb)
    for condition in keeping.conditions:
        if "[" not in condition:
            fault(
                ("site", "lay_aside"),
                f"lay_aside {condition!r} is no event ({', '.join(KEEPING_EVENTS)}), "
                "and no condition over [Device/Point]",
            )
            continue
        asked = (*derived, Derived(f"lay_aside {condition!r}", condition))
        for at, text in formula_faults(asked, lines):
            if at == len(derived):
                fault(("site", "lay_aside"), text)
    return keeping
