"""A choice as an IMAP SEARCH program (RFC 9051 section 6.4.4): what a server may leave out for us.

The program lets through everything that the choice's own tests would, and perhaps more: servers differ in what they
call a part of a field, so our own tests have the last word.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import date, timedelta

from wexagraph.selection.criteria import Criterion, parse_size
from wexagraph.selection.days import before, parse_day

_FLAGS = frozenset({"seen", "answered", "flagged", "deleted", "draft"})
# texts are not among them: a server's search does not see through what parts a word in HTML, nor accents
_TEXTS = {"from": "FROM", "to": "TO", "cc": "CC", "subject": "SUBJECT"}
Keys = list[str | bytes]


def search_program(
    groups: Iterable[tuple[Criterion, ...]], exceptions: Iterable[Criterion], today: date | None = None
) -> tuple[str | bytes, ...]:
    """The program for criteria in groups (either within a group, all groups) and exceptions; empty for no narrowing."""
    program: Keys = []
    last: Keys = []
    for group in groups:
        keys = _either([_key(criterion, today) for criterion in group])
        if keys and isinstance(keys[-1], bytes):
            # a text beyond ASCII goes as a literal, of which a command here holds one, at its end
            last = last or (keys if len(keys) == 2 else [])
        elif keys:
            program += keys
    for exception in exceptions:
        key = _exact(exception)
        if key:
            program += ["NOT", *key]
    return tuple(program + last)


def _either(alternatives: list[Keys | None]) -> Keys:
    """Alternatives as one key: OR takes two. Empty where one of them can't be asked for."""
    keys: Keys = []
    for key in alternatives:
        if not key or (keys and isinstance(key[-1], bytes)) or (keys and isinstance(keys[-1], bytes)):
            return []
        keys = ["OR", *keys, *key] if keys else list(key)
    return keys


def _key(criterion: Criterion, today: date | None = None) -> Keys | None:
    name, value, today = criterion.name, criterion.value, today or date.today()
    if name in _TEXTS:
        # of a pattern with * or ?, the longest piece of plain text has to be there
        piece = max(re.split(r"\[?[*?]\]?", value), key=len).strip()
        if len(piece) < 2:
            return None
        if piece.isascii():
            return [_TEXTS[name], _quoted(piece)] if piece.isprintable() else None
        return [_TEXTS[name], piece.encode("utf-8")]
    if name == "with":
        return _either([_key(Criterion(field, value)) for field in ("from", "to", "cc")]) or None
    if name in ("since", "before"):
        return _days(name, parse_day(value, today))
    if name in ("older-than", "newer-than"):
        return _days("before" if name == "older-than" else "since", before(today, value))
    return _exact(criterion)


def _exact(criterion: Criterion) -> Keys | None:
    """Keys that mean to every server what they mean to us, so that they can be negated."""
    name, value = criterion.name, criterion.value
    if name in ("larger", "smaller"):
        return [name.upper(), str(parse_size(value))]
    if name in ("seen", "unseen"):
        return [name.upper()]
    if name == "keyword":
        word = value.lstrip("\\")
        if word.lower() in _FLAGS:
            return [word.upper()]
        return ["KEYWORD", word] if re.fullmatch(r"[A-Za-z0-9$_.+-]+", word) else None
    return None


def _days(name: str, day: date) -> Keys | None:
    """A day more on the open side, since servers ignore zones (RFC 9051), and all whose Date can't be the date."""
    if not 1 < day.year < 9999:  # there is no day before the first
        return None
    if name == "since":
        key = ["SENTSINCE", _day(day - timedelta(days=1))]
    else:
        key = ["SENTBEFORE", _day(day + timedelta(days=1))]
    odd: Keys = [
        "OR",
        "SENTBEFORE",
        "1-Jan-1981",
        "OR",
        "SENTSINCE",
        _day(date.today() + timedelta(days=2)),
        "NOT",
        "HEADER",
        "DATE",
        '""',
    ]
    return ["OR", *key, *odd]


_MONTHS = "Jan Feb Mar Apr May Jun Jul Aug Sep Oct Nov Dec".split()


def _day(day: date) -> str:
    return f"{day.day}-{_MONTHS[day.month - 1]}-{day.year}"


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'
