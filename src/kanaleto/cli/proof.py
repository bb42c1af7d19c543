"""`kanaleto proof`: the checkout sheet of a site."""

import time
from functools import partial
from pathlib import Path

import click

from kanaleto.cli.askingsession import AskingSession
from kanaleto.cli.completing import point_names
from kanaleto.cli.failures import Failed
from kanaleto.cli.options import usage
from kanaleto.cli.output import emit, say
from kanaleto.files.loading import load_site
from kanaleto.polling.session import Session
from kanaleto.proof.checkout import Checkout, expectation, find_point, key_for, sheet_path, take
from kanaleto.proof.claims import Claim, ClaimState, claims_of, counts_of, error_of, place_of
from kanaleto.proof.sheet import CannotKeep, SheetLine
from kanaleto.proof.taking import NoEvidence
from kanaleto.site.model import Site
from kanaleto.site.proving import parse_tolerance


@click.command("proof")
@click.argument("site_path", metavar="SITE", type=click.Path(path_type=Path))
@click.option(
    "--left", "is_left", is_flag=True, help="only what is still to be proved; exit code 1 while there is some"
)
@click.option("--take", metavar="DEVICE/POINT", shell_complete=point_names, help="one fresh reading as evidence")
@click.option("--expected", metavar="V", help="what it should show: a number in its unit, or a state")
@click.option("--level", default="", metavar="L", help="at which level, as '25 %', or in which state")
@click.option("--tolerance", "tolerance_text", metavar="T", help="0.5 % of span, 0.2 in the unit, 1 % of value")
@click.option("--left-as", "is_as_left", is_flag=True, help="as left, after it was put right; else as found")
@click.option("--who", default="", metavar="W", help="who takes it; the login name else")
@click.option("--note", default="", metavar="TEXT", help="kept with it")
@click.option(
    "--merge",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="take over the lines of another sheet",
)
@click.option("--json", "is_json", is_flag=True, help='an object a claim, then {"summary": …}')
def command(
    site_path: Path, is_left: bool, take: str | None, expected: str | None, level: str, tolerance_text: str | None,
    is_as_left: bool, who: str, note: str, merge: Path | None, is_json: bool,
) -> int:  # fmt: skip
    """What is to be proved of SITE, and how each claim stands: proved, rehearsed (no real device gave its evidence),
    failed, disputed, again (its point was changed), skipped or open. The sheet is NAME.kanaleto/sheet.jsonl beside it.

    \b
    Exit codes: 0; with --left 1 while something is left; with --take 1 when it failed or was not read.

    \b
    Example: what is left, and one value taken at a level
      kanaleto proof alder-lock.toml --left
      kanaleto proof alder-lock.toml --take "Upper sluice/Gate position" --level "25 %" --tolerance "0.5 %"
    """
    if take is not None and merge is not None:
        raise click.UsageError("--take and --merge are two things: one after the other")
    if take is None and (expected is not None or level or tolerance_text or is_as_left):
        raise click.UsageError("--expected, --level, --tolerance and --left-as belong to --take DEVICE/POINT")
    site, _ = load_site(site_path)
    try:
        checkout = Checkout(site, sheet_path(site_path))
        if take is not None:
            return _take(site, checkout, take, expected, level, tolerance_text, is_as_left, who, note, is_json)
        if merge is not None:
            count = checkout.merge(merge, time.time())
            say(f"{count} line{'s' if count != 1 else ''} of {merge} taken over", err=True)
    except CannotKeep as error:
        raise click.UsageError(str(error)) from None
    for text in checkout.sheet.messages:
        say(text, err=True)
    claims = checkout.claims()
    for text in checkout.gone(claims):
        say(text, err=True)
    shown = [claim for claim in claims if claim.is_left] if is_left else claims
    for claim in shown:
        _tell(claim, site, is_json)
    if merge is not None and not is_json:
        for claim in claims:
            if claim.state is ClaimState.DISPUTED:
                who = " and ".join(line.who for line in claim.lines)
                say(f"{claim.key}: judged differently by {who}; take it again", err=True)
    left = sum(claim.is_left for claim in claims)
    counts = counts_of(claims)
    if is_json:
        emit({"summary": dict(counts)})
    else:
        message = ", ".join(f"{count} {word}" for word, count in counts.items() if count)
        say(f"{site.name}: {message or 'nothing is to be proved'}; {left} left")
    return 1 if is_left and left else 0


def _take(
    site: Site, checkout: Checkout, text: str, expected: str | None, level: str, tolerance_text: str | None,
    is_as_left: bool, who: str, note: str, is_json: bool,
) -> int:  # fmt: skip
    line, device, point = usage(lambda: find_point(site, text))
    key = usage(lambda: key_for(point, device.name, level, is_as_left))
    tolerance = usage(partial(parse_tolerance, tolerance_text)) if tolerance_text is not None else None
    wanted = usage(lambda: expectation(point, key, expected or "", tolerance))
    made: list[SheetLine] = []
    failed: list[str] = []

    async def work(session: Session) -> None:
        try:
            made.append(await take(checkout, session, line, device, point, key, wanted, who, note))
        except (NoEvidence, CannotKeep, ValueError) as error:
            failed.append(str(error))

    AskingSession(site, {line.name}).run(work)
    if not made:
        raise Failed(failed[0] if failed else "stopped before it was read: nothing was kept")
    claim = next(claim for claim in claims_of(site, checkout.sheet.lines, [device.name]) if claim.key == key)
    _tell(claim, site, is_json)
    return 0 if made[0].verdict == "passed" else 1


def _tell(claim: Claim, site: Site, is_json: bool) -> None:
    key, line = claim.key, claim.line
    found = place_of(site, key)
    point = found[2] if found is not None else None
    error = error_of(line, point) if line is not None else None
    if is_json:
        fields: dict[str, object] = {
            "claim": key.claim, "device": key.device, "point": key.point, "level": key.level, "when": key.when,
            "state": claim.state.value, "left": claim.is_left,
        }  # fmt: skip
        if line is not None:
            fields |= {
                "expected": line.expected, "tolerance": line.tolerance, "of": line.of, "seen": line.seen,
                "error_of_span": round(error, 4) if error is not None else None, "words": line.words,
                "verdict": line.verdict, "note": line.note, "who": line.who, "at": line.at, "origin": line.origin,
                "id": line.id,
            }  # fmt: skip
        emit(fields)
        return
    unit = f" {point.unit}" if point is not None and point.unit else ""
    text = f"{claim.state.value:<10}{key.claim:<9}{key}"
    if line is not None and line.seen is not None:
        text += f": expected {_value(line.expected)}{unit}, seen {_value(line.seen)}{unit}"
        text += f" ({error:+.2f} % of span)" if error is not None else ""
    if line is not None:
        text += f", {line.who}, {line.at}" + (f", {line.note}" if line.note else "")
    say(text)


def _value(value: float | str | None) -> str:
    return f"{value:.10g}" if isinstance(value, int | float) else str(value)
