"""What was found at a place, at the right of Find: each finding with what to do next."""

from collections.abc import Hashable

from msgspec import Struct

from kanaleto.editing.adding import device_of, line_of
from kanaleto.finding.placestates import PlaceState, RegistersState
from kanaleto.lines.identify import Identification
from kanaleto.probing.hosts import HostState
from kanaleto.probing.known import words_of_runs
from kanaleto.probing.unitstates import UnitFound, UnitState
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.model import Site
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.rows import Rows
from kanaleto.tui.shared.words import wrapped

_SHAPES = {
    UnitState.GOOD: ("●", "verdigris"),
    UnitState.EXCEPTION: ("◐", "ochre"),
    UnitState.GARBLED: ("◇", "violet"),
    UnitState.SHARED: ("◇", "violet"),
}
_HOST_SHAPES = {
    HostState.ANSWERS: ("●", "verdigris"),
    HostState.ACCEPTS: ("◐", "ochre"),
    HostState.REFUSED: ("✕", "terracotta"),
    HostState.SILENT: ("✕", "dim"),
    HostState.NO_ROUTE: ("✕", "terracotta"),
}


class Finding(Struct, frozen=True):
    """A head with its shape, lines below it as (text, tone), and keys with what they do."""

    shape: str
    tone: str
    head: str
    lines: tuple[tuple[str, str], ...] = ()
    keys: tuple[tuple[str, str], ...] = ()
    unit_id: int | None = None
    host: TcpLink | None = None
    keeps_settings: bool = False


class FoundLine(Struct, frozen=True):
    """A line below a finding's head."""

    text: str
    tone: str
    key: str = ""


FoundRow = Finding | FoundLine | None


class FoundRows(Rows[FoundRow]):
    resting_ground = "panel"
    DEFAULT_CSS = "FoundRows { width: 1fr; height: 1fr; scrollbar-size: 1 1; background: $panel; }"

    def may_rest(self, row: FoundRow) -> bool:
        return isinstance(row, Finding)

    def identity(self, row: FoundRow) -> Hashable:
        return (row.unit_id, row.host, row.keeps_settings) if isinstance(row, Finding) else None

    def draw(self, row: FoundRow, width: int, ground: str) -> Cells:
        cells = Cells(self.palette, "rules" if ground == "rules" and self.has_keys else "panel").put(" ")
        if isinstance(row, Finding):
            cells.put(f"{row.shape} ", row.tone).put(row.head, width=width - 4, bold=True)
        elif isinstance(row, FoundLine):
            cells.put("  ")
            if row.key:
                cells.put(row.key, "ochre", bold=True).put(" ")
            cells.put(row.text, row.tone, width=max(width - cells.width - 1, 0))
        return cells

    def lay_out(self, findings: list[Finding], width: int) -> None:
        """Lay the findings out, wrapped to the panel."""
        rows: list[FoundRow] = []
        for finding in findings:
            rows.append(finding)
            for text, tone in finding.lines:
                rows += [FoundLine(part, tone) for part in wrapped(text, max(width - 6, 20))]
            rows += [FoundLine(verb, "ink", key) for key, verb in finding.keys]
            rows.append(None)
        self.set_rows(rows)


def findings_of(place: PlaceState, site: Site) -> list[Finding]:
    """Everything that is known of a place, the newest kind of thing first."""
    found: list[Finding] = []
    if place.hosts is not None:
        for host in place.hosts.found:
            if host.state in (HostState.ANSWERS, HostState.ACCEPTS) or place.hosts.hosts <= 32:
                shape, tone = _HOST_SHAPES[host.state]
                look = (("enter", "look there"),) if host.state is HostState.ANSWERS else ()
                found.append(
                    Finding(shape, tone, host.host, ((host.text, "muted"),), look, host=TcpLink(host.host, host.port))
                )
    line = line_of(site, place.link) if place.link is not None else None
    if place.settings is not None and place.settings.found >= 0:
        tried = place.settings.tried[place.settings.found]
        lines = [(tried.verdict, "muted")]
        if not place.settings.tells_parity:
            lines.append(("a pseudo-terminal carries no parity and no stop bits: these are assumed", "muted"))
        keys: tuple[tuple[str, str], ...] = (("g", "ask units"),)
        if line is not None and line.link != place.link:
            lines.append((f"{line.name} is set to {line.link}", "ochre"))
            keys = (("s", f"keep these settings for {line.name}"), *keys)
        found.append(Finding("●", "verdigris", tried.title, tuple(lines), keys, keeps_settings=True))
    units: dict[int, UnitFound] = dict(place.units.found) if place.units is not None else {}
    for unit_id in sorted({*units, *place.registers}):
        found.append(_unit_finding(place, site, unit_id, units.get(unit_id)))
    if place.heard is not None:
        found += _heard_findings(place, site)
    return found


