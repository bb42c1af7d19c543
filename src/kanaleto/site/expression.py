"""The one language for formulas, limits and conditions: numbers only, compiled once, bounded in size, depth, power and
time.

Points stand in brackets, as [Device/Point]. There are numbers, + - * / ** %, comparisons, `and or not`, `x if y else
z`, and the functions of FUNCTIONS. `time_in(x)` gives the seconds since x became true, `rises(x)` and `falls(x)`
whether it just did or ceased to be; each call of these remembers for itself. `bit(word, 3)` or `bit([Device/Point],
'Label')` is one bit of a word.

The text becomes a tree, the tree is checked against what is listed here, and only then becomes code: nothing else of
Python is reachable, and no loop, string or attribute exists in it.
"""

import ast
import math
import re
import warnings
from collections.abc import Callable, Hashable, Mapping, Sequence
from types import FunctionType

from msgspec import Struct, field

FUNCTIONS = ("min", "max", "mean", "abs", "sqrt", "round", "bit", "rises", "falls", "time_in")
_STATEFUL = ("rises", "falls", "time_in")
_COUNTS = {
    "abs": (1, 1),
    "sqrt": (1, 1),
    "round": (1, 2),
    "bit": (2, 2),
    "rises": (1, 1),
    "falls": (1, 1),
    "time_in": (1, 1),
}
_MOST_CHARACTERS, _MOST_NODES, _MOST_DEPTH, _MOST_POWER_BITS, _MOST_ROUND = 4000, 1500, 60, 1024, 30
_UNDERSCORE = re.compile(r"[0-9]_|_[0-9]")
_ALLOWED = (
    ast.Expression, ast.BinOp, ast.UnaryOp, ast.BoolOp, ast.Compare, ast.IfExp, ast.Call, ast.Name, ast.Load,
        ast.Constant,
    ast.Add, ast.Sub, ast.Mult, ast.Div, ast.Pow, ast.Mod, ast.UAdd, ast.USub, ast.Not, ast.And, ast.Or,
    ast.Eq, ast.NotEq, ast.Lt, ast.LtE, ast.Gt, ast.GtE,
)  # fmt: skip

LabelsOf = Callable[[str], Mapping[int, str]]
"""The names of bits or states of a point, by what stands in its brackets."""


class BadExpression(ValueError):
    """One sentence: why the text is no expression."""


class FormulaMemory(Struct):
    """What `time_in`, `rises` and `falls` remember, by owner and place. It outlives plans: who is not asked any more is
    forgotten by `keep`."""

    now_s: float = 0.0
    _since: dict[Hashable, float] = field(default_factory=dict)
    _before: dict[Hashable, bool] = field(default_factory=dict)

    def keep(self, owners: set[Hashable]) -> None:
        """Forget all but these."""
        for kept in (self._since, self._before):
            for key in [key for key in kept if isinstance(key, tuple) and key[0] not in owners]:
                del kept[key]

    def time_in(self, key: Hashable, is_so: object) -> float:
        if not is_so:
            self._since.pop(key, None)
            return 0.0
        return self.now_s - self._since.setdefault(key, self.now_s)

    def rises(self, key: Hashable, is_so: object) -> bool:
        before = self._before.get(key, True)  # the first look is no change
        self._before[key] = bool(is_so)
        return bool(is_so) and not before

    def falls(self, key: Hashable, is_so: object) -> bool:
        before = self._before.get(key, False)
        self._before[key] = bool(is_so)
        return before and not is_so


class Expression(Struct, frozen=True):
    """`names` is what stands in brackets, each once, in order."""

    text: str
    names: tuple[str, ...]
    _run: Callable[..., float]

    def evaluate(self, values: Sequence[float], memory: FormulaMemory, owner: Hashable = "") -> float:
        """The number, with `values` for `names`. Raises ArithmeticError, ValueError or OverflowError where there is
        none."""
        return float(self._run(memory, (owner, self.text), *values))


def references(text: str) -> list[str]:
    """What stands in brackets, each once, in order."""
    return _split(text)[1]


