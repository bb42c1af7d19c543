"""A case: exchanges and what they prove, handed on as one file that others can check: a document, the capture in both
forms, the settings, how often each rule of the standards was kept, and check sums over all of it."""

import csv
import io
import zipfile
from collections.abc import Callable, Iterable, Sequence
from hashlib import sha256
from pathlib import Path
from tempfile import TemporaryDirectory

from msgspec import Struct

from kanaleto import __version__
from kanaleto.capture.capturefile import CaptureFile
from kanaleto.capture.jsonlines import CapturedLine, iso_us, lines_of
from kanaleto.capture.row import ExchangeRow
from kanaleto.evidence.findings import findings_of, remarks_of
from kanaleto.evidence.gathered import Gathered
from kanaleto.evidence.rules import RuleBook
from kanaleto.files.origins import origin_of
from kanaleto.files.whole import write_bytes_whole
from kanaleto.lines.adapters import held_back_ms
from kanaleto.site.model import Site

NAMES = ("case.pdf", "exchanges.jsonl", "exchanges.pcapng", "settings.txt", "rules.csv")
_LOT = 2000
MOST_ON_PAPER = 400


class NoCase(Exception):
    """One sentence: why there is none."""


class CaseWanted(Struct):
    """What it is called, of what, which lines; `settings` are lines of text about timeouts and such."""

    title: str
    note: str
    source: str
    where: str
    lines: list[CapturedLine]
    settings: list[str]


class CaseFacts(Struct):
    """All that the document says."""

    wanted: CaseWanted
    gathered: Gathered
    rules: RuleBook
    shown: list[ExchangeRow]
    count: int
    first_us: int
    last_us: int


Draw = Callable[[CaseFacts, Path], None]
"""Makes the document, in a process of its own."""


def lines_from(
    site: Site | None, capture: Path | None, rows: Callable[[], Iterable[ExchangeRow]]
) -> list[CapturedLine]:
    """The lines of a site; else those that the head of a capture tells, and those of its rows."""
    if site is not None:
        return [
            CapturedLine(line.name, str(line.link), origin_of(line).value, held_back_ms(line.link))
            for line in site.lines
        ]
    by_name = {line.name: line for line in (lines_of(capture) if capture is not None else ())}
    for row in rows():
        by_name.setdefault(row.line, CapturedLine(row.line, row.link, row.origin))
    return list(by_name.values())


def settings_of(site: Site | None) -> list[str]:
    """Timeouts and such of its devices, a line each."""
    return [
        f"{device.name}: unit {device.unit_id} on {line.name}, timeout {device.timeout_s:g} s,"
        f" {device.retries} retries, period {device.period_s:g} s"
        for line, device in (site.devices() if site is not None else ())
    ]


def collect(wanted: CaseWanted, rows: Iterable[ExchangeRow], folder: Path | None) -> CaseFacts:
    """Count, and write the capture in both forms where there is a folder for it. Raises NoCase where nothing fits."""
    exact = {line.name: 1000 * line.exact_ms for line in wanted.lines}
    facts = CaseFacts(wanted, Gathered(), RuleBook(lambda line: exact.get(line, 0.0)), [], 0, 0, 0)
    files = [
        CaptureFile(folder / name, wanted.source, wanted.lines, most_bytes=1 << 40)
        for name in NAMES[1:3]
        if folder is not None
    ]
    lot: list[ExchangeRow] = []

    def put() -> None:
        for file in files:
            file.put(lot)
        lot.clear()

    for row in rows:
        facts.count += 1
        facts.first_us = min(facts.first_us or row.at_us, row.at_us)
        facts.last_us = max(facts.last_us, row.at_us + row.last_us)
        facts.gathered.add(row)
        facts.rules.add(row)
        if len(facts.shown) < MOST_ON_PAPER:
            facts.shown.append(row)
        lot.append(row)
        if len(lot) >= _LOT:
            put()
    put()
    for file in files:
        file.close()
    if not facts.count:
        raise NoCase("nothing fits the filter: no case was made")
    return facts


def rules_csv(facts: CaseFacts) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["rule", "section", "kept", "broken", "of", "first"])
    for count in facts.rules.counts:
        first = iso_us(count.first.at_us) if count.first is not None else ""
        writer.writerow([count.rule.text, count.rule.section, count.kept, count.broken, count.of, first])
    return out.getvalue()


def settings_text(facts: CaseFacts) -> str:
    wanted = facts.wanted
    texts = [
        wanted.title,
        *([wanted.note] if wanted.note else []),
        "",
        f"source: {wanted.source}",
        f"filter: {wanted.where or 'none'}",
        f"exchanges: {facts.count}, from {iso_us(facts.first_us)} to {iso_us(facts.last_us)}",
        f"made by: Kanaleto {__version__}",
        "clock: UTC; at is when the first byte of a request went; order and durations by a clock that is never set",
        "",
    ]
    for line in wanted.lines:
        texts.append(f"line {line.name}: {line.link}, origin {line.origin}, bytes seen up to {line.exact_ms:g} ms late")
    return "\n".join([*texts, *wanted.settings]) + "\n"


def write_case(wanted: CaseWanted, rows: Iterable[ExchangeRow], out: Path, draw: Draw) -> CaseFacts:
    """A zip with all, or the document alone, by the ending of its name. Never overwrites; written whole or not at all.
    Raises NoCase and OSError."""
    if out.exists():
        raise NoCase(f"{out} is there already, and stays as it is; name another file")
    with TemporaryDirectory(prefix="kanaleto-case-") as place:
        folder = Path(place)
        is_zip = out.suffix.lower() == ".zip"
        facts = collect(wanted, rows, folder if is_zip else None)
        draw(facts, folder / NAMES[0])
        if not is_zip:
            write_bytes_whole(out, (folder / NAMES[0]).read_bytes())
            return facts
        (folder / NAMES[3]).write_text(settings_text(facts), encoding="utf-8")
        (folder / NAMES[4]).write_text(rules_csv(facts), encoding="utf-8")
        packed = folder / "case.zip"
        with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
            for name in NAMES:
                archive.write(folder / name, name)
            archive.writestr("SHA256SUMS", _sums(folder, NAMES))
        write_bytes_whole(out, packed.read_bytes())
        return facts


def _sums(folder: Path, names: Sequence[str]) -> str:
    return "".join(f"{sha256((folder / name).read_bytes()).hexdigest()}  {name}\n" for name in names)


def said_of(facts: CaseFacts) -> list[tuple[str, str]]:
    """Findings, and what is no finding, as name and text."""
    lines = list(facts.gathered.lines.values())
    found = findings_of(lines)
    pairs = [(one.kind.value, f"{one.text} Try: {'; '.join(one.tries)}. What tells: {one.apart}.") for one in found]
    return [*pairs, *(("", text) for text in remarks_of(lines, found))]
