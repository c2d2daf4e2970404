"""Which messages of a source are meant: criteria, exceptions, IDs."""

from wexagraph.selection.choice import Choice
from wexagraph.selection.criteria import Criterion, parse_day, parse_size

__all__ = ["Choice", "Criterion", "parse_day", "parse_size"]
