"""The faces that a message names, and those that come with us for what is not here."""

from __future__ import annotations

import re

_SANS, _SERIF, _MONO = '"Liberation Sans"', '"Liberation Serif"', '"Liberation Mono"'
_GENERIC = {
    **dict.fromkeys(("sans-serif", "system-ui", "-apple-system", "blinkmacsystemfont", "ui-sans-serif"), _SANS),
    **dict.fromkeys(("cursive", "fantasy"), _SANS),
    **dict.fromkeys(("serif", "ui-serif"), _SERIF),
    **dict.fromkeys(("monospace", "ui-monospace"), _MONO),
}
_MONOSPACED = re.compile(r"courier|consol|mono|menlo|monaco|typewriter", re.IGNORECASE)
_SERIFED = re.compile(r"times|georgia|garamond|cambria|palatino|bodoni|serif|roman|book|baskerville", re.IGNORECASE)


def _named(family: str) -> str:
    """A font for a generic family, which it is in quotes too; another family as it is."""
    name = family.strip()
    known = _GENERIC.get(name.strip("\"'").lower())
    return family.replace(name, known) if known else family


def with_known_fonts(name: str, value: str) -> str:
    """A `font` or `font-family` whose list ends in a font that comes with us, the same on every machine.

    A generic family is named outright; a list without one gets the kind of face that its names suggest.
    """
    if name not in ("font", "font-family") or value.lower() in ("inherit", "initial", "unset"):
        return value
    if name == "font" and '"' not in value and "'" not in value and " " not in value:
        return value  # a system font: caption, menu, …
    families = value.split(",")
    # in `font`, the size stands before the first
    before, space, first = families[0].rpartition(" ") if name == "font" else ("", "", families[0])
    families = [before + space + _named(first), *map(_named, families[1:])]
    if families[-1].endswith((_SANS, _SERIF, _MONO)):
        return ",".join(families)
    end = (
        _MONO
        if _MONOSPACED.search(value)
        else _SERIF
        if _SERIFED.search(value) and "sans" not in value.lower()
        else _SANS
    )
    return ",".join([*families, end])
