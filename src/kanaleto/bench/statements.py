"""Statements, as text, of what moves a register, and what they call: by time, from the state before, from names that
become places in lists."""

import ast
import math
import time
from collections.abc import Mapping, Sequence

from kanaleto.bench.packedwrites import literal, wrapped
from kanaleto.site.model import MachineState, Move, Point

STEP_S = 0.1


def of_time(at: int, point: Point | None, move: Move) -> list[str]:
    """Statements of what moves by time alone, into V."""
    match move.kind:
        case "wave":
            low, high, period = move.number("low"), move.number("high"), move.number("period_s")
            middle, half = (low + high) / 2, (high - low) / 2
            x = f"((t + {move.number('phase_s')!r}) / {period!r}) % 1.0"
            shape = {
                "sine": f"sin({2 * math.pi!r} * x)",
                "triangle": "(4 * x if x < 0.25 else 2 - 4 * x if x < 0.75 else 4 * x - 4)",
                "saw": "(2 * ((x + 0.5) % 1.0) - 1)",
                "square": "(1.0 if x < 0.5 else -1.0)",
            }[move.text]
            body = [f"x = {x}", f"V[{at}] = {middle!r} + {half!r} * {shape}"]
        case "counts_s":
            by, every = move.number("by", 1.0), move.number("counts_s")
            body = [
                f"C[{at}] += 1 if dt else 0",
                f"n = floor(C[{at}] * {STEP_S!r} / {every!r} + 1e-9)",
                f"n -= floor((C[{at}] - 1) * {STEP_S!r} / {every!r} + 1e-9)",
                f"V[{at}] = {wrapped(point, f'V[{at}] + {by!r} * n')} if dt and n else V[{at}]",
            ]
        case "list":
            body = [f"V[{at}] = row_at(rows[{at}], t, {move.then == 'again'!r})"]
        case _:
            body = [f"V[{at}] = {'began + t' if move.text == 'unix' else 'ymdhms(began + t)'}"]
    return body


def of_state(at: int, move: Move, target: str) -> list[str]:
    """Statements of what follows `target`, or walks, from O into F."""
    if move.kind == "walk":
        low, high = move.number("low", -math.inf), move.number("high", math.inf)
        drawn = f"O[{at}] + {move.number('walk')!r} * dt ** 0.5 * R[{at}].gauss(0.0, 1.0)"
        ends = f"min(max({drawn}, {literal(low)}), {literal(high)})"
        return [f"F[{at}] = {ends}"]
    lag, rate = move.number("lag_s"), move.number("rate")
    body = [f"y = O[{at}]", f"d = {target} - y"]
    if lag:
        body.append(f"d *= 1 - exp(-dt / {lag!r})")
    if rate:
        body.append(f"d = min(max(d, -{rate!r} * dt), {rate!r} * dt)")
    return [*body, f"F[{at}] = y + d"]


class Placed(ast.NodeTransformer):
    """Names of an expression become places in the lists."""

    def __init__(self, places: Sequence[str], bare: Mapping[str, str], owner: str) -> None:
        self._places, self._bare, self._owner = places, bare, owner

    def visit_Name(self, node: ast.Name) -> ast.AST:
        name = node.id
        if name[:1] == "v" and name[1:].isdecimal():
            return ast.parse(self._places[int(name[1:])], mode="eval").body
        if name in self._bare:
            return ast.parse(self._bare[name], mode="eval").body
        if name == "k":
            return ast.parse(self._owner, mode="eval").body
        return node


def number_of(value: object) -> float:
    return float(value) if isinstance(value, int | float) else 0.0


def bits_in(point: Point, state: MachineState) -> int:
    """The bits that are on in a state."""
    labels = {text: bit for bit, text in point.labels.items()}
    return sum(1 << (labels[bit] if isinstance(bit, str) else bit) for bit in state.bits or ())


def state_number(point: Point, state: MachineState) -> float:
    if isinstance(state.value, str):
        return float(next(number for number, text in point.labels.items() if text == state.value))
    return float(state.value or 0)


def row_at(rows: Sequence[tuple[float, float]], t: float, is_again: bool) -> float:
    """The value of a list at that time; behind its end it begins again, or its last value holds."""
    end = rows[-1][0]
    if is_again and end > 0:
        t %= end
    low, high = 0, len(rows) - 1
    while high - low > 1:
        middle = (low + high) // 2
        if rows[middle][0] <= t + 1e-9:
            low = middle
        else:
            high = middle
    return rows[low][1]


def ymdhms(wall_s: float) -> float:
    return float(time.strftime("%Y%m%d%H%M%S", time.localtime(wall_s)))
