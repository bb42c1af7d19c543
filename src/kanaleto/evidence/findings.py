"""Findings of what was gathered. Each cause is looked for by itself; what explains most of a device's failures is
reported first, and what explains no more than another cause did already is left out. Fewer than eight failures of a
device say nothing, but for what one exchange or one connection proves."""

from collections import Counter
from collections.abc import Iterator, Sequence

from kanaleto.capture.row import link_of
from kanaleto.evidence.chance import at_least, of_run
from kanaleto.evidence.finding import FindingKind, WireFinding, finding
from kanaleto.evidence.gathered import OfDevice, OfLine, Shown, Spell, pause_of
from kanaleto.evidence.rate import OtherSettings
from kanaleto.wire.codes import exception_text

LEAST = 8
_CHANCE = 0.001
_LINE_KINDS = (FindingKind.PORT_HELD, FindingKind.PORT_GONE, FindingKind.NOT_LISTENING)


def findings_of(lines: Sequence[OfLine]) -> list[WireFinding]:
    """The surest and heaviest first; nothing when all is well."""
    found: list[WireFinding] = []
    for line in lines:
        certain = list(_of_line(line))
        found += certain
        if any(one.kind in _LINE_KINDS for one in certain):
            continue
        found += _of_devices(line, certain)
    return sorted(found, key=lambda one: (one.kind not in _LINE_KINDS, -one.count))


def remarks_of(lines: Sequence[OfLine], found: Sequence[WireFinding]) -> list[str]:
    """What failed eight times or more and is no finding, in words."""
    remarks: list[str] = []
    named = {(one.line, one.device): {other.kind for other in found if other.who == one.who} for one in found}
    for evidence in (device for line in lines for device in line.devices.values()):
        kinds = named.get((evidence.line, evidence.name), set()) | named.get((evidence.line, ""), set())
        if evidence.last_good_us is None and evidence.silent.count and not evidence.answered and not kinds:
            neighbours = [other for line in lines if line.name == evidence.line for other in line.devices.values()]
            if _answer_well(neighbours, evidence):
                remarks.append(f"{evidence.name} has never answered; {_others(len(neighbours))}.")
        for code, shown in evidence.codes.items():
            if shown.count >= LEAST and not kinds & _OF_CODES:
                what = f"refused {shown.count} times with exception {code}, {exception_text(code)}"
                remarks.append(f"{evidence.name} {what}: {_ADVICE.get(code, _MANUAL)}.")
        if evidence.garbled.count >= LEAST and not kinds & _OF_GARBLED:
            share = 100 * evidence.garbled.count / evidence.asked
            remarks.append(f"{evidence.name}: {share:.1f} % of its answers come garbled, in no pattern that says why.")
    return remarks


_OF_CODES = {FindingKind.LIMIT, FindingKind.END_OF_TABLE, FindingKind.BUSY}
_OF_GARBLED = {
    FindingKind.GROWS_WITH_LENGTH, FindingKind.TWO_ALIKE, FindingKind.ANOTHER_RATE, FindingKind.ECHO,
    FindingKind.OTHER_MASTER,
}  # fmt: skip
_MANUAL = "its manual says what that means"
_ADVICE = {
    1: "it does not know the function: name those that it knows (functions = […])",
    2: "look at the addresses and how the manual counts them",
    3: "look at how many registers one request may ask (max_registers)",
    4: "the device itself has failed at it: look at its own display",
    8: "the device itself has failed at it: look at its own display",
}


def _of_line(line: OfLine) -> Iterator[WireFinding]:
    """What a port or a connection proves."""

    def made(kind: FindingKind, shown: Shown, what: str, of: int = 0) -> WireFinding:
        return finding(kind, line.name, "", shown.count, of or line.rows, what, line.is_wired, tuple(shown.rows))

    never = " and nothing was ever read on it" if not line.good else ""
    if line.held.count and line.is_wired:
        yield made(FindingKind.PORT_HELD, line.held, f"cannot open its port: another program holds it{never}")
    if line.gone.count and line.is_wired:
        yield made(FindingKind.PORT_GONE, line.gone, f"has no port: the adapter is gone{never}")
    if line.is_wired:
        return
    if line.refused.count and not line.good and not line.cut_at_once.count:
        yield made(FindingKind.NOT_LISTENING, line.refused, "was refused the connection, each time")
        return
    turned_away = line.refused.count + line.cut_at_once.count
    cuts = sum(line.cut_after.values())
    number, times = line.cut_after.most_common(1)[0] if cuts else (0, 0)
    is_counted = times >= 2 and times >= 0.8 * cuts
    if is_counted or (cuts >= 5 and max(line.cut_after) <= 1.2 * number + 1):
        text = f"closed the connection {cuts} times, after {number} answers each" if is_counted else (
            f"closed the connection {cuts} times, after about {number} answers")  # fmt: skip
        shown = Shown(cuts, line.cut_rows.rows)
        yield made(FindingKind.HANGS_UP, shown, text)
    elif line.cut_at_once.count >= 2 or (turned_away >= 3 and line.cut_at_once.count):
        shown = line.cut_at_once
        text = f"let the connection in and closed it before an answer, {shown.count} times"
        yield made(FindingKind.TAKES_FEW, shown, text, turned_away)


