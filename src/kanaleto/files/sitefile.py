"""Reads a site file and the maps it names. Every fault is found before any is reported, each with file, line and what
would be right."""

import tomllib
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from msgspec import ValidationError, convert
from msgspec.structs import replace

from kanaleto.files import siteschema as schema
from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import KnownRows, read_map
from kanaleto.files.mapscale import SCALE_NUMBERS, ScaleCells, make_scale, parse_curve
from kanaleto.files.mapshared import Shared
from kanaleto.files.simulation import read_simulated
from kanaleto.files.texts import SiteTexts
from kanaleto.files.toml_lines import KeyLines, deepest_line, loads_bounded, longest_number
from kanaleto.site.bridges import Bridge, TlsServing
from kanaleto.site.counting import Counting, Numbering, OwnNumbering
from kanaleto.site.filefaults import Fault, FaultyFile, suggestion
from kanaleto.site.formula import formula_faults
from kanaleto.site.links.link import FramingKind, Link
from kanaleto.site.links.parse import parse_link
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.model import (
    KEEPING_EVENTS,
    LIMIT_MANNERS,
    LIMITS,
    Derived,
    Device,
    DeviceLimits,
    Keeping,
    Limits,
    Line,
    Point,
    Site,
    Writing,
)
from kanaleto.site.moving import moving_faults
from kanaleto.site.ranges import parse_range
from kanaleto.site.wiring import MASTER, NO_WIRING, Wiring
from kanaleto.values.digits import whole
from kanaleto.values.types import ByteOrder, parse_order
from kanaleto.wire.codes import Table


def read_keeping(
    table: schema.SiteTable, derived: tuple[Derived, ...], lines: tuple[Line, ...],
    fault: Callable[[tuple[str, ...], str], object],
) -> Keeping:  # fmt: skip
    """Of the table of the site; `fault` receives what is wrong, with the key."""
    kinds = table.lay_aside if table.lay_aside is not None else list(Keeping().lay_aside)
    keeping = Keeping(tuple(kinds), table.keep_days, table.keep_mb)
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


MapCache = dict[tuple[Path, MapDefaults], tuple[str, tuple[Point, ...], list[Fault], KnownRows]]
"""Maps as they were read last, with their text: one that has not changed is not read again, and of one that has only
its rows that have."""


def read_site(path: Path, texts: SiteTexts, cache: MapCache | None = None) -> tuple[Site, list[Fault]]:
    """The site in the text of `path` and the maps that it names, and warnings. Raises FaultyFile with all that is
    wrong."""
    reader = _SiteFileReader(path, texts, cache if cache is not None else {})
    site = reader.read()
    wrong = [fault for fault in reader.faults if not fault.is_warning]
    warnings = [fault for fault in reader.faults if fault.is_warning]
    if wrong or site is None:
        raise FaultyFile(wrong, warnings)
    return site, warnings


