"""The document of a case: what was asked for, what was found, the rules of the standards, and the exchanges."""

import time
from datetime import UTC, datetime
from pathlib import Path

from kanaleto.capture.row import ExchangeRow
from kanaleto.capture.words import OUTCOMES, asked_words, outcome_words
from kanaleto.evidence.case import MOST_ON_PAPER, CaseFacts, said_of
from kanaleto.evidence.rules import broken_by
from kanaleto.paper.drawing import write_elsewhere
from kanaleto.paper.look import zone_words
from kanaleto.paper.sheets import DocumentSheet, PaperColumn, TableSheet
from kanaleto.site.origin import Origin

_MOST_BYTES = 24


def case_document(facts: CaseFacts) -> DocumentSheet:
    wanted = facts.wanted
    about = (
        f"{facts.count:,} exchanges, {moment(facts.first_us)} to {moment(facts.last_us)} · {zone_words(time.time())}"
    )
    unreal = [f"{line.name} ({line.origin})" for line in wanted.lines if line.origin != Origin.REAL.value]
    notes = [
        "Times: local; at is when the first byte of the request went. ± is how late a byte may have been seen.",
        f"Not answered by real devices: {', '.join(unreal)}." if unreal else "All lines are real, as far as is known.",
        *([f"Note: {wanted.note}"] if wanted.note else []),
    ]
    sections = [
        _facts_table(facts),
        _devices_table(facts),
        _found_table(facts),
        _rules_table(facts),
        _rows_table(facts),
    ]
    return DocumentSheet(wanted.title, about, sections, notes)


def draw_case(facts: CaseFacts, path: Path) -> None:
    """In a process of its own. Raises NoPaper."""
    write_elsewhere(case_document(facts), path)


def _facts_table(facts: CaseFacts) -> TableSheet:
    wanted = facts.wanted
    rows = [["source", wanted.source], ["filter", wanted.where or "none: all exchanges"]]
    rows += [
        [f"line {line.name}", f"{line.link} · origin {line.origin} · ± {line.exact_ms:g} ms"] for line in wanted.lines
    ]
    rows += [["setting", text] for text in wanted.settings]
    return TableSheet("What it is of", "", [PaperColumn("what"), PaperColumn("")], rows)


def _devices_table(facts: CaseFacts) -> TableSheet:
    columns = [PaperColumn("device"), PaperColumn("line")]
    columns += [PaperColumn(word, True) for word in (*OUTCOMES.values(), "median ms", "95 % ms")]
    rows = []
    for device in facts.gathered.devices:
        times = sorted(device.times)
        count = len(times)
        figures = ["", ""]
        if times:
            figures = [f"{1000 * times[count // 2]:.1f}", f"{1000 * times[min(count * 95 // 100, count - 1)]:.1f}"]
        counts = [str(device.kinds.get(kind, 0)) for kind in OUTCOMES]
        rows.append([device.name, device.line, *counts, *figures])
    return TableSheet("How each device answered", "", columns, rows)


def _found_table(facts: CaseFacts) -> TableSheet:
    rows = [[name, text] for name, text in said_of(facts)] or [["", "nothing stands out"]]
    return TableSheet("What it looks like", "", [PaperColumn("finding"), PaperColumn("what it says")], rows)


def _rules_table(facts: CaseFacts) -> TableSheet:
    columns = [PaperColumn("rule"), PaperColumn("section")]
    columns += [PaperColumn(word, True) for word in ("kept", "broken", "of")] + [PaperColumn("first broken")]
    rows: list[list[str]] = []
    marked: list[int] = []
    for count in facts.rules.counts:
        first = moment(count.first.at_us) if count.first is not None else ""
        if count.broken:
            marked.append(len(rows))
        rows.append([count.rule.text, count.rule.section, str(count.kept), str(count.broken), str(count.of), first])
    notes = ["AP: application protocol 1.1b3. SL: serial line 1.02. TG: messaging guide for TCP/IP 1.0b. Bold: broken."]
    return TableSheet("Rules of the standards", "", columns, rows, marked, notes)


def _rows_table(facts: CaseFacts) -> TableSheet:
    exact = {line.name: line.exact_ms for line in facts.wanted.lines}
    headings = ["at", "± ms", "line", "device", "asked", "outcome", "ms", "request", "answer", "breaks"]
    columns = [PaperColumn(heading, heading in ("± ms", "ms")) for heading in headings]
    rows = [_row(row, exact.get(row.line, 0.0)) for row in facts.shown]
    text = (
        f"the first {MOST_ON_PAPER} of {facts.count:,}; all are in exchanges.jsonl" if facts.count > len(rows) else ""
    )
    return TableSheet("Exchanges", text, columns, rows)


def _row(row: ExchangeRow, exact_ms: float) -> list[str]:
    return [
        moment(row.at_us), f"{exact_ms:g}", row.line, row.device or f"unit {row.unit_id}", asked_words(row),
        outcome_words(row), _milliseconds(row), _bytes(row.request), _bytes(row.answer),
        ", ".join(rule.section for rule in broken_by(row)),
    ]  # fmt: skip


def _milliseconds(row: ExchangeRow) -> str:
    took_ms = row.took_us / 1000
    return f"{took_ms:.0f}" if took_ms >= 100 else f"{took_ms:.1f}"


def _bytes(raw: bytes) -> str:
    more = f" … {len(raw)} bytes" if len(raw) > _MOST_BYTES else ""
    return f"{raw[:_MOST_BYTES].hex(' ').upper()}{more}"


def moment(at_us: int) -> str:
    return f"{datetime.fromtimestamp(at_us / 1e6, UTC).astimezone():%Y-%m-%d %H:%M:%S.%f}"[:-3]