def _of_devices(line: OfLine, certain: Sequence[WireFinding]) -> list[WireFinding]:
    """What the devices of a line show."""
    devices = list(line.devices.values())
    found: list[WireFinding] = []
    foreign = _other_master(line)
    if foreign is not None:
        found.append(foreign)
    all_silent = _silent_all(line, devices)
    rate = _another_rate(line, devices)
    found += [one for one in (all_silent, rate) if one is not None]
    for device in devices:
        made = [one for one in _of_device(line, device, devices) if one is not None]
        if certain and any(one.kind in (FindingKind.HANGS_UP, FindingKind.TAKES_FEW) for one in certain):
            made = [one for one in made if one.kind is not FindingKind.RESTARTS]
        found += _without_what_others_explain(made, all_silent, rate, foreign)
    return found


_EXPLAINED = {
    FindingKind.TWO_ALIKE: (FindingKind.ANOTHER_RATE,),
    FindingKind.SILENT_ONE: (FindingKind.RESTARTS, FindingKind.LIMIT, FindingKind.TOO_FAST, FindingKind.TIMEOUT_SHORT),
    FindingKind.RESTARTS: (FindingKind.LIMIT, FindingKind.TOO_FAST, FindingKind.TIMEOUT_SHORT),
    FindingKind.TOO_FAST: (FindingKind.TIMEOUT_SHORT, FindingKind.LIMIT),
    FindingKind.GROWS_WITH_LENGTH: (FindingKind.TWO_ALIKE, FindingKind.ECHO, FindingKind.ANOTHER_RATE),
    FindingKind.MIXED_UP: (FindingKind.WRONG_UNIT, FindingKind.ECHO),
    FindingKind.END_OF_TABLE: (FindingKind.LIMIT,),
}
"""What is only said where none of those explains the same failures."""


def _without_what_others_explain(
    made: list[WireFinding], all_silent: WireFinding | None, rate: WireFinding | None, foreign: WireFinding | None
) -> list[WireFinding]:
    kinds = {one.kind for one in made}
    kept = [one for one in made if not kinds & set(_EXPLAINED.get(one.kind, ()))]
    if all_silent is not None:
        kept = [one for one in kept if one.kind not in (FindingKind.SILENT_ONE, FindingKind.RESTARTS)]
    if rate is not None:
        kept = [one for one in kept if one.kind not in (FindingKind.GROWS_WITH_LENGTH, FindingKind.TWO_ALIKE)]
    if foreign is not None:
        lesser = (FindingKind.TWO_ALIKE, FindingKind.GROWS_WITH_LENGTH, FindingKind.MIXED_UP)
        kept = [one for one in kept if one.kind not in lesser]
    return kept


