"""The middle of Find: what is under way at a place, drawn: settings as tried, the 16×16 field of units, registers, what
is overheard."""

from kanaleto.finding.placestates import PlaceState, UnitsState
from kanaleto.probing.question import CARE
from kanaleto.probing.unitstates import UnitState
from kanaleto.tui.find.whole import everything_rows, roll_rows
from kanaleto.tui.shared.pane import Row
from kanaleto.tui.shared.words import age_text, wrapped
from kanaleto.wire.pdu import Read

_FIELD = {
    UnitState.UNASKED: ("·", "rules"),
    UnitState.SILENT: ("•", "dim"),
    UnitState.NOBODY: ("⌀", "muted"),
    UnitState.GOOD: ("●", "verdigris"),
    UnitState.EXCEPTION: ("◐", "ochre"),
    UnitState.GARBLED: ("◇", "violet"),
    UnitState.SHARED: ("◈", "violet"),
}
_MOST_TRIED = 6
_WIDTH, _LEAST_WIDTH = 76, 24
_NEAR = 9999  # most registers stand before that
_MOST_HEARD = 14


def rows_of(place: PlaceState | None, height: int, width: int) -> list[Row]:
    """What there is to show, in at most `height` rows, text in `width` columns: what was begun last first."""
    width = max(min(width - 2, _WIDTH), _LEAST_WIDTH)
    if place is None:
        return _welcome(width)
    blocks = {
        "everything": everything_rows(place, height),
        "roll": roll_rows(place),
        "settings": _settings_rows(place),
        "units": _unit_rows(place),
        "registers": _register_rows(place),
        "listening": _heard_rows(place),
        "hosts": _host_rows(place),
    }
    rows = blocks.pop(place.shown, [])
    blocks.pop("roll", None)
    if rows and place.note and not place.doing:  # how it ended, in full: at the left there is little room
        rows[1:1] = [[(f"  {part}", "ochre")] for part in wrapped(place.note, width)]
    for name, block in blocks.items():
        if block and len(rows) + len(block) + 1 <= height:
            rows = [*block, [], *rows] if name == "settings" else [*rows, [], *block]
    return rows if rows else _what_to_do(place, width)


def _welcome(width: int) -> list[Row]:
    return [
        [("Get an answer at all", "ink!")],
        [],
        [("Type a link or a port at the left and press enter, or choose one of those listed.", "muted")],
        [("  tcp://192.0.2.7        ", "sky"), ("a device or a gateway on the network", "muted")],
        [("  192.0.2.10-60          ", "sky"), ("who answers in a range of hosts", "muted")],
        [("  /dev/ttyUSB0   COM8    ", "sky"), ("a serial port whose settings nobody knows", "muted")],
        [("  rtu:///dev/ttyUSB0?baud=9600&parity=none   ", "sky"), ("one whose settings are known", "muted")],
        [],
        [("Nothing is written here, and nobody is asked who was not typed or chosen.", "muted")],
        *_care(width),
    ]


def _what_to_do(place: PlaceState, width: int) -> list[Row]:
    if place.link is None:
        return [
            [(place.title, "ink!")],
            [],
            [("g", "ochre!"), (" asks every host of this range", "muted")],
            *_care(width),
        ]
    rows: list[Row] = [[(place.title, "ink!")], []]
    if place.is_serial:
        rows.append([("t", "ochre!"), (" tries settings, the likeliest first", "muted")])
        rows.append([("o", "ochre!"), (" listens without sending a byte, where another master talks", "muted")])
    rows.append([("f", "ochre!"), (" finds everything: settings, units, registers, types, in five minutes", "muted")])
    rows.append([("g", "ochre!"), (" asks which units answer", "muted")])
    rows.append([("enter", "ochre!"), (" reads some registers of one unit", "muted")])
    return [*rows, *_care(width)]


def _care(width: int) -> list[Row]:
    return [[(part, "ochre")] for part in wrapped(f"{CARE[0].upper()}{CARE[1:]}.", width)]


