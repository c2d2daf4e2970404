"""Names of files and lines of text, made from messages."""

from wexagraph.naming.patterns import DEFAULT_PATTERN, FIELDS, Fields, NamePattern, TextPattern
from wexagraph.naming.safe import clean, collision_key, component, with_extension

__all__ = [
    "DEFAULT_PATTERN",
    "FIELDS",
    "Fields",
    "NamePattern",
    "TextPattern",
    "clean",
    "collision_key",
    "component",
    "with_extension",
]