def _of_device(line: OfLine, device: OfDevice, devices: Sequence[OfDevice]) -> Iterator[WireFinding | None]:
    wired, name, of = line.is_wired, device.name, device.asked

    def made(kind: FindingKind, count: int, what: str, rows: Sequence[int]) -> WireFinding:
        return finding(kind, line.name, name, count, of, what, wired, tuple(rows))

    if device.echoes.count:
        text = f"was answered with its own request {device.echoes.count} times"
        yield made(FindingKind.ECHO, device.echoes.count, text, device.echoes.rows)
    limit = _limit(device)
    if limit is not None:
        count, most, rows = limit
        text = f"answers up to {most} in one request, and refused or dropped {count} that asked for more"
        yield made(FindingKind.LIMIT, count, text, rows)
    for code, kind, text in (
        (0x0A, FindingKind.GATEWAY_PATH, "has no way through its gateway (exception 10)"),
        (0x0B, FindingKind.GATEWAY_TARGET, "did not answer its gateway (exception 11)"),
    ):
        shown = device.gateway_codes.get(code)
        if shown is not None and shown.count >= LEAST:
            yield made(kind, shown.count, f"{text}, {shown.count} times of {of}", shown.rows)
    busy = [device.codes[code] for code in (5, 6) if code in device.codes]
    if (count := sum(shown.count for shown in busy)) >= LEAST:
        yield made(FindingKind.BUSY, count, f"said that it is busy, {count} times of {of}", busy[0].rows)
    if (end := _end_of_table(device)) is not None:
        count, last, rows = end
        text = f"refused {count} times what lies beyond {last}, the last address that it answered"
        if last is None:
            text = f"refused {count} times with exception 2, and answered none of the addresses of that table"
        yield made(FindingKind.END_OF_TABLE, count, text, rows)
    yield _timeout_short(line, device)
    if device.failed < LEAST and device.doubled.count < LEAST:
        return
    if (sent := _sent_otherwise(line, device.other_settings)) is not None and line.good:
        text = f"answers garbled: they were {sent}; {device.garbled.count} answers of {of}"
        yield made(FindingKind.ANOTHER_RATE, device.garbled.count, text, device.other_rows.rows)
    if device.wrong_unit_rows.count >= LEAST:
        other, times = device.wrong_units.most_common(1)[0]
        if times >= 0.8 * device.wrong_unit_rows.count:
            text = f"(unit {device.unit_id}) was answered for by unit {other}, {times} times of {of}"
            yield made(FindingKind.WRONG_UNIT, times, text, device.wrong_unit_rows.rows)
    mixed = device.mixed.count + (device.wrong_unit_rows.count if len(device.wrong_units) > 1 else 0)
    if mixed >= LEAST:
        text = f"answered {mixed} times of {of} with what was not asked"
        yield made(FindingKind.MIXED_UP, mixed, text, device.mixed.rows or device.wrong_unit_rows.rows)
    if wired and device.doubled.count >= LEAST:
        text = f"(unit {device.unit_id}) was answered for twice, {device.doubled.count} times"
        yield made(FindingKind.TWO_ALIKE, device.doubled.count, text, device.doubled.rows)
    elif wired and _collides(device, devices):
        text = f"(unit {device.unit_id}) came garbled {device.garbled.count} times of {of}, whatever their length;" \
            " its neighbours' answers are whole"  # fmt: skip
        yield made(FindingKind.TWO_ALIKE, device.garbled.count, text, device.garbled.rows)
    if device.garbled.count >= LEAST and (grown := _grows(device)) is not None:
        short, long = grown
        shares = f"{long:.0f} % of its long answers, {short:.0f} % of the short"
        text = f"came garbled {device.garbled.count} times of {of}: {shares}"
        yield made(FindingKind.GROWS_WITH_LENGTH, device.garbled.count, text, device.garbled.rows)
    yield _too_fast(line, device)
    spell = _silent_spell(device)
    restarts = _restarts(device)
    if restarts is not None:
        count, times, seconds = restarts
        text = f"was away {times} times, for {seconds:.0f} s each, and answers well in between"
        yield made(FindingKind.RESTARTS, count, text, device.silent.rows)
    if spell is not None and (spell.others_answered or (len(devices) > 1 and _answer_well(devices, device))):
        never = (
            "has never answered"
            if device.last_good_us is None
            else f"was silent {spell.count} times one after the other"
        )
        others = _others(len(devices))
        whole = "so the line is whole" if wired else "so the connection is whole"
        yield made(FindingKind.SILENT_ONE, device.silent.count, f"{never}; {others}, {whole}", spell.rows)


def _others(devices: int) -> str:
    return "its neighbour still answers" if devices == 2 else "its neighbours still answer"


def _answer_well(devices: Sequence[OfDevice], device: OfDevice) -> bool:
    return any(other.answered for other in devices if other is not device and other.last_us >= device.first_us)


def _silent_spell(device: OfDevice) -> Spell | None:
    """The longest one, where it is long enough to say something."""
    spell = max(device.spells, key=lambda one: one.silent, default=None)
    if spell is None or spell.silent < LEAST:
        return None
    lost = (device.failed - spell.count + 1) / (device.asked - spell.count + 2)  # of what is outside of it
    is_all = spell.count >= 0.98 * device.asked
    return spell if is_all or of_run(lost, spell.count, device.asked) < _CHANCE else None


