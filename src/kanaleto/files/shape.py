"""What is wrong with a tree of TOML, key by key, each in one of our sentences. Only where making tables of it has
failed: what is right costs nothing here."""

import math
from collections.abc import Callable
from typing import Any

from msgspec import inspect as types

from kanaleto.files import siteschema as schema
from kanaleto.site.filefaults import suggestion

Where = tuple[str | int, ...]
TellFault = Callable[[Where, str], None]
"""The place, as keys and numbers from the top, and what is wrong there."""

_SIMPLE = {
    types.IntType: (int, "a whole number"),
    types.FloatType: (float, "a number"),
    types.StrType: (str, "text in quotes"),
    types.BoolType: (bool, "true or false"),
    types.ListType: (list, "a list in square brackets"),
    types.DictType: (dict, "a table"),
    types.StructType: (dict, "a table"),
}
_BOUNDS = (("ge", "at least"), ("gt", "more than"), ("le", "at most"), ("lt", "less than"))


def tell_shape(tree: dict[str, Any], tell: TellFault) -> None:
    """Tell every fault of a site file's tree."""
    _check(tree, types.type_info(schema.SiteFile), (), tell)


def _key(where: Where) -> str | int:
    return where[-1] if where else "file"


def _check(value: Any, kind: types.Type, where: Where, tell: TellFault) -> None:
    if isinstance(kind, types.UnionType):
        kind = _nearest(value, kind)
    if isinstance(kind, types.LiteralType):
        if value not in kind.values:
            words = ", ".join(repr(word) for word in kind.values[:-1])
            tell(where, f"{_key(where)} = {_shown(value)} must be one of {words} or {kind.values[-1]!r}")
        return
    python, wanted = _SIMPLE[type(kind)]
    is_right = isinstance(value, python) or (python is float and isinstance(value, int))
    if not is_right or (isinstance(value, bool) and python is not bool):
        tell(where, f"{_key(where)} = {_shown(value)} must be {wanted}")
    elif isinstance(kind, types.StructType):
        _check_table(value, kind, where, tell)
    elif isinstance(kind, types.DictType):
        for key, inner in value.items():
            _check(inner, kind.value_type, (*where, key), tell)
    elif isinstance(kind, types.ListType):
        for number, inner in enumerate(value):
            _check(inner, kind.item_type, (*where, number), tell)
    else:
        _check_bounds(value, kind, where, tell)


def _nearest(value: Any, kind: types.UnionType) -> types.Type:
    """Of several kinds the one that the value was meant to be: of its own sort, else the first."""
    real = [one for one in kind.types if not isinstance(one, types.NoneType)]
    for one in real:
        if type(one) in _SIMPLE and isinstance(value, _SIMPLE[type(one)][0]):
            return one
    return real[0]


def _check_table(value: dict[str, Any], kind: types.StructType, where: Where, tell: TellFault) -> None:
    fields = {field.encode_name: field for field in kind.fields}
    names = [part for part in where if isinstance(part, str)]
    level = names[-1] if names else "file"
    holder = {"file": "the file", "site": "[site]", "line": "this [[line]]", "device": "this [[line.device]]"}.get(
        level, level
    )
    for key, inner in value.items():
        if key in fields:
            _check(inner, fields[key].type, (*where, key), tell)
        else:
            known = list(fields)
            tell(
                (*where, key), f"{key!r} is not known in {holder}{suggestion(key, known)}; there are {', '.join(known)}"
            )
    for name, field in fields.items():
        if field.required and name not in value:
            needs = f"{holder} needs {name}" if level != "file" else f"the file needs a [{name}] table"
            tell((*where, name), needs)


def _check_bounds(value: Any, kind: types.Type, where: Where, tell: TellFault) -> None:
    if isinstance(kind, types.StrType):
        if kind.min_length is not None and len(value) < kind.min_length:
            tell(where, f"{_key(where)} = {value!r} must be a name that is not empty")
        elif kind.max_length is not None and len(value) > kind.max_length:
            tell(where, f"{_key(where)} = {value!r} must be shorter ({kind.max_length} characters at most)")
    elif not _is_finite(value, kind):
        tell(where, f"{_key(where)} = {value!r} must be a finite number")
    elif isinstance(kind, types.IntType | types.FloatType):
        for name, words in _BOUNDS:
            bound = getattr(kind, name)
            if bound is None:
                continue
            is_within = {"ge": value >= bound, "gt": value > bound, "le": value <= bound, "lt": value < bound}[name]
            if not is_within:
                tell(where, f"{_key(where)} = {value!r} must be {words} {bound:g}")
                return


def _is_finite(value: Any, kind: types.Type) -> bool:
    try:
        return not isinstance(kind, types.FloatType) or math.isfinite(value)
    except OverflowError:  # a whole number that no float holds
        return False


def _shown(value: Any) -> str:
    if isinstance(value, dict | list):
        return f"a {'table' if isinstance(value, dict) else 'list'}"
    return repr(value)