def check_expression(text: str, labels_of: LabelsOf | None, bare: Sequence[str] = ()) -> tuple[ast.expr, list[str]]:
    """The checked tree, with v0, v1, … for what stands in brackets, and what stood there. `bare` are names that may
    stand without brackets. Raises BadExpression."""
    if len(text) > _MOST_CHARACTERS:
        raise BadExpression(f"it has {len(text)} characters; at most {_MOST_CHARACTERS} are taken")
    plain, names = _split(text)
    if _UNDERSCORE.search(plain) or not plain.isascii():
        raise BadExpression(f"{_short(text)}: numbers are written with the digits 0 to 9 alone")
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # Python says on stderr what it thinks of 3if
            tree = ast.parse(plain.strip(), mode="eval")
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        raise BadExpression(f"{_short(text)} is no formula that can be read") from None
    _check(tree, text, len(names), bare)
    return _Compiler(names, labels_of, bare).visit(tree.body), names


def compile_expression(text: str, labels_of: LabelsOf | None = None) -> Expression:
    """Raises BadExpression."""
    body, names = check_expression(text, labels_of)
    arguments = ast.arguments(
        posonlyargs=[], args=[ast.arg(name) for name in ("m", "k", *(f"v{at}" for at in range(len(names))))],
        kwonlyargs=[], kw_defaults=[], defaults=[],
    )  # fmt: skip
    whole = ast.fix_missing_locations(ast.Expression(ast.Lambda(arguments, body)))
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        run = eval(compile(whole, "<formula>", "eval"), dict(SCOPE))  # of a tree that was checked above
    assert isinstance(run, FunctionType)
    return Expression(text, tuple(names), run)


def _split(text: str) -> tuple[str, list[str]]:
    """The text with v0, v1, … for what stands in brackets outside of quotes; and what stood there."""
    out: list[str] = []
    names: dict[str, str] = {}
    at, quote = 0, ""
    while at < len(text):
        character = text[at]
        end = text.find("]", at) if character == "[" and not quote else -1
        if end > at:
            name = text[at + 1 : end].strip()
            out.append(f" {names.setdefault(name, f'v{len(names)}')} ")
            at = end + 1
            continue
        if character in "'\"":
            quote = "" if quote == character else quote or character
        out.append(character)
        at += 1
    return "".join(out), list(names)


def _short(text: str) -> str:
    return repr(text if len(text) <= 60 else text[:59] + "…")


def _check(tree: ast.Expression, text: str, count: int, bare: Sequence[str]) -> None:
    nodes = 0
    level: list[ast.AST] = [tree]
    depth = 0
    while level:
        depth += 1
        nodes += len(level)
        if nodes > _MOST_NODES or depth > _MOST_DEPTH:
            raise BadExpression(f"{_short(text)} is too long or too deep; make derived points of its parts")
        for node in level:
            _check_node(node, text, count, bare)
        level = [child for node in level for child in ast.iter_child_nodes(node)]


def _check_node(node: ast.AST, text: str, count: int, bare: Sequence[str]) -> None:
    if not isinstance(node, _ALLOWED):
        raise BadExpression(f"{_short(text)} has something that is no arithmetic")
    if isinstance(node, ast.Call):
        name = node.func.id if isinstance(node.func, ast.Name) else ""
        if name not in FUNCTIONS or node.keywords:
            raise BadExpression(f"{_short(text)} calls what there is not; there are {', '.join(FUNCTIONS)}")
        least, most = _COUNTS.get(name, (1, 100))
        if not least <= len(node.args) <= most:
            raise BadExpression(
                f"{_short(text)}: {name}() takes {least if least == most else f'{least} to {most}'} numbers"
            )
        for at, argument in enumerate(node.args):
            if isinstance(argument, ast.Constant) and isinstance(argument.value, str) and (name, at) != ("bit", 1):
                raise BadExpression(f"{_short(text)}: {argument.value!r} is no number")
    elif isinstance(node, ast.Name):
        if (
            node.id not in FUNCTIONS
            and node.id not in bare
            and not (node.id[:1] == "v" and node.id[1:].isdecimal() and int(node.id[1:]) < count)
        ):
            raise BadExpression(f"{_short(text)} names {node.id!r}; points stand in brackets, as [Device/Point]")
    elif isinstance(node, ast.Constant):
        is_number = isinstance(node.value, int | float) and not isinstance(node.value, bool)
        if not is_number and not isinstance(node.value, str):
            raise BadExpression(f"{_short(text)} has {node.value!r}, which is no number")
        if isinstance(node.value, int) and node.value.bit_length() > 64:
            raise BadExpression(f"{_short(text)} has a number of more than 64 bits")


