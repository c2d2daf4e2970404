"""Names of files, made from messages."""

from wexagraph.naming.patterns import DEFAULT_PATTERN, FIELDS, Fields, NamePattern
from wexagraph.naming.safe import clean, collision_key, component, with_extension

__all__ = [
    "DEFAULT_PATTERN",
    "FIELDS",
    "Fields",
    "NamePattern",
    "clean",
    "collision_key",
    "component",
    "with_extension",
]
