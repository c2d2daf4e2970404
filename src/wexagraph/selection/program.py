"""A choice as an IMAP SEARCH program (RFC 9051 section 6.4.4): what a server may leave out for us.

The program lets through everything that the choice's own tests would, and perhaps more: servers differ in what they
call a part of a field, so our own tests have the last word.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import date, timedelta

from wexagraph.selection.criteria import Criterion, before, parse_day, parse_size

_FLAGS = frozenset({"seen", "answered", "flagged", "deleted", "draft"})
# texts are not among them: a server's search does not see through what parts a word in HTML, nor accents
_TEXTS = {"from": "FROM", "to": "TO", "cc": "CC", "bcc": "BCC", "subject": "SUBJECT"}
Keys = list[str | bytes]
_MOST_EITHER = 50


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
        key = exact(exception)
        if key:
            program += ["NOT", *key]
    return tuple(program + last)


def _either(alternatives: list[Keys | None]) -> Keys:
    """Alternatives as one key: OR takes two. Empty where one of them can't be asked for."""
    keys: Keys = []
    if len(alternatives) > _MOST_EITHER:
        return []  # a server takes no line of that length
    for key in alternatives:
        if not key or (keys and isinstance(key[-1], bytes)) or (keys and isinstance(keys[-1], bytes)):
            return []
        keys = ["OR", *_one(keys), *_one(key)] if keys else list(key)
    return keys


def _one(keys: Keys) -> Keys:
    """Keys that hold together, as one key."""
    if keys[0] != "NOT" or isinstance(keys[-1], bytes):
        return keys
    return [f"({keys[0]}", *keys[1:-1], f"{keys[-1]})"]


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
    if name == "header-field":
        field, _, text = (part.strip() for part in value.partition("="))
        piece = max(re.split(r"\[?[*?]\]?", text), key=len).strip()
        plain = re.fullmatch(r"[\w-]+", field) and piece.isascii() and piece.isprintable()
        return ["HEADER", field.upper(), _quoted(piece)] if plain else None
    if value == "newsletter" and name == "kind":
        return _either([["HEADER", field, '""'] for field in ("LIST-ID", "LIST-UNSUBSCRIBE", "PRECEDENCE")])
    if name == "with":
        return _either([_key(Criterion(field, value)) for field in ("from", "to", "cc")]) or None
    if name in ("since", "before"):
        return _days(name, parse_day(value, today), today)
    if name in ("older-than", "newer-than"):
        return _days("before" if name == "older-than" else "since", before(today, value), today)
    return exact(criterion)


def exact(criterion: Criterion) -> Keys | None:
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


_EARLIEST = 1990
"""Dates before this year are too rare to be left out one by one."""
_MONTHS = "Jan Feb Mar Apr May Jun Jul Aug Sep Oct Nov Dec".split()


def _days(name: str, day: date, today: date) -> Keys | None:
    """All but what says a month or a year on the wrong side of a day, written as RFC 5322 writes it.

    SENTSINCE and SENTBEFORE would be shorter, but each server reads other forms of a date than we do, and takes for
    the rest what it likes: no date at all, 1970, or the day on which the message came.
    """
    since = name == "since"
    try:  # what is written in another zone is another day there
        month = (day + timedelta(days=-2 if since else 2)).replace(day=1)
    except OverflowError:
        return None
    years = range(_EARLIEST, month.year) if since else range(max(_EARLIEST, month.year + 1), today.year + 2)
    months = _MONTHS[: month.month - 1] if since else _MONTHS[month.month :]
    wrong = [(str(year), str(year)) for year in years] + [(f"{word} {month.year}", str(month.year)) for word in months]
    keys: Keys = []
    for words, year in wrong:
        said = ["HEADER", "DATE", f'" {words} "']
        if not since:
            # what says to be written long after it came is known by when it came
            said += ["OR", "HEADER", "RECEIVED", f'" {year} "', "NOT", "HEADER", "RECEIVED", '""']
            said = [f"({said[0]}", *said[1:-1], f"{said[-1]})"]
        keys += ["NOT", *said]
    return keys


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'