def _silent_all(line: OfLine, devices: Sequence[OfDevice]) -> WireFinding | None:
    spells = [(device, spell) for device in devices if (spell := _silent_spell(device)) is not None]
    if not spells:
        return None
    quiet = [(device, spell) for device, spell in spells if not spell.others_answered]
    others = [device for device in devices if device not in [one for one, _ in quiet]]
    if any(device.answered and device.last_us >= quiet[0][1].begun_us and device.first_us <= quiet[0][1].last_us
           for device in others) if quiet else True:  # fmt: skip
        return None
    if _restarts(quiet[0][0]) is not None and len(devices) == 1:
        return None
    if any(_limit(device) is not None or device.late.count >= LEAST for device, _ in quiet):
        return None
    count = sum(device.silent.count for device, _ in quiet)
    of = sum(device.asked for device in devices)
    ever = any(device.answered for device in devices)
    who = "its only device is" if len(devices) == 1 else "all of its devices are"
    text = f"has nobody that answers: {who} silent" + ("" if ever else ", and were from the start")
    return finding(
        FindingKind.SILENT_ALL, line.name, "", count, of, text, line.is_wired, tuple(quiet[0][1].rows)
    )  # fmt: skip


def _another_rate(line: OfLine, devices: Sequence[OfDevice]) -> WireFinding | None:
    """Bytes come, and never a frame."""
    garbled = sum(device.garbled.count for device in devices)
    if line.good or garbled < LEAST or any(device.answered for device in devices):
        return None
    of = sum(device.asked for device in devices)
    rows = next(device.garbled.rows for device in devices if device.garbled.count)
    text = f"has never brought a frame: {garbled} answers of {of} were bytes that make none"
    sent = _sent_otherwise(line, sum((device.other_settings for device in devices), Counter()))
    text += f"; they were {sent}" if sent is not None else ""
    return finding(FindingKind.ANOTHER_RATE, line.name, "", garbled, of, text, line.is_wired, tuple(rows))


def _other_master(line: OfLine) -> WireFinding | None:
    if line.foreign.count < LEAST:
        return None
    text = f"carries frames that nobody here asked for: {line.foreign.count} were heard"
    return finding(
        FindingKind.OTHER_MASTER, line.name, "", line.foreign.count, line.rows, text, line.is_wired,
        tuple(line.foreign.rows),
    )  # fmt: skip


def _limit(device: OfDevice) -> tuple[int, int, Sequence[int]] | None:
    """How often more was asked than ever was answered, and what was answered most; where each refusal asked for
    more."""
    for (table, code), (times, least, _, first, _, end) in device.refused_reads.items():
        good = device.good_reads.get(table)
        if good is None or least <= good[2]:
            continue
        is_inside = good[3] <= first and end <= good[5]
        if code == 3 or (code in (1, 2) and is_inside):
            return times, good[2], device.codes[code].rows if code in device.codes else ()
    for table, (times, least, _, _, _, _) in device.silent_reads.items():
        good = device.good_reads.get(table)
        if good is not None and least > good[2] and times >= LEAST and good[0] >= LEAST:
            return times, good[2], device.silent.rows
    return None


def _end_of_table(device: OfDevice) -> tuple[int, int | None, Sequence[int]] | None:
    """How often it refused an address behind the last that it answered, which is None where it answered none."""
    for (table, code), (times, _, _, _, least_end, _) in device.refused_reads.items():
        good = device.good_reads.get(table)
        if code == 2 and times >= LEAST and (good is None or least_end > good[5]):
            return times, good[5] - 1 if good is not None else None, device.codes[2].rows
    return None