class _Compiler(ast.NodeTransformer):
    """Powers are bounded, what remembers gets a number of its own, labels become bits."""

    def __init__(self, names: Sequence[str], labels_of: LabelsOf | None, bare: Sequence[str] = ()) -> None:
        self._names, self._labels_of, self._bare, self._calls = names, labels_of, bare, 0

    def visit_Constant(self, node: ast.Constant) -> ast.AST:
        if isinstance(node.value, str):
            raise BadExpression(f"{node.value!r} is no number; a label stands in bit([Device/Point], {node.value!r})")
        return node

    def visit_Compare(self, node: ast.Compare) -> ast.AST:
        """A state's text stands for its number where it is compared with a point that has labels."""
        sides = [node.left, *node.comparators]
        for at, side in enumerate(sides):
            if isinstance(side, ast.Constant) and isinstance(side.value, str) and self._labels_of is not None:
                beside = [sides[near] for near in (at - 1, at + 1) if 0 <= near < len(sides)]
                name = next((one for one in beside if isinstance(one, ast.Name) and one.id[:1] == "v"), None)
                if name is not None:
                    sides[at] = ast.Constant(self._state(name, side.value))
        left, *others = [self.visit(side) for side in sides]
        return ast.Compare(left, node.ops, others)

    def _state(self, name: ast.Name, label: str) -> int:
        assert self._labels_of is not None
        point = self._names[int(name.id[1:])]
        labels = self._labels_of(point)
        for number, text in labels.items():
            if text == label:
                return number
        raise BadExpression(f"[{point}] has no state {label!r}; it has {', '.join(labels.values()) or 'none'}")

    def visit_Name(self, node: ast.Name) -> ast.AST:
        if node.id in self._bare:
            return node
        if node.id in FUNCTIONS:
            raise BadExpression(f"{node.id} is a function; write {node.id}(…)")
        return node

    def visit_BinOp(self, node: ast.BinOp) -> ast.AST:
        left, right = self.visit(node.left), self.visit(node.right)
        if isinstance(node.op, ast.Pow):
            return _call("power", [left, right])
        return ast.BinOp(left, node.op, right)

    def visit_Call(self, node: ast.Call) -> ast.AST:
        assert isinstance(node.func, ast.Name)
        name, arguments = node.func.id, list(node.args)
        if name == "bit" and isinstance(arguments[1], ast.Constant) and isinstance(arguments[1].value, str):
            arguments[1] = ast.Constant(self._bit(arguments[0], arguments[1].value))
        arguments = [self.visit(argument) for argument in arguments]
        if name in _STATEFUL:
            self._calls += 1
            arguments = [ast.Name("m", ast.Load()), ast.Name("k", ast.Load()), ast.Constant(self._calls), *arguments]
        return _call(name, arguments)

    def _bit(self, word: ast.AST, label: str) -> int:
        if not isinstance(word, ast.Name) or self._labels_of is None:
            raise BadExpression(f"bit(…, {label!r}) needs a point in brackets, whose labels name its bits")
        name = self._names[int(word.id[1:])]
        labels = self._labels_of(name)
        for number, text in labels.items():
            if text == label:
                return number
        known = ", ".join(labels.values()) or "none"
        raise BadExpression(f"[{name}] has no bit {label!r}; it has {known}")


def _call(name: str, arguments: list[ast.expr]) -> ast.Call:
    return ast.Call(ast.Name(name, ast.Load()), arguments, [])


def _power(base: float, exponent: float) -> float:
    """Whole numbers stay whole while the result is small; anything else is a float, and overflows in good order."""
    if isinstance(base, int) and isinstance(exponent, int) and 0 <= exponent * base.bit_length() <= _MOST_POWER_BITS:
        return int(base**exponent)
    return math.pow(base, exponent)


def _bit(word: float, number: float) -> int:
    if word != int(word) or not 0 <= number < 64:
        raise ValueError("bit() needs a whole number and a bit from 0 to 63")
    return int(word) >> int(number) & 1


def _round(number: float, digits: float = 0) -> float:
    if abs(digits) > _MOST_ROUND:
        raise ValueError(f"round() takes at most {_MOST_ROUND} digits")
    return round(number, int(digits)) if digits else round(number)


SCOPE: dict[str, object] = {
    "__builtins__": {},
    "min": lambda *values: min(values),
    "max": lambda *values: max(values),
    "mean": lambda *values: math.fsum(values) / len(values),
    "abs": abs,
    "sqrt": math.sqrt,
    "round": _round,
    "bit": _bit,
    "power": _power,
    "time_in": lambda m, k, number, is_so: m.time_in((*k, number), is_so),
    "rises": lambda m, k, number, is_so: m.rises((*k, number), is_so),
    "falls": lambda m, k, number, is_so: m.falls((*k, number), is_so),
}
