"""Patterns: Python's format syntax over the fields of a message, for names of files and for lines of text."""

from __future__ import annotations

import re
import string
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime, tzinfo
from difflib import get_close_matches
from typing import TYPE_CHECKING, Any

from wexagraph.errors import CallError, MessageError
from wexagraph.languages import ENGLISH, Language, language
from wexagraph.messages.dates import in_zone
from wexagraph.messages.headers import Header
from wexagraph.naming.office_names import NO_NAMES, OfficeNames
from wexagraph.naming.paths import clean, component, cut
from wexagraph.text import one_line

if TYPE_CHECKING:
    from wexagraph.messages.message import Message

DEFAULT_PATTERN = "{date:%Y-%m-%d %H%M} {sender} - {subject}"
FIELDS = (
    "date",
    "sender",
    "sender_address",
    "recipient",
    "recipient_address",
    "to_or_from",
    "subject",
    "folder",
    "id",
    "filename",
    "type",
    "ending",
    "tags",
    "number",
    "kind",
    "attachments",
    "case",
    "case_title",
)
_SENT = re.compile(
    "sent|sent (items|mail|messages)|gesendet(e elemente|e objekte)?|(itens |elementos )?enviad[oa]s|"
    "(éléments |messages )?envoyés|(posta )?inviata|verzonden( items)?|wysłane",
    re.IGNORECASE,
)
_LETTERS = re.compile(r"[Yy]{2,4}|[Mm]{2}|[Dd]{2}|[Hh]{2}")
_CODES = {"Y": "%Y", "M": "%m", "D": "%d", "H": "%H"}
_ROOM = 20
"""Bytes kept free behind a name: the longest suffix and a number in brackets."""
_MOST_LEVELS = 20


def is_of_sent_mail(folder: str) -> bool:
    """Whether a folder is one of sent mail, by its name in the languages of the program."""
    return _SENT.fullmatch(re.split(r"[/.]", folder)[-1]) is not None


class _Undated(str):
    """Stands for a date that a message does not have, in words."""

    def __format__(self, spec: str) -> str:
        return str(self)


class _Value(str):
    """A field's text, clean of separators already, so that no value can make a folder."""

    def __format__(self, spec: str) -> str:
        return format(str(self), spec)


@dataclass(frozen=True)
class NamePattern:
    """A pattern like `{date:%Y}/{sender} - {subject}`; `/` in it, or in a date's format, makes folders.

    `may_be_constant` allows a name without a field, where there is only one file. Raises CallError when made from a
    pattern that names an unknown field, reaches into a field, or can't be filled.
    """

    text: str = DEFAULT_PATTERN
    may_be_constant: bool = False

    def __post_init__(self) -> None:
        check_pattern(self.text, FIELDS, "name pattern")
        if self.is_constant and not self.may_be_constant:
            raise CallError(
                f"the name pattern {self.text!r} has no field, so all names would be the same. {_listed(FIELDS)}"
            )
        self.stem(_probe())

    @property
    def is_constant(self) -> bool:
        """Whether it has no field, so that all names are the same."""
        return not any(name for _, name, _, _ in string.Formatter().parse(self.text))

    def stem(self, fields: Fields) -> str:
        """The path below the target, without suffix: safe, relative, `/` between folders.

        Raises CallError where a format does not fit its field.
        """
        filled = _filled(self.text, _Filling(fields), "name pattern")
        if "/" not in filled:
            return component(filled, _ROOM)
        levels = [level for level in filled.split("/")[:_MOST_LEVELS] if level.strip(" .")] or [""]
        return "/".join([*(component(level) for level in levels[:-1]), component(levels[-1], _ROOM)])