def _settings_rows(place: PlaceState) -> list[Row]:
    survey = place.settings
    if survey is None:
        return []
    rows: list[Row] = [[("Settings", "ink!"), ("  tried by likelihood, reading only", "muted")]]
    tried = [(at, one) for at, one in enumerate(survey.tried) if one.asked]
    telling = [at for at, one in tried if one.garbled or one.answered_by is not None or one.text]
    quiet = [at for at, _ in tried if at not in telling]
    shown = sorted({*telling[-_MOST_TRIED:], *quiet[: max(_MOST_TRIED - len(telling), 1)]})
    if survey.trying >= 0 and survey.found < 0 and survey.trying not in shown:
        shown.append(survey.trying)
    for at, one in tried:
        if at not in shown:
            continue
        mark, tone = (
            ("●", "verdigris")
            if one.answered_by is not None
            else ("◇" * min(one.garbled, 4), "violet")
            if one.garbled
            else ("·", "dim")
        )
        is_trying = at == survey.trying and survey.found < 0 and bool(place.doing)
        rows.append(
            [
                ("  ", "ink"),
                (f"{one.title:<16}", "ink" if one.garbled or one.answered_by else "muted"),
                (f"{mark:<7}", tone),
            ]
        )
        rows[-1].append((one.verdict, "ochre" if is_trying else "muted"))
    left = len(survey.tried) - len([at for at, _ in tried if at in shown])
    if survey.found >= 0:
        rows.append([(f"  {left} more settings not needed, or silent", "muted")])
    elif place.doing:
        rows.append([(f"  {left} more · at most {age_text(survey.left_s)} left · escape stops it", "muted")])
    return rows


def _unit_rows(place: PlaceState) -> list[Row]:
    survey = place.units
    if survey is None:
        return []
    where = f"Units on {place.title}"
    state = _unit_state(place, survey)
    rows: list[Row] = [[(where, "ink!"), (f"  {state}", "muted")], []]
    rows.append([("       ", "muted"), ("".join(f"{f'+{column}':<4}" for column in range(16)), "muted")])
    for first in range(0, 256, 16):
        row: Row = [(f"  {first:>3}  ", "muted")]
        for unit in range(first, first + 16):
            if unit not in survey.units:
                row.append(("    ", "dim"))
            elif place.doing and unit == survey.asking and survey.states[unit] is UnitState.UNASKED:
                row.append(("▪   ", "ochre"))
            else:
                shape, tone = _FIELD[survey.states[unit]]
                row.append((f"{shape}   ", tone))
        rows.append(row)
    rows.append([])
    legend: Row = [("  ", "ink")]
    for state_of, word in (
        (UnitState.GOOD, "answers"), (UnitState.EXCEPTION, "exception"), (UnitState.GARBLED, "garbled"),
        (UnitState.SHARED, "two at once"), (UnitState.SILENT, "silent"), (UnitState.NOBODY, "nobody, says gateway"),
        (UnitState.UNASKED, "not asked"),
    ):  # fmt: skip
        if state_of in (UnitState.NOBODY, UnitState.SHARED, UnitState.GARBLED) and state_of not in survey.states:
            continue
        shape, tone = _FIELD[state_of]
        legend += [(f"{shape} ", tone), (f"{word}  ", tone if tone != "rules" else "dim")]
    return [*rows, legend]


def _unit_state(place: PlaceState, survey: UnitsState) -> str:
    asked = f"{survey.asked} of {survey.count} asked"
    if not place.doing:
        return f"{asked} · {len(survey.found)} found"
    if survey.again_left or survey.asked >= survey.count:
        again = f"asking {survey.again_left} again that were silent" if survey.again_left else "looking closer"
        again = f"waiting for {survey.waits_for}" if survey.waits_for else again
        return f"{asked} · {again} · about {max(survey.left_s, 1):.0f} s left"
    shrunk = f" · timeout {1000 * survey.timeout_s:.0f} ms" if survey.timeout_s < survey.longest_s else ""
    return f"{asked} · about {max(survey.left_s, 1):.0f} s left{shrunk}"


