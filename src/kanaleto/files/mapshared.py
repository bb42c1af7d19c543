"""What is kept once in a site file and used by many points: constants of the installation, named scales, named lists of
states."""

import re
from math import isfinite

from msgspec import Struct

from kanaleto.files.mapscale import ScaleCells
from kanaleto.site.expression import BadExpression, FormulaMemory, compile_expression
from kanaleto.site.filefaults import suggestion

_PLAIN = re.compile(r"[+-]?(0x[0-9a-f]+|[0-9.]+(e[+-]?[0-9]+)?|nan|inf(inity)?)")
_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
_BARE = re.compile(r"(?<![\w.])[A-Za-z_][A-Za-z0-9_]*")


class Shared(Struct, frozen=True):
    """Pairs of name and what it stands for."""

    constants: tuple[tuple[str, float], ...] = ()
    scales: tuple[tuple[str, ScaleCells], ...] = ()
    states: tuple[tuple[str, tuple[tuple[int, str], ...]], ...] = ()

    def names_constant(self, text: str) -> bool:
        """Whether a cell is an expression with constants rather than a number."""
        return bool(_NAME.search(text)) and not re.fullmatch(
            r"\s*[+-]?(0x[0-9a-fA-F]+|[0-9.]+([eE][+-]?[0-9]+)?|nan|inf(inity)?)\s*", text.lower()
        )

    def evaluate(self, text: str) -> float:
        """The number of an expression such as `0.1 * CT`. Raises ValueError."""
        known = dict(self.constants)
        for name in _NAME.findall(re.sub(r"[0-9.]+[eE][+-]?[0-9]+", "", text)):
            if name not in known:
                there = f"; there are {', '.join(known)}" if known else "; the site file has no [constants]"
                raise ValueError(
                    f"{text!r} names the constant {name!r}, which is not known{suggestion(name, list(known))}{there}"
                )
        try:
            expression = compile_expression(_BARE.sub(lambda match: f"[{match[0]}]", text))
            number = expression.evaluate([known[name] for name in expression.names], FormulaMemory())
            if not isfinite(number):
                raise ValueError
            return number
        except (BadExpression, ArithmeticError, ValueError):
            raise ValueError(f"{text!r} is no number and no expression such as 0.1 * CT") from None

    def scale_of(self, name: str) -> ScaleCells:
        """Raises ValueError."""
        for known, cells in self.scales:
            if known == name:
                return cells
        raise ValueError(_unknown("scale", name, [known for known, _ in self.scales]))

    def states_of(self, name: str) -> dict[int, str]:
        """Raises ValueError."""
        for known, labels in self.states:
            if known == name:
                return dict(labels)
        raise ValueError(_unknown("states", name, [known for known, _ in self.states]))


def _unknown(what: str, name: str, known: list[str]) -> str:
    if what == "scale" and name.replace(".", "", 1).replace(",", "", 1).lstrip("-").isdigit():
        return f"scale {name!r} is the name of a [scale] table of the site file; a number goes into factor"
    there = f"there are {', '.join(known)}" if known else f"the site file has no [{what}.{name}]"
    return f"{what} {name!r} is not known{suggestion(name, known)}; {there}"