@dataclass(frozen=True)
class TextPattern:
    """A pattern for a line of text, such as a running footer: the fields of a name pattern, and `more` ones.

    `what` names it in messages. Raises CallError as `NamePattern` does; a pattern without fields is a plain text.
    """

    text: str
    what: str = "pattern"
    more: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        check_pattern(self.text, (*FIELDS, *self.more), self.what)
        self.fill(_probe(), dict.fromkeys(self.more, ""))

    def fill(self, fields: Fields, more: dict[str, str] | None = None) -> str:
        """The line of text, harmless wherever a line is shown. Raises CallError where a format does not fit."""
        return one_line(_filled(self.text, _LineFilling(fields, more or {}), self.what))


def literal(text: str) -> str:
    """A pattern that is filled with this text as it stands."""
    return text.replace("{", "{{").replace("}", "}}")


def check_pattern(text: str, known: tuple[str, ...], what: str) -> None:
    """Raise CallError where a pattern can't be read, names a field that is not `known`, or reaches into a field."""
    try:
        pieces = list(string.Formatter().parse(text))
    except ValueError as error:
        raise CallError(f"the {what} {text!r} can't be read: {error}. Write {{{{ for a brace.") from error
    for _, name, spec, conversion in pieces:
        if name is None:
            continue
        if name not in known:
            near = get_close_matches(name, known, n=1)
            hint = f" Did you mean {{{near[0]}}}?" if near else ""
            raise CallError(f"the {what} has no field {{{name}}}.{hint} {_listed(known)}")
        if conversion or (spec and "{" in spec):
            raise CallError(f"in the {what}, {{{name}}} can only have a format behind a colon.")
        if name == "date" and spec and "%" not in spec:
            right = _LETTERS.sub(lambda match: _CODES[match[0][0].upper()], spec)
            hint = f"{{date:{right}}}" if "%" in right else "{date:%Y-%m-%d}"
            raise CallError(f"{{date:{spec}}} would print {spec!r} as it stands. Write {hint}.")


def _filled(text: str, filling: dict[str, Any], what: str) -> str:
    try:
        return text.format_map(filling)
    except (ValueError, TypeError, IndexError, KeyError, OverflowError, MemoryError) as error:
        raise CallError(_unfit(text, what, error)) from error


def _unfit(text: str, what: str, error: Exception) -> str:
    """Why a format does not fit its field, in words for people."""
    for _, name, spec, _ in string.Formatter().parse(text):
        if name and spec and "%" in spec and name != "date":
            return f"in the {what}, {{{name}}} takes no date format; {{{name}:.40}} cuts it to 40 letters."
    return f"the {what} {text!r} has a format that does not fit its field: {error}."


def _listed(known: tuple[str, ...]) -> str:
    return f"Fields are: {', '.join('{' + name + '}' for name in known)}."


def _probe() -> Fields:
    header = Header(b"Subject: x\nFrom: a@b.example\nDate: 14 Mar 2026 15:03 +0000\n")
    return Fields(header, "f", "id", None, header.date()[0])


