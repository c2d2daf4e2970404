"""Functions of CSS values that the engine does not lay out, resolved (CSS Values 4, section 10; CSS Variables 1)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

Variables = Mapping[str, list[Any]]
"""Custom properties by their names, with the tokens of their values."""
PAPER = 658
"""The width in CSS pixels that parts of a width are of: that of the usual paper between its margins."""
_PIXELS = {"px": 1.0, "pt": 4 / 3, "pc": 16.0, "em": 16.0, "rem": 16.0, "in": 96.0, "cm": 37.8, "mm": 3.78}
_MOST_DEPTH = 8
_MOST_TOKENS = 400


def resolved(tokens: list[Any], variables: Variables, depth: int = 0) -> list[Any]:
    """The tokens of a value with variables and comparisons resolved; none where a variable has no value."""
    if not any(token.type == "function" for token in tokens):
        return tokens
    out: list[Any] = []
    for token in tokens:
        if token.type != "function":
            out.append(token)
            continue
        if token.lower_name == "var":
            value = _value_of(token, variables) if depth < _MOST_DEPTH else []
            value = resolved(value, variables, depth + 1)
            if not value or len(out) + len(value) > _MOST_TOKENS:
                return []
            out += value
        elif token.lower_name in ("min", "max", "clamp"):
            out += _chosen(token.lower_name, [resolved(each, variables, depth + 1) for each in _apart(token.arguments)])
        else:
            out.append(token)
    return out


def bounds(name: str, tokens: list[Any], variables: Variables) -> list[tuple[str, list[Any]]]:
    """A declaration; a width out of several as a width and what bounds it, so that parts stay parts."""
    compared = [token for token in tokens if token.type != "whitespace"]
    if name != "width" or len(compared) != 1 or compared[0].type != "function":
        return [(name, resolved(tokens, variables))]
    function, values = compared[0].lower_name, [resolved(v, variables) for v in _apart(compared[0].arguments)]
    if function in ("min", "max") and len(values) == 2:
        parts = [value for value in values if _is_part(value)]
        lengths = [value for value in values if not _is_part(value)]
        if len(parts) == 1 and len(lengths) == 1:
            return [("width", parts[0]), (f"{'max' if function == 'min' else 'min'}-width", lengths[0])]
    if function == "clamp" and len(values) == 3:
        return [("width", values[1]), ("min-width", values[0]), ("max-width", values[2])]
    return [(name, resolved(tokens, variables))]


def _value_of(token: Any, variables: Variables) -> list[Any]:
    """What a variable holds, else what is to stand in its place."""
    names = [each for each in token.arguments if each.type == "ident"]
    if names and names[0].value in variables:
        return variables[names[0].value]
    commas = [at for at, each in enumerate(token.arguments) if each.type == "literal" and each.value == ","]
    return list(token.arguments[commas[0] + 1 :]) if commas else []


def _apart(arguments: list[Any]) -> list[list[Any]]:
    """The values of a comparison."""
    values: list[list[Any]] = [[]]
    for token in arguments:
        if token.type == "literal" and token.value == ",":
            values.append([])
        elif token.type != "whitespace" or values[-1]:
            values[-1].append(token)
    return values


def _is_part(value: list[Any]) -> bool:
    return len(value) == 1 and value[0].type == "percentage"


def _chosen(function: str, values: list[list[Any]]) -> list[Any]:
    """The one of several values that counts; the first where they can't be compared."""
    sizes = [_pixels(value) for value in values]
    known = [(size, value) for size, value in zip(sizes, values, strict=True) if size is not None]
    if len(known) != len(values) or (function == "clamp" and len(values) != 3):
        return values[0]
    if function == "clamp":
        (least, low), (size, middle), (most, high) = known
        return low if size < least or most < least else high if size > most else middle
    choose = min if function == "min" else max
    return choose(known, key=lambda each: each[0])[1]


def _pixels(value: list[Any]) -> float | None:
    """A length in CSS pixels; None where it is none."""
    if len(value) != 1:
        return None
    token = value[0]
    if token.type == "percentage":
        return float(token.value * PAPER / 100)
    if token.type == "number":
        return float(token.value)
    if token.type == "dimension":
        unit = token.lower_unit
        if unit in ("vw", "vh"):
            return float(token.value * PAPER / 100)
        return float(token.value * _PIXELS[unit]) if unit in _PIXELS else None
    return None
