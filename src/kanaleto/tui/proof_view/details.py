"""Beside the claims: the evidence of the one in view, its errors by level, and what is still open."""

from collections.abc import Sequence

from kanaleto.proof.claims import Claim, ClaimState, allowed, error_of, span_of
from kanaleto.proof.sheet import SheetLine
from kanaleto.site.model import Point
from kanaleto.site.proving import Tolerance, ToleranceOf
from kanaleto.tui.proof_view.rows import SHAPES, expected_text, moment_of, seen_text, title_of
from kanaleto.tui.shared.pane import Panel, Row
from kanaleto.tui.shared.words import wrapped

_BYTES_A_ROW = 11


class Evidence(Panel):
    """What the claim in view rests on."""

    DEFAULT_CSS = "Evidence { width: 44; height: 100%; background: $panel; }"
    claim: Claim | None = None
    of_point: tuple[Claim, ...] = ()
    """All claims of the same point."""
    point: Point | None = None

    def redraw_key(self) -> object:
        return self.claim, self.of_point, self.point, self.size

    def text_rows(self) -> list[Row]:
        claim, width = self.claim, max(self.size.width - 4, 10)
        if claim is None:
            return [[("EVIDENCE", "muted!")], [("the cursor is on no claim", "muted")]]
        key = claim.key
        level = f" at {key.level}" if key.level else ""
        rows: list[Row] = [[(f"{title_of(key)}{level}", "ink!")], [(key.device, "muted")]]
        if self.point is not None:
            rows.append([(f"{self.point.codec.type} · {self.point.table.value} {self.point.address}", "muted")])
        rows += self._errors(width)
        rows += [[], [("EVIDENCE", "muted!")]]
        for line in claim.lines:
            rows += self._line(line, width)
        if not claim.lines:
            rows.append([("none yet: enter takes it", "muted")])
        if claim.state is ClaimState.DISPUTED:
            rows.append([("judged differently: enter takes it again", "violet")])
        if claim.state is ClaimState.AGAIN:
            rows.append([("its map was changed since: prove it again", "ochre")])
        if claim.state is ClaimState.REHEARSED and claim.line is not None:
            rows.append([(f"not from a real device: {claim.line.origin}", "sky")])
        return rows

    def _line(self, line: SheetLine, width: int) -> list[Row]:
        at = moment_of(line)
        when = f"{at:%d %b %H:%M:%S}" if at is not None else line.at
        shown = [(f"{when}  ", "muted"), (seen_text(line, self.point), "ink!"), (f"  {line.words}", "sky")]
        rows: list[Row] = [shown]
        rows.append([("expected ", "muted"), (_expected(line), "ink"), (f"  by {line.who}", "muted")])
        exchange = line.exchange or {}
        for what, key in (("asked", "request"), ("came", "answer")):
            raw = exchange.get(key, "")
            for number, at_byte in enumerate(range(0, min(len(raw), 4 * _BYTES_A_ROW), 2 * _BYTES_A_ROW)):
                part = " ".join(raw[at_byte + at : at_byte + at + 2] for at in range(0, 2 * _BYTES_A_ROW, 2)).upper()
                rows.append([(f"{what if not number else '':<6}", "muted"), (part.strip(), "sky")])
        rows += [[(text, "ink")] for text in wrapped(line.note, width)] if line.note else []
        return rows

    def _errors(self, width: int) -> list[Row]:
        """The error at each level, as a row each: where it lies between the ends of what is allowed."""
        points = [(claim.key.level, error) for claim in self.of_point
                  if claim.line is not None and claim.key.level.endswith("%")
                  and (error := error_of(claim.line, self.point)) is not None]  # fmt: skip
        if not points or self.point is None:
            return []
        most = max(max(abs(error) for _, error in points), _most_error(self.point) or 0.0, 1e-6)
        half = max((width - 18) // 2, 4)
        rows: list[Row] = [[], [("error of span at each level", "muted")]]
        for level, error in points:
            at = half + round(error / most * half)
            bar = "".join("●" if cell == at else "│" if cell == half else "·" for cell in range(2 * half + 1))
            allowed_most = _most_error(self.point)
            tone = "terracotta" if allowed_most is not None and abs(error) > allowed_most + 1e-9 else "verdigris"
            rows.append([(f"{level:>6} ", "muted"), (bar, tone), (f" {error:+.2f} %", "ink")])
        return rows


def _most_error(point: Point) -> float | None:
    """What is allowed, in per cent of span."""
    tolerance, span = point.proving.tolerance, span_of(point)
    if tolerance is None or not span:
        return None
    return 100 * allowed(point, 0.0, tolerance) / span


def _expected(line: SheetLine) -> str:
    if line.expected is None:
        return "a person's word"
    text = f"{line.expected:.6g}" if isinstance(line.expected, int | float) else line.expected
    if line.tolerance:
        text += f" ± {Tolerance(line.tolerance, ToleranceOf(line.of))}"
    return text


class StillOpen(Panel):
    """What went wrong or must be done again, with notes; then how many are open."""

    DEFAULT_CSS = "StillOpen { width: 1fr; height: 8; background: $background; }"
    claims: Sequence[Claim] = ()
    messages: tuple[str, ...] = ()

    def redraw_key(self) -> object:
        return self.claims, self.messages, self.size

    def text_rows(self) -> list[Row]:
        rows: list[Row] = [[("STILL OPEN", "muted!")]]
        rows += [[(text, "terracotta")] for text in self.messages[:2]]
        wrong = [claim for claim in self.claims if claim.is_left and claim.state in _WRONG]
        room = max(self.size.height - 2 - len(rows), 1)
        for claim in wrong[:room]:
            shape, tone = SHAPES[claim.state]
            note = claim.line.note if claim.line is not None else ""
            why = note or _why(claim)
            rows.append([(f"{shape} ", tone), (str(claim.key), "ink"), (f"  {why}", "muted")])
        if len(wrong) > room:
            rows.append([(f"and {len(wrong) - room} more that failed or must be done again", "muted")])
        elif not wrong:
            left = sum(claim.is_left for claim in self.claims)
            rows.append([(f"nothing failed; {left} to be proved" if left else "nothing is left", "muted")])
        return rows


_WRONG = (ClaimState.FAILED, ClaimState.DISPUTED, ClaimState.AGAIN)


def _why(claim: Claim) -> str:
    if claim.state is ClaimState.DISPUTED:
        return "judged differently by " + " and ".join(line.who for line in claim.lines)
    if claim.state is ClaimState.AGAIN:
        return "its map was changed since"
    line = claim.line
    return f"expected {expected_text(claim, None)}, seen {seen_text(line, None)}" if line is not None else ""