@dataclass(slots=True)
class Fields:
    """What a pattern is filled from. `moment` is the message's date; a `zone` of None keeps its own offset.

    `subject` stands in for the message's own, where several messages have one in common. `case` is the reference and
    the title of what it is filed under, `tags` are those of the message, `type` the media type of an attachment and
    `ending` that of its name. `read` gives the message itself, where a pattern asks for what its header does not tell;
    it raises MessageError. `tr` gives the words for what is missing, and dates in words. `names` are the office's own
    for addresses.
    """

    header: Header
    folder: str
    id: str
    zone: tzinfo | None
    moment: datetime | None = None
    filename: str = ""
    type: str = ""
    ending: str = ""
    tags: str = ""
    number: int = 0
    subject: str | None = None
    case: tuple[str, str] = ("", "")
    read: Callable[[], Message] | None = None
    tr: Language = field(default_factory=lambda: language(ENGLISH))
    names: OfficeNames = NO_NAMES

    def value(self, name: str) -> Any:
        """What a pattern is given for a field."""
        header = self.header
        if name == "date":
            if self.moment is None:
                return _Undated(self.tr("undated"))
            return in_zone(self.moment, self.zone) if self.zone is not None else self.moment
        if name == "sender":
            return _value(self.names.short(header.sender), self.tr("no sender"), 100)
        if name == "sender_address":
            return _value(header.sender.address, self.tr("no sender"), 100)
        if name == "to_or_from":
            return self.value("recipient" if is_of_sent_mail(self.folder) else "sender")
        if name in ("recipient", "recipient_address"):
            return _value(self._recipient(name), self.tr("no recipient"), 100)
        if name in ("type", "ending", "tags"):
            missing = self.tr("no tags" if name == "tags" else "no name")
            return _value(self._plain(name).replace("/", "-"), missing, 100)
        if name == "subject":
            return _value(header.subject if self.subject is None else self.subject, self.tr("no subject"), 0)
        if name == "folder":
            return _value(self.folder.replace("/", " - "), self.tr("no folder"), 0)
        if name == "filename":
            return _value(self.filename, self.tr("no name"), 0)
        if name in ("case", "case_title"):
            return _value(self.case[name == "case_title"], self.tr("no case"), 0)
        if name in ("kind", "attachments"):
            return self._told_by_the_message(name)
        return {"id": self.id, "number": self.number}[name]

    def _told_by_the_message(self, name: str) -> Any:
        """The kind of the message, or how many attachments it has; of one that can't be read, as of an empty letter."""
        from wexagraph.messages.kinds import kind_of
        from wexagraph.messages.message import Message

        message = Message(b"")
        if self.read is not None:
            with suppress(MessageError):
                message = self.read()
        return len(message.attachments) if name == "attachments" else kind_of(message)

    def _recipient(self, name: str) -> str:
        first = next(iter(self.header.addresses(b"to")), None)
        return "" if first is None else first.address if name == "recipient_address" else self.names.short(first)

    def _plain(self, name: str) -> str:
        return {"type": self.type, "ending": self.ending, "tags": self.tags}[name]

    def line_value(self, name: str) -> Any:
        """What a line of text is given for a field: as the message says it, not shortened, nothing replaced."""
        header = self.header
        if name == "date":
            moment = self.value("date")
            return moment if isinstance(moment, _Undated) else _Moment(moment, self.tr)
        if name == "sender":
            return self.names.short(header.sender)
        if name == "sender_address":
            return header.sender.address
        if name == "to_or_from":
            return self.line_value("recipient" if is_of_sent_mail(self.folder) else "sender")
        if name in ("recipient", "recipient_address"):
            return self._recipient(name)
        if name in ("type", "ending", "tags"):
            return self._plain(name)
        if name == "subject":
            return header.subject if self.subject is None else self.subject
        return {"folder": self.folder, "filename": self.filename}.get(name) or self.value(name)


class _Moment:
    """A date in a line of text: in words for people where no format is given."""

    def __init__(self, moment: datetime, tr: Language) -> None:
        self._moment, self._tr = moment, tr

    def __format__(self, spec: str) -> str:
        return format(self._moment, spec) if spec else self._tr.moment(self._moment)


class _Filling(dict[str, Any]):
    """The fields by name, each made when the pattern asks for it."""

    def __init__(self, fields: Fields) -> None:
        super().__init__()
        self._fields = fields

    def __missing__(self, name: str) -> Any:
        return self._fields.value(name)


class _LineFilling(dict[str, Any]):
    """The fields by name for a line of text."""

    def __init__(self, fields: Fields, more: dict[str, str]) -> None:
        super().__init__(more)
        self._fields = fields

    def __missing__(self, name: str) -> Any:
        return self._fields.line_value(name)


def _value(text: str, fallback: str, most: int) -> _Value:
    """A field's text for a name. `most` bytes keep a long sender from pushing the subject out of the name."""
    cleaned = clean(text).strip(" .")
    return _Value((cut(cleaned, most).rstrip(" .") if most else cleaned) or fallback)