def _unit_finding(place: PlaceState, site: Site, unit_id: int, unit: UnitFound | None) -> Finding:
    shape, tone = _SHAPES[unit.state] if unit is not None else ("●", "verdigris")
    lines: list[tuple[str, str]] = []
    device = device_of(site, place.link, unit_id) if place.link is not None else None
    if unit is not None:
        lines.append((unit.text, "muted"))
        lines += [(said, "ink") for said in _says(unit.identity)]
        if unit.state is UnitState.EXCEPTION and unit_id not in place.registers:
            lines.append(("there is a device; its registers lie elsewhere", "muted"))
    survey = place.registers.get(unit_id)
    if unit is None and survey is not None and survey.fastest_s is None:  # it was looked for, and never answered
        return Finding("•", "dim", f"unit {unit_id}", (("no answer came from it", "ochre"),), (), unit_id)
    if survey is not None:
        lines += _register_lines(survey)
    directory = place.directories.get(unit_id)
    if directory is not None:
        marker = directory.marker.decode("ascii", "replace")
        lines.append((f"a directory of itself at {directory.start} ({marker!r}): {directory.text}", "ink"))
    for own_setting in place.settings_by_unit.get(unit_id, ()):
        lines.append((own_setting.text, {True: "muted", False: "terracotta", None: "ochre"}[own_setting.agrees]))
    if device is not None:
        lines.append((f"in this site as {device.name}, {len(device.points)} points", "verdigris"))
    keys = [("enter", "read its registers")]
    if unit is None or unit.state in (UnitState.GOOD, UnitState.EXCEPTION):
        keys.append(
            ("e", "look for its registers" if survey is None else "look again" if survey.is_over else "go on looking")
        )
        if device is None:
            keys.append(("a", "add as device"))
        if survey is not None and any(table.runs for table in survey.tables):
            keys.append(("A", "add with a point a register"))
    return Finding(
        shape, tone, f"unit {unit_id}" + (f"  {device.name}" if device else ""), tuple(lines), tuple(keys), unit_id
    )


def _says(identity: Identification | None) -> list[str]:
    if identity is None:
        return []
    texts = list(identity.objects.values())[:4]
    if identity.server_id and identity.server_id not in texts:
        texts.append(identity.server_id)
    return [f"says of itself: {', '.join(text for text in texts if text)}"] if texts else []


def _register_lines(survey: RegistersState) -> list[tuple[str, str]]:
    lines: list[tuple[str, str]] = []
    for table in survey.tables:
        if table.runs:
            most = f"; at most {table.most} a request" if table.most < table.table.most_read else ""
            zeros = "; what it does not have reads as zero" if table.is_full_of_zeros else ""
            walls = f"; no request may cross {', '.join(map(str, table.walls[:4]))}" if table.walls else ""
            lines.append((f"{table.table.title} {words_of_runs(table.runs)} read{most}{zeros}{walls}", "ink"))
        still = len(survey.constant.get(table.table, ()))
        if still:
            lines.append((f"{still} of {table.items} did not change in 2 s", "muted"))
        if table.dangerous:
            lines.append(
                (f"{table.table.title} {words_of_runs(table.dangerous)} silenced it: never touch them", "terracotta")
            )
        if table.resets:
            gone = f"{table.table.title} {words_of_runs(table.resets)} zero right after reading: left alone"
            lines.append((gone, "terracotta"))
        if table.why_none:
            lines.append((table.why_none, "muted"))
    if not any(table.runs for table in survey.tables) and survey.is_over:
        lines.append(("nothing reads at any likely place of 0–65535", "ochre"))
    if survey.fastest_s is not None and survey.slowest_s is not None:
        took = f"{1000 * survey.fastest_s:.1f}–{1000 * survey.slowest_s:.1f} ms"
        lines.append((f"{survey.asked} requests; answers took {took}", "muted"))
    if survey.is_silent_at_holes:
        lines.append(("it is silent where it has no register", "muted"))
    known = [f"{code:02X}" for code, is_known in survey.functions.items() if is_known]
    if known:
        lines.append((f"reading functions it knows: {' '.join(known)}", "muted"))
    return lines


def _heard_findings(place: PlaceState, site: Site) -> list[Finding]:
    found = []
    for heard in place.heard.units if place.heard is not None else ():
        shape, tone = ("●", "verdigris") if heard.answers else ("✕", "terracotta")
        lines = [
            (f"{heard.questions} different questions, {heard.answers} answers heard", "muted"),
            (f"{heard.words} registers and bits heard", "ink"),
        ]
        device = device_of(site, place.link, heard.unit_id) if place.link is not None else None
        keys = (("A", "add with a point a register heard"),) if heard.words and device is None else ()
        found.append(Finding(shape, tone, f"unit {heard.unit_id} overheard", tuple(lines), keys, heard.unit_id))
    return found
