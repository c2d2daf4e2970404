"""Backgrounds as the engine sets them: one picture that is there, or one colour (CSS Backgrounds 3, CSS Images 3)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from tinycss2.color3 import parse_color

STAND_IN = "#6b7780"
"""In place of a picture that is not there, where words on it can't be told from the paper: as far from white as from
black."""


def of_one_colour(name: str, tokens: list[Any], picture: str | None) -> str | None:
    """The colour that stands for a background of several layers, of a gradient, or of a picture that is not there; None
    where it says none. `picture` is what became of its last picture: a name, a colour that stands for it, or None."""
    layers = list(_layers(tokens))
    colours = [colour for token in layers[-1] if (colour := _colour(token)) is not None] if name == "background" else []
    if colours:
        return colours[-1]
    for layer in layers:
        for token in layer:
            if token.type == "function" and token.lower_name.endswith("-gradient"):
                return _mean(token.arguments)
    return picture if picture is not None and picture.startswith("#") else None


def is_plain(tokens: list[Any]) -> bool:
    """Whether the engine sets a background as it is, if its picture is there."""
    gradient = any(token.type == "function" and token.lower_name.endswith("-gradient") for token in tokens)
    return not gradient and len(list(_layers(tokens))) == 1


def _layers(tokens: list[Any]) -> Iterator[list[Any]]:
    layer: list[Any] = []
    for token in tokens:
        if token.type == "literal" and token.value == ",":
            yield layer
            layer = []
        else:
            layer.append(token)
    yield layer


def _colour(token: Any) -> str | None:
    colour = parse_color(token) if token.type in ("ident", "hash", "function") else None
    if colour is None or colour == "currentColor":
        return None
    red, green, blue, alpha = colour
    if alpha == 0:
        return None
    # over white, which is what most often lies below
    return "#" + "".join(f"{round(255 * (part * alpha + 1 - alpha)):02x}" for part in (red, green, blue))


def _mean(arguments: list[Any]) -> str | None:
    """The mean of a gradient's colours."""
    colours = [colour for token in arguments if (colour := _colour(token)) is not None]
    if not colours:
        return None
    parts = ([int(colour[at : at + 2], 16) for colour in colours] for at in (1, 3, 5))
    return "#" + "".join(f"{round(sum(part) / len(part)):02x}" for part in parts)