def _timeout_short(line: OfLine, device: OfDevice) -> WireFinding | None:
    waits = sorted(device.waits_us)
    timeout_us = device.timeout_us or (waits[len(waits) // 2] if waits else 0)
    near = sum(took > 0.9 * timeout_us for took in device.took_us) if timeout_us else 0
    if device.late.count >= LEAST and device.late.count >= 0.3 * device.silent.count:
        text = f"answered after it was given up, {device.late.count} times of {device.asked}"
        rows: Sequence[int] = device.late.rows
        count = device.late.count
    elif near >= LEAST:
        text = f"answered {near} times of {device.asked} in the last tenth of its timeout of {timeout_us / 1e6:.2g} s"
        rows, count = device.silent.rows, near
    else:
        return None
    return finding(
        FindingKind.TIMEOUT_SHORT, line.name, device.name, count, device.asked, text, line.is_wired, tuple(rows)
    )  # fmt: skip


def _sent_otherwise(line: OfLine, counted: Counter[OtherSettings]) -> str | None:
    """What nearly all garbled answers that prove it were sent with."""
    settings, total = link_of(line.link).settings, counted.total()
    if total < LEAST or settings is None:
        return None
    baud = Counter[int]()
    for one, times in counted.items():
        baud[one.baud] += times
    found, count = baud.most_common(1)[0]
    parities = {one.parity for one in counted if one.baud == found and one.parity is not None}
    if count < 0.9 * total:
        return None
    return OtherSettings(found, parities.pop() if len(parities) == 1 else None).text(settings)


def _collides(device: OfDevice, devices: Sequence[OfDevice]) -> bool:
    """Whether one unit's answers are often garbled whatever their length, and nobody else's are."""
    share = device.garbled.count / max(device.asked, 1)
    others = [other for other in devices if other is not device and other.asked >= LEAST]
    if device.garbled.count < LEAST or share < 0.2 or not others:
        return False
    clean = all(other.garbled.count <= 0.05 * other.asked for other in others)
    return clean and _grows(device) is None


def _grows(device: OfDevice) -> tuple[float, float] | None:
    """How many of a hundred short answers and of a hundred long ones are garbled, where that differs by no chance."""
    lengths = sorted(device.by_length)
    if len(lengths) < 2:
        return None
    total = sum(sum(device.by_length[length]) for length in lengths)
    best: tuple[float, float, float] | None = None
    for cut in range(1, len(lengths)):
        short = [sum(device.by_length[length][at] for length in lengths[:cut]) for at in (0, 1)]
        long = [sum(device.by_length[length][at] for length in lengths[cut:]) for at in (0, 1)]
        if min(sum(short), sum(long)) < 0.05 * total or sum(short) < LEAST:
            continue
        chance = at_least(long[1], sum(long), long[1] + short[1], total) * (len(lengths) - 1)
        of_short, of_long = short[1] / sum(short), long[1] / sum(long)
        if chance < _CHANCE and of_long > 1.5 * of_short and (best is None or chance < best[0]):
            best = chance, 100 * of_short, 100 * of_long
    return (best[1], best[2]) if best is not None else None


def _too_fast(line: OfLine, device: OfDevice) -> WireFinding | None:
    """Silent where it was asked soon after the exchange before, and not where it had a pause."""
    good, bad = device.good_after, device.silent_after
    total, failed = sum(good.values()) + sum(bad.values()), sum(bad.values())
    if failed < LEAST or failed == total:
        return None
    best: tuple[float, int] | None = None
    steps = sorted({*good, *bad})
    for cut in steps[:-1]:
        soon_bad, soon = _up_to(bad, cut), _up_to(good, cut) + _up_to(bad, cut)
        rest, rest_bad = total - soon, failed - soon_bad
        if soon < LEAST or rest < LEAST or soon_bad < 0.9 * failed:
            continue
        chance = at_least(soon_bad, soon, failed, total) * len(steps)
        if chance < _CHANCE and soon_bad / soon > 0.3 and rest_bad / rest < 0.1 and (best is None or chance < best[0]):
            best = chance, cut
    if best is None:
        return None
    pause_ms = pause_of(best[1]) / 1000
    when = f"less than {pause_ms:.2g} ms after the exchange before"
    text = f"was silent {failed} times of {total}, nearly always {when}"
    return finding(
        FindingKind.TOO_FAST, line.name, device.name, failed, device.asked, text, line.is_wired,
        tuple(device.silent.rows),
    )  # fmt: skip


def _up_to(counted: dict[int, int], cut: int) -> int:
    return sum(count for step, count in counted.items() if step <= cut)


def _restarts(device: OfDevice) -> tuple[int, int, float] | None:
    """How many failures, how many spells, how long each: away again and again, and back each time."""
    spells = [spell for spell in device.spells if spell.is_over and spell.count >= 2]
    if len(spells) < 3 or device.last_good_us is None:
        return None
    failures = sum(spell.count for spell in device.spells)
    within = sum(spell.count for spell in spells)
    lasted = sorted((spell.last_us - spell.begun_us) / 1e6 for spell in spells)
    middle = lasted[len(lasted) // 2]
    alike = sum(middle / 3 <= one <= 3 * middle for one in lasted)
    share = device.failed / max(device.asked, 1)
    mean = failures / max(len(device.spells), 1)
    if within < LEAST or within < 0.8 * failures or middle < 1.0 or alike < 0.8 * len(spells):
        return None
    expected = 1 / max(1 - share, 0.02)
    return (within, len(spells), middle) if mean >= 2 * expected or mean >= 6 else None
