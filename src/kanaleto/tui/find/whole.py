"""A line as a whole, drawn in the middle of Find: the search for everything on it, unit by unit, and which one of its
units is unplugged."""

from kanaleto.finding.placestates import PlaceState, RegistersState
from kanaleto.probing.known import words_of_runs
from kanaleto.tui.shared.digits import large
from kanaleto.tui.shared.pane import Row
from kanaleto.tui.shared.words import age_text
from kanaleto.wire.codes import Table

_BAR = 34
_WORDS = {Table.HOLDING: "holding", Table.INPUT: "input", Table.COIL: "coils", Table.DISCRETE: "discrete"}
_LARGE_WIDTH = 40
_MOST_RUNS = 3


def everything_rows(place: PlaceState, height: int) -> list[Row]:
    """How far it is, and what of each unit reads so far."""
    search = place.everything
    if search is None:
        return []
    done = round(_BAR * search.share)
    left = f"about {age_text(search.left_s)} left" if place.doing else "stopped" if not search.is_over else "over"
    rows: list[Row] = [
        [("Everything", "ink!"), (f"  {search.stage if place.doing else left}", "ochre"), (f"  {place.title}", "muted")]
    ]
    if place.doing:
        rows.append([("  ", "ink"), ("█" * done, "verdigris"), ("·" * (_BAR - done), "rules"), (f"  {left}", "muted")])
    rows += [
        [
            (f"  {search.asked} questions · {search.units_asked} unit IDs asked · ", "muted"),
            (f"{len(place.registers)} units, {search.items} addresses read", "ink"),
        ],
        [],
    ]
    units = sorted(place.registers)
    room = max((height - len(rows) - 2) // max(len(units), 1), 1)
    for unit in units:
        says = search.says.get(unit, "")
        samples = search.samples.get(unit, 0)
        read = "read once" if samples == 1 else f"read {samples} times" if samples else "not read again yet"
        head: Row = [
            (f"  unit {unit:<4}", "ink!"), (f"{place.registers[unit].items:>5} addresses", "verdigris"),
            (f"  {read}", "muted"),
        ]  # fmt: skip
        if unit in search.troubles:
            head.append((f"  {search.troubles[unit]}", "terracotta"))
        elif says:
            head.append((f"  {says}", "muted"))
        rows.append(head)
        rows += [[(f"    {line}", "muted")] for line in _lines_of(place.registers[unit])[: room - 1]]
    return rows


def _lines_of(survey: RegistersState) -> list[str]:
    lines = []
    for table in survey.tables:
        if table.runs:
            shown = words_of_runs(table.runs[:_MOST_RUNS])
            more = f" and {len(table.runs) - _MOST_RUNS} more runs" if len(table.runs) > _MOST_RUNS else ""
            lines.append(f"{_WORDS[table.table]} {shown}{more}")
    return lines


def roll_rows(place: PlaceState) -> list[Row]:
    """The unit that went or came last, large, and the others beside it."""
    roll = place.roll
    if roll is None:
        return []
    there = sum(one.is_there for one in roll.called)
    rows: list[Row] = [
        [("Which one is it?", "ink!"), (f"  {there} of {len(roll.called)} answer, asked {roll.rounds} times", "muted")],
        [],
    ]
    latest = next((one for one in roll.called if one.unit_id == roll.latest), None)
    if not there and len(roll.called) > 1:
        rows += [[("    ✕ none of them answers: it is the line itself, or the power of all", "terracotta")], []]
    elif latest is None:
        rows += [
            [("  Unplug one of them, or switch it off: its number stands here, large.", "ink")],
            [("  Nothing is written; each is asked the same short read again and again.", "muted")],
            [],
        ]
    else:
        tone = "verdigris" if latest.is_there else "terracotta"
        digits = large(str(latest.unit_id), _LARGE_WIDTH) or (str(latest.unit_id),)
        rows += [[("    ", "ink"), (line, f"{tone}!")] for line in digits]
        since = age_text(roll.ages.get(latest.unit_id, 0.0))
        state = f"● is back, {since} ago" if latest.is_there else f"✕ does not answer, for {since}"
        rows += [[], [(f"    unit {latest.unit_id} {state}", tone)], []]
    for at in range(0, len(roll.called), 8):
        row: Row = [("  ", "ink")]
        for one in roll.called[at : at + 8]:
            shape, tone = ("●", "verdigris") if one.is_there else ("✕", "terracotta")
            row.append((f"{shape} {one.unit_id:<6}", tone))
        rows.append(row)
    return rows
