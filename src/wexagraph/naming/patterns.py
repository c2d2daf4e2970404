"""Name patterns: Python's format syntax over the fields of a message."""

from __future__ import annotations

import string
from dataclasses import dataclass
from datetime import datetime, tzinfo
from difflib import get_close_matches
from typing import Any

from wexagraph.errors import CallError
from wexagraph.messages.dates import in_zone
from wexagraph.messages.headers import Header
from wexagraph.naming.safe import clean, component, cut

DEFAULT_PATTERN = "{date:%Y-%m-%d %H%M} {sender} - {subject}"
FIELDS = (
    "date",
    "sender",
    "sender_address",
    "recipient",
    "subject",
    "folder",
    "id",
    "filename",
    "case",
    "number",
)
_ROOM = 20
"""Bytes kept free behind a name: the longest suffix and a number in brackets."""
_MOST_LEVELS = 20


class _Undated:
    """Stands for a date that a message does not have."""

    def __format__(self, spec: str) -> str:
        return "undated"


class _Value(str):
    """A field's text, clean of separators already, so that no value can make a folder."""

    def __format__(self, spec: str) -> str:
        return format(str(self), spec)


@dataclass(frozen=True)
class NamePattern:
    """A pattern like `{date:%Y}/{sender} - {subject}`; `/` in it, or in a date's format, makes folders.

    Raises CallError when made from a pattern that names an unknown field, reaches into a field, or can't be filled.
    """

    text: str = DEFAULT_PATTERN

    def __post_init__(self) -> None:
        try:
            fields = list(string.Formatter().parse(self.text))
        except ValueError as error:
            raise CallError(
                f"the name pattern {self.text!r} can't be read: {error}. Write {{{{ for a brace."
            ) from error
        if not any(name for _, name, _, _ in fields):
            raise CallError(f"the name pattern {self.text!r} has no field, so all names would be the same. {_listed()}")
        for _, name, spec, conversion in fields:
            if name is None:
                continue
            if name not in FIELDS:
                near = get_close_matches(name, FIELDS, n=1)
                hint = f" Did you mean {{{near[0]}}}?" if near else ""
                raise CallError(f"the name pattern has no field {{{name}}}.{hint} {_listed()}")
            if conversion or (spec and "{" in spec):
                raise CallError(f"in the name pattern, {{{name}}} can only have a format behind a colon.")
        probe = Fields(Header(b"Subject: x\nFrom: a@b.example\nDate: 14 Mar 2026 15:03 +0000\n"), "f", "id", None)
        self.stem(probe)

    def stem(self, fields: Fields) -> str:
        """The path below the target, without suffix: safe, relative, `/` between folders.

        Raises CallError where a format does not fit its field.
        """
        try:
            filled = self.text.format_map(_Filling(fields))
        except (ValueError, TypeError, IndexError, KeyError, OverflowError, MemoryError) as error:
            raise CallError(f"the name pattern {self.text!r} can't be filled: {error}.") from error
        if "/" not in filled:
            return component(filled, _ROOM)
        levels = [level for level in filled.split("/")[:_MOST_LEVELS] if level.strip(" .")] or [""]
        return "/".join([*(component(level) for level in levels[:-1]), component(levels[-1], _ROOM)])


def _listed() -> str:
    return f"Fields are: {', '.join('{' + name + '}' for name in FIELDS)}."


@dataclass(slots=True)
class Fields:
    """What a pattern is filled from. `moment` is the message's date; a `zone` of None keeps its own offset."""

    header: Header
    folder: str
    id: str
    zone: tzinfo | None
    moment: datetime | None = None
    filename: str = ""
    number: int = 0

    def value(self, name: str) -> Any:
        """What a pattern is given for a field."""
        header = self.header
        if name == "date":
            if self.moment is None:
                return _Undated()
            return in_zone(self.moment, self.zone) if self.zone is not None else self.moment
        if name == "sender":
            return _value(header.sender.name or header.sender.address, "no sender", 100)
        if name == "sender_address":
            return _value(header.sender.address, "no sender", 100)
        if name == "recipient":
            recipients = header.addresses(b"to")
            found = (recipients[0].name or recipients[0].address) if recipients else ""
            return _value(found, "no recipient", 100)
        if name == "subject":
            return _value(header.subject, "no subject", 0)
        if name == "folder":
            return _value(self.folder.replace("/", " - "), "no folder", 0)
        if name == "filename":
            return _value(self.filename, "no name", 0)
        return {"id": self.id, "number": self.number, "case": "no case"}[name]


class _Filling(dict[str, Any]):
    """The fields by name, each made when the pattern asks for it."""

    def __init__(self, fields: Fields) -> None:
        super().__init__()
        self._fields = fields

    def __missing__(self, name: str) -> Any:
        return self._fields.value(name)


def _value(text: str, fallback: str, most: int) -> _Value:
    """A field's text for a name. `most` bytes keep a long sender from pushing the subject out of the name."""
    cleaned = clean(text).strip(" .")
    return _Value((cut(cleaned, most).rstrip(" .") if most else cleaned) or fallback)