class _SiteFileReader:
    def __init__(self, path: Path, texts: SiteTexts, cache: MapCache) -> None:
        self.path = path
        self._texts, self._cache = texts, cache
        self.faults: list[Fault] = []
        self._keys = KeyLines("")
        self._fault_places: list[tuple[str | int, ...]] = []  # places of faults, as keys from the top
        self._missing: set[str] = set()  # keys that were left out since their values are no TOML
        self._period_s = 1.0
        self._site_writing: schema.Writing = None
        self._shared = Shared()
        self._maps: dict[tuple[Path, MapDefaults], tuple[Point, ...]] = {}

    def _fault(self, where: tuple[str | int, ...], text: str, is_warning: bool = False) -> None:
        self._fault_places.append(where)
        self.faults.append(Fault(self.path, self._keys.line(where), text, is_warning))

    def _shape_fault(self, where: tuple[str | int, ...], text: str) -> None:
        if where and where[-1] in self._missing and " needs " in text:  # its value was reported
            self._fault_places.append(where)
        else:
            self._fault(where, text)

    def read(self) -> Site | None:
        text = self._texts.text(self.path)
        tree = self._tree(text)
        if tree is None:
            return None
        self._keys = KeyLines(text)
        try:
            file = convert(tree, schema.SiteFile)
        except (ValidationError, RecursionError, OverflowError):
            self._find_the_rest(tree, text)
            return None
        if "inf" in text or "nan" in text:
            self._tell_shape(tree, text, is_made=True)
            if self.faults:
                return None
        return self._site(file)

    def _tree(self, text: str) -> dict[str, Any] | None:
        """Of a text that is no TOML, all that is wrong in it is reported, and what can be read is looked at all the
        same."""
        try:
            return loads_bounded(text)
        except tomllib.TOMLDecodeError:
            from kanaleto.files.mended import Syntax  # only needed where something is wrong

            syntax = Syntax(text)
            self.faults += [Fault(self.path, line, text) for line, text in syntax.faults]
            self._missing = syntax.keys
            return syntax.tree
        except RecursionError:
            raise FaultyFile([Fault(self.path, deepest_line(text), "is nested too deeply here")]) from None
        except ValueError:  # of a number with more digits than Python takes
            raise FaultyFile([Fault(self.path, longest_number(text), "has a number of too many digits here")]) from None

    def _find_the_rest(self, tree: dict[str, Any], text: str) -> None:
        """It cannot be read as tables: with what is wrong taken out the rest is read too, so that all is reported at
        once."""
        from kanaleto.files.mended import mend

        self._tell_shape(tree, text)
        wheres = [where for where in self._fault_places if where]
        mend(tree, wheres)
        try:
            file = convert(tree, schema.SiteFile)
        except (ValidationError, RecursionError, OverflowError):
            return
        before = len(self.faults)
        self._site(file)
        lines = {(fault.file, fault.line) for fault in self.faults[:before]}
        self.faults[before:] = [fault for fault in self.faults[before:] if (fault.file, fault.line) not in lines]

    def _site(self, file: schema.SiteFile) -> Site:
        self._period_s = self._seconds(("site", "period_s"), file.site.period_s)
        self._check_format(file.site.format)
        self._shared = self._read_shared(file)
        self._site_writing = file.site.writing
        lines = tuple(self._line(index, table) for index, table in enumerate(file.line))
        self._check_names(file)
        self._check_ports(lines)
        derived = tuple(
            Derived(formula.name, formula.formula, formula.unit, formula.decimals, _limits(formula), formula.note)
            for formula in file.derived
        )
        for at, text in formula_faults(derived, lines):
            self._fault(("derived", at, "formula"), text)
        self._check_moving(lines)
        count = sum(line.point_count for line in lines)
        most = self._most_points(("site", "max_points"), "the site", file.site.max_points, count)
        keeping = read_keeping(file.site, derived, lines, self._fault)
        bridges, composing = self._bridges(file, lines, derived)
        return Site(
            file.site.name,
            lines,
            self.path,
            derived,
            most,
            keeping,
            self._writing(),
            file.site.bench_seed,
            bridges,
            composing,
        )

    def _bridges(
        self, file: schema.SiteFile, lines: tuple[Line, ...], derived: tuple[Derived, ...]
    ) -> tuple[tuple[Bridge, ...], tuple[Derived, ...]]:
        """With the expressions of composed devices."""
        if not file.bridge:
            return (), ()
        from kanaleto.files.bridgetables import read_bridges  # most sites have none

        def points(where: tuple[str | int, ...], table: schema.ComposedTable) -> tuple[Point, ...]:
            order = self._order(where, table.order)
            defaults = MapDefaults(Numbering(table.numbering), order, self._period_s, DeviceLimits(), self._shared)
            return self._points((*where, "map"), self.path.parent / table.map, defaults)

        def tls_serving(index: int, table: schema.BridgeTable) -> TlsServing | None:
            return self._tls_serving(("bridge", index), table)

        bridges, composing = read_bridges(file.bridge, lines, self.path.parent, self._fault, tls_serving, points)
        for at, text in formula_faults((*derived, *composing), lines):
            if at >= len(derived):
                self._fault(("bridge",), text)
        return bridges, composing

    def _read_shared(self, file: schema.SiteFile) -> Shared:
        scales: list[tuple[str, ScaleCells]] = []
        for name, table in file.scale.items():
            try:
                numbers: dict[str, float | None] = {key: getattr(table, key) for key in SCALE_NUMBERS}
                curve = parse_curve(table.curve) if table.curve else ()
                cells = ScaleCells(**numbers, curve=curve, signal=table.signal, clamps=table.clamp)
                make_scale(cells)
                scales.append((name, cells))
            except ValueError as error:
                self._fault(("scale", name), f"scale {name!r}: {error}")
        states: list[tuple[str, tuple[tuple[int, str], ...]]] = []
        for name, labels in file.states.items():
            try:
                states.append((name, tuple((whole(key), label) for key, label in labels.items())))
            except ValueError:
                self._fault(("states", name), f'states {name!r}: each key is a number, as in 0 = "Closed"')
        return Shared(tuple(file.constants.items()), tuple(scales), tuple(states))

    def _tell_shape(self, tree: dict[str, Any], text: str, is_made: bool = False) -> None:
        """Why it could not be read as tables, or what of them is no number."""
        from kanaleto.files.shape import tell_shape  # only needed where something is wrong

        site = tree.get("site")
        if isinstance(site, dict) and type(site.get("format")) is int:
            self._check_format(site["format"])  # what another format may have is not known here
        try:
            tell_shape(tree, self._shape_fault)
        except RecursionError:
            raise FaultyFile([Fault(self.path, deepest_line(text), "is nested too deeply here")]) from None
        if not self._fault_places and not is_made:
            self._fault((), "the file cannot be read as a site")

    def _check_format(self, number: int) -> None:
        try:
            schema.check_format(number)
        except ValueError as error:
            self._fault(("site", "format"), f"format = {number}: {error}")

    def _seconds(self, where: tuple[str | int, ...], period: schema.Period) -> float:
        try:
            return schema.seconds_of(period)
        except ValueError as error:
            self._fault(where, f"{where[-1]} = {period!r}: {error}")
            return 1.0

    def _line(self, index: int, table: schema.LineTable) -> Line:
        where = ("line", index)
        link: Link
        try:
            link = parse_link(table.link)
        except ValueError as error:
            self._fault((*where, "link"), str(error))
            link = TcpLink("127.0.0.1", 502)
        link = link.beside(self.path.parent)
        devices = tuple(
            self._device((*where, "device", at), table, device, link) for at, device in enumerate(table.device)
        )
        units: dict[int, str] = {}
        for at, device in enumerate(devices):
            if device.unit_id in units:
                self._fault(
                    (*where, "device", at, "unit_id"),
                    f"unit ID {device.unit_id} is {units[device.unit_id]!r} already on line {table.name!r}",
                    is_warning=link.may_repeat_units,
                )
            units.setdefault(device.unit_id, device.name)
        if table.in_flight > 1 and not link.has_transactions:
            self._fault(
                (*where, "in_flight"),
                f"in_flight = {table.in_flight} needs transactions, which only tcp:// and tls:// have",
            )
        if table.in_flight > 1 and table.connection == "request":
            self._fault(
                (*where, "in_flight"),
                f"in_flight = {table.in_flight} needs a connection that is kept: "
                'take it out, or connection = "request"',
            )
        return Line(
            table.name,
            link,
            devices,
            timeout_s=table.timeout_s,
            retries=table.retries,
            gap_s=table.gap_s,
            connect_timeout_s=table.connect_timeout_s,
            reconnect_s=table.reconnect_s,
            in_flight=table.in_flight,
            connects_per_request=table.connection == "request",
            origin=table.origin,
            tls_serving=self._tls_serving(where, table),
            max_points=self._most_points(
                (*where, "max_points"), table.name, table.max_points, sum(len(device.points) for device in devices)
            ),
            writing=self._writing(table.writing),
            prefer_port=table.prefer_port,
            wiring=self._wiring((*where, "wiring"), table, link),
        )

    def _wiring(self, where: tuple[str | int, ...], table: schema.LineTable, link: Link) -> Wiring:
        wiring = table.wiring
        if wiring == schema.WiringTable():
            return NO_WIRING
        known = [MASTER, *(device.name for device in table.device)]
        named = [("order", name) for name in wiring.order] + [("terminators", name) for name in wiring.terminators]
        for key, name in [*named, *([("bias", wiring.bias)] if wiring.bias else [])]:
            if name not in known:
                text = f"{name!r} is no device of line {table.name!r}{suggestion(name, known)}"
                self._fault((*where, key), f"{text}; {MASTER} is this machine", is_warning=True)
        for name in {name for name in wiring.order if wiring.order.count(name) > 1}:
            self._fault((*where, "order"), f"{name!r} stands twice in the order along the cable")
        ends = {wiring.order[0], wiring.order[-1]} if wiring.order else set()
        if ends and wiring.terminators and set(wiring.terminators) != ends:
            text = f"terminators belong at the two ends of the cable, {wiring.order[0]} and {wiring.order[-1]}"
            self._fault((*where, "terminators"), f"{text}; noted are {', '.join(wiring.terminators)}", is_warning=True)
        return Wiring(
            tuple(wiring.order), tuple(wiring.terminators), wiring.bias, wiring.wires, wiring.length_m, wiring.note
        )

    def _writing(self, *said_here: schema.Writing) -> Writing:
        """What is said nearest to it holds."""
        return Writing(next((said for said in (*said_here, self._site_writing) if said is not None), "unlock"))

    def _most_points(self, where: tuple[str | int, ...], who: str, most: int | None, count: int) -> int | None:
        if most is not None and count > most:
            self._fault(where, f"{who} has {count} points, and max_points is {most}", is_warning=True)
        return most

    def _tls_serving(
        self, where: tuple[str | int, ...], table: schema.LineTable | schema.BridgeTable
    ) -> TlsServing | None:
        if table.serve_cert is None and table.serve_key is None and table.serve_ca is None:
            return None
        if table.serve_cert is None or table.serve_key is None:
            self._fault(where, "serving over TLS needs both serve_cert and serve_key")
            return None
        files = {}
        for key, name in (
            ("serve_cert", table.serve_cert),
            ("serve_key", table.serve_key),
            ("serve_ca", table.serve_ca),
        ):
            if name is not None:
                files[key] = self.path.parent / name
                if not files[key].is_file():
                    self._fault((*where, key), f"{key} {str(files[key])!r} does not exist")
                elif key != "serve_key" and (why := _why_not_good(files[key])):
                    self._fault((*where, key), why, is_warning=True)
        roles = tuple((role, tuple(functions)) for role, functions in table.roles.items())
        return TlsServing(files["serve_cert"], files["serve_key"], files.get("serve_ca"), roles)

    def _device(
        self, where: tuple[str | int, ...], line: schema.LineTable, table: schema.DeviceTable, link: Link
    ) -> Device:
        order = self._order(where, table.order)
        own_numbering_table = table.own_numbering
        numbering: Counting = (
            OwnNumbering(own_numbering_table.base, own_numbering_table.group, own_numbering_table.index)
            if own_numbering_table is not None
            else Numbering(table.numbering)
        )
        period_s = self._period_s
        if table.period_s is not None:
            period_s = self._seconds((*where, "period_s"), table.period_s)
        if link.framing is not FramingKind.TCP and not 1 <= table.unit_id <= 247:
            framing = link.framing.value.upper()
            self._fault((*where, "unit_id"), f"unit ID {table.unit_id} is not in 1…247, as {framing} framing needs")
        self._check_settings(where, line, table, link)
        limits = DeviceLimits(
            max_registers=table.max_registers,
            max_bits=table.max_bits,
            max_write_registers=table.max_write_registers,
            max_write_bits=table.max_write_bits,
            max_gap=table.max_gap,
            functions=tuple(table.functions) if table.functions is not None else None,
            write_with=table.write_with,
            never_read=self._never_read(where, table.never_read, numbering),
        )
        points: tuple[Point, ...] = ()
        map_path = self.path.parent / table.map if table.map is not None else None
        if map_path is not None:
            points = self._points(
                (*where, "map"), map_path, MapDefaults(numbering, order, period_s, limits, self._shared)
            )
        if table.tag and table.tag not in {point.name for point in points}:
            self._fault((*where, "tag"), f"tag names {table.tag!r}, which is no point of this device")
        if table.enabled_by and table.enabled_by not in {point.name for point in points}:
            self._fault(
                (*where, "enabled_by"), f"enabled_by names {table.enabled_by!r}, which is no point of this device"
            )
        return Device(
            table.name,
            table.unit_id,
            points,
            table.timeout_s if table.timeout_s is not None else line.timeout_s,
            table.retries if table.retries is not None else line.retries,
            map_path=map_path,
            numbering=numbering,
            order=order,
            period_s=period_s,
            limits=limits,
            watchdog_s=table.watchdog_s,
            is_enabled=table.enabled,
            enabled_by=table.enabled_by,
            pause_after_connect_s=table.pause_after_connect_s,
            pause_after_write_s=table.pause_after_write_s,
            max_points=self._most_points((*where, "max_points"), table.name, table.max_points, len(points)),
            writing=self._writing(table.writing, line.writing),
            tag=table.tag,
            simulated=read_simulated(table, self.path.parent, lambda keys, text: self._fault((*where, *keys), text)),
            note=table.note,
        )

    def _check_settings(
        self, where: tuple[str | int, ...], line: schema.LineTable, table: schema.DeviceTable, link: Link
    ) -> None:
        """All devices of a serial line speak with the same settings; what a device says of its own must agree."""
        settings = {
            key: value
            for key, value in (("baud", table.baud), ("parity", table.parity), ("stop", table.stop))
            if value is not None
        }
        if settings and link.settings is None:
            self._fault(
                (*where, next(iter(settings))),
                f"{table.name} has serial settings, and line {line.name!r} is no serial line",
            )
        elif link.settings is not None:
            of_line = {"baud": link.settings.baud, "parity": link.settings.parity.value, "stop": link.settings.stop}
            for key, value in settings.items():
                if value != of_line[key]:
                    text = (
                        f"{table.name} is set to {key} {value}, line {line.name!r} runs at "
                        f"{of_line[key]}; all on one line need the same"
                    )
                    self._fault((*where, key), text)

    def _order(self, where: tuple[str | int, ...], text: str | None) -> ByteOrder | None:
        if text is None:
            return None
        try:
            return parse_order(text)
        except ValueError as error:
            self._fault((*where, "order"), str(error))
            return None

    def _points(self, where: tuple[str | int, ...], path: Path, defaults: MapDefaults) -> tuple[Point, ...]:
        key = (path, defaults)
        if key not in self._maps:
            if not self._texts.exists(path):
                self._fault(where, f"map {str(path)!r} does not exist")
                return ()
            points, faults = self._read_map(path, defaults)
            self._maps[key] = points
            known_faults = set(self.faults)
            self.faults += [fault for fault in faults if fault not in known_faults]
        return self._maps[key]

    def _read_map(self, path: Path, defaults: MapDefaults) -> tuple[tuple[Point, ...], list[Fault]]:
        try:
            text = self._texts.text(path)
        except FaultyFile as faulty:
            return (), faulty.faults
        known = self._cache.get((path, defaults))
        if known is not None and known[0] == text:
            return known[1], known[2]
        rows = KnownRows() if known is None else replace(known[3])
        points, faults = read_map(path, text, defaults, rows)
        self._cache[path, defaults] = (text, points, faults, rows)
        return points, faults

    def _never_read(
        self, where: tuple[str | int, ...], texts: list[str], numbering: Counting
    ) -> tuple[tuple[Table, int, int], ...]:
        ranges = []
        for at, text in enumerate(texts):
            try:
                ranges.append(parse_range(text, numbering))
            except ValueError as error:
                self._fault((*where, "never_read", at), str(error))
        return tuple(ranges)

    def _check_names(self, file: schema.SiteFile) -> None:
        lines: set[str] = set()
        devices: dict[str, str] = {}
        for index, line in enumerate(file.line):
            if line.name in lines:
                self._fault(("line", index, "name"), f"two lines are named {line.name!r}; give each its own name")
            lines.add(line.name)
            for at, device in enumerate(line.device):
                if device.name in devices:
                    self._fault(
                        ("line", index, "device", at, "name"),
                        f"{device.name!r} is a device on line {devices[device.name]!r} already; give each its own name",
                    )
                devices.setdefault(device.name, line.name)

    def _check_moving(self, lines: tuple[Line, ...]) -> None:
        places = {
            device.name: ("line", index, "device", at)
            for index, line in enumerate(lines)
            for at, device in enumerate(line.devices)
        }
        for device, (keys, text, is_warning) in moving_faults(lines):
            self._fault((*places[device.name], *keys), f"{device.name}: {text}", is_warning)

    def _check_ports(self, lines: tuple[Line, ...]) -> None:
        ports: dict[str, str] = {}
        for index, line in enumerate(lines):
            port = line.link.local_port
            if port is not None:
                if port in ports:
                    self._fault(("line", index, "link"), f"port {port} is line {ports[port]!r} already")
                ports.setdefault(port, line.name)


def _limits(table: schema.DerivedTable) -> Limits:
    return Limits(**{name: getattr(table, name) for name in (*LIMITS, *LIMIT_MANNERS)})


_SOON_DAYS = 30


def _why_not_good(path: Path) -> str:
    """In one sentence where it has run out, is not good yet, or soon will be no more; else nothing. What is no
    certificate is reported by whoever serves with it."""
    from cryptography import x509  # only where something is served over TLS

    try:
        certificate = x509.load_pem_x509_certificate(path.read_bytes())
    except (OSError, ValueError):
        return ""
    now = datetime.now(UTC)
    begins, ends = certificate.not_valid_before_utc, certificate.not_valid_after_utc
    if ends < now:
        return f"{path.name} ran out on {ends:%Y-%m-%d}: clients refuse it; put a new one there"
    if begins > now:
        return f"{path.name} is only good from {begins:%Y-%m-%d} on: clients refuse it until then"
    days = (ends - now).days
    return f"{path.name} runs out in {days} days, on {ends:%Y-%m-%d}" if days < _SOON_DAYS else ""