def _register_rows(place: PlaceState) -> list[Row]:
    survey = place.registers.get(place.unit_id)
    if survey is None:
        return []
    rows: list[Row] = [
        [
            (f"Registers of unit {place.unit_id}", "ink!"),
            (f"  {100 * survey.share:.0f} % of the likely places · {survey.asked} requests", "muted"),
        ],
        [],
    ]
    whole = survey.tables[0]
    ends = [last for table in survey.tables for _, last in table.runs]
    shown = whole.last if any(last > _NEAR for last in ends) else min(whole.last, _NEAR)
    for table in survey.tables:
        span = max(shown - table.first + 1, 1)
        cells = ["·"] * 50
        for first, last in table.runs:
            for at in range((first - table.first) * 50 // span, min((last - table.first) * 50 // span, 49) + 1):
                cells[at] = "█"
        rows.append(
            [
                (f"  {table.table.title:<18}", "ink"),
                *((cell, "verdigris" if cell == "█" else "rules") for cell in cells),
                (f"  {table.items} read" if table.items else f"  {'none' if table.is_over else ''}", "muted"),
            ]
        )  # fmt: skip
    behind = f"; nothing read behind that, up to {whole.last}" if shown < whole.last else ""
    rows.append([(f"  addresses {whole.first} to {shown} from left to right{behind}", "dim")])
    return rows


def _heard_rows(place: PlaceState) -> list[Row]:
    heard = place.heard
    if heard is None:
        return []
    if not heard.is_settled:
        trying = (
            f"trying {heard.trying}, the {heard.tried}. of the likely settings"
            if place.doing
            else "no settings made sense"
        )
        return [[("Listening", "ink!"), (f"  nothing is sent · {trying}", "muted")]]
    title = (
        f"  nothing is sent · {heard.link.settings} · {heard.frames} frames, {heard.garbled_bytes} bytes that are none"
    )
    rows: list[Row] = [[("Listening", "ink!"), (title, "muted")], []]
    for asked in heard.asked[:_MOST_HEARD]:
        request = asked.request
        what = (
            f"reads {request.table.counted(request.count)} from {request.address}"
            if isinstance(request, Read)
            else f"function {request.function:02X}"
        )
        every = f"every {asked.period_s:.2f} s" if asked.period_s is not None else "once"
        tone = "verdigris" if asked.answered else "terracotta"
        answers = f"{asked.answered} answered" + (f", {asked.refused} refused" if asked.refused else "")
        rows.append(
            [(f"  unit {asked.unit_id:<4}", "ink"), (f"{what:<40}", "ink"), (f"{every:<15}", "muted"), (answers, tone)]
        )
    return rows


def _host_rows(place: PlaceState) -> list[Row]:
    survey = place.hosts
    if survey is None:
        return []
    left = f" · about {max(survey.left_s, 1):.0f} s left" if place.doing else ""
    rows: list[Row] = [[(f"Hosts {place.title}", "ink!"), (f"  {survey.asked} of {survey.hosts} asked{left}", "muted")]]
    rows += [
        [
            ("  this machine  ", "muted"),
            (f"{adapter.interface!s:<28}", "ink"),
            (adapter.name if adapter.is_up else f"{adapter.name}, down", "muted"),
        ]
        for adapter in survey.adapters
        if not adapter.interface.ip.is_loopback and not adapter.interface.ip.is_link_local
    ]
    if not place.doing:
        counts: dict[str, int] = {}
        for host in survey.found:
            counts[host.state.value] = counts.get(host.state.value, 0) + 1
        rows.append([("  " + ", ".join(f"{count} {word}" for word, count in counts.items()), "muted")])
    return rows
