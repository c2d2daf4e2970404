"""One criterion: a test with the name and meaning of an IMAP SEARCH key (RFC 9051 section 6.4.4); its words and
its days."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, datetime, timedelta, tzinfo
from difflib import get_close_matches
from functools import lru_cache

from wexagraph.errors import CallError
from wexagraph.messages.headers import LISTED, Header
from wexagraph.messages.message import Message
from wexagraph.messages.visible_text import visible_texts
from wexagraph.sources.base import Envelope, Leaf, Source, listed

_FORMS = ("%Y-%m-%d", "%Y-%m", "%Y")
_AGE = re.compile(r"(\d{1,4}) *([dwmy])", re.IGNORECASE)
_OTHER = re.compile(r"(\d{1,2})[./-](\d{1,2})[./-](\d{4})")
# soft hyphens, zero-width letters and marks of direction: they are in a text, and nobody sees them
_UNSEEN = re.compile("[\u00ad\u034f\u061c\u180e\u200b-\u200f\u202a-\u202e\u2060-\u2069\ufe00-\ufe0f\ufeff]")
_PIECES = re.compile(r'"([^"]+)"|(\S+)')
# scripts that put no space between words: one is looked for anywhere
_UNSPACED = re.compile("[\u0e00-\u0eff\u1000-\u109f\u1780-\u17ff\u2e80-\ua4cf\uf900-\ufaff\U00020000-\U0003ffff]")
_SIZE = re.compile(r"(\d+(?:\.\d+)?)\s*([kmg]?)i?b?", re.IGNORECASE)
_UNITS = {"": 1, "k": 1024, "m": 1024**2, "g": 1024**3}


def parse_day(value: str, today: date | None = None) -> date:
    """A day: 2026-03-14, or 2026-03 and 2026 for the first day of it; `today`, `yesterday`, or an age such as 30d, so
    long before `today` (else this day). Raises CallError."""
    text = value.strip().lower()
    today = today or date.today()
    if text in ("today", "yesterday"):
        return today - timedelta(days=text == "yesterday")
    if _AGE.fullmatch(text):
        return before(today, text)
    for form in _FORMS:
        try:
            return datetime.strptime(text, form).date()
        except ValueError:
            continue
    raise CallError(f"{value!r} is not a date.{_readings(text)} Write it as year-month-day: 2026-03-14.")


def _readings(text: str) -> str:
    """What a day with its parts in another order may mean."""
    match = _OTHER.fullmatch(text)
    if not match:
        return ""
    first, second, year = (int(part) for part in match.groups())
    days = []
    for month, day in ((second, first), (first, second)):
        try:
            days.append(date(year, month, day).isoformat())
        except ValueError:
            continue
    return f" It may mean {' or '.join(dict.fromkeys(days))}." if days else ""


def before(today: date, age: str) -> date:
    """The day that lies an age before another: 30d, 6w, 18m, 2y. Raises CallError."""
    match = _AGE.fullmatch(age.strip())
    if not match:
        raise CallError(f"{age!r} is not an age. Write days, weeks, months or years: 30d, 6w, 18m, 2y.")
    count, unit = int(match[1]), match[2].lower()
    if unit in "dw":
        try:
            return today - timedelta(days=count * (7 if unit == "w" else 1))
        except OverflowError:
            return date.min
    months = today.year * 12 + today.month - 1 - count * (12 if unit == "y" else 1)
    year, month = divmod(months, 12)
    if year < 1:
        return date.min
    for day in range(today.day, 27, -1):  # the last day of a shorter month
        try:
            return date(year, month + 1, day)
        except ValueError:
            continue
    return date(year, month + 1, min(today.day, 28))


class Unread(Exception):
    """The body of a message is asked for, and comes later."""


class Subject:
    """What a criterion is put to: a message by its envelope, its body read at most once and only when asked for.

    Where it `waits`, the body comes later, with those of others, and who asks for it meets Unread. Where it is
    `thorough`, files that a server does not tell of are looked for in it.
    """

    def __init__(self, source: Source, envelope: Envelope, zone: tzinfo | None, today: date | None = None) -> None:
        self.source, self.envelope, self.zone, self.today = source, envelope, zone, today or date.today()
        self.thorough = self.waits = False
        self._message: Message | None = None
        self._body: str | None = None
        self._addresses: dict[bytes, list[str]] = {}

    @property
    def date(self) -> date | None:
        moment: datetime | None = self.envelope.date()[0]
        return moment.astimezone(self.zone).date() if moment else None

    def addresses(self, field: bytes) -> list[str]:
        """Names and addresses in a field, each by itself and both together, folded for comparing."""
        if field not in self._addresses:
            people = self.envelope.header.addresses(field)
            texts = (text for name, address in people for text in (name, address, f"{name} <{address}>"))
            self._addresses[field] = [text.casefold() for text in texts]
        return self._addresses[field]

    def message(self) -> Message:
        """The message, read when it is asked for. Raises MessageError."""
        if self._message is None and self.waits:
            raise Unread
        return self._message or self.read(self.source.read(self.envelope))

    def read(self, data: bytes) -> Message:
        """Take the bytes of the message."""
        self._message, self.waits = self.source.message(data), False
        return self._message

    def header(self) -> Header:
        """The header with all its fields, of which a list may have some alone. Raises MessageError."""
        return self.message().header

    def field(self, name: str) -> list[str]:
        """The texts of all fields of that name (lower case). Raises MessageError where the message has to be read."""
        header, raw = self.envelope.header, name.encode("utf-8", "surrogateescape")
        if name not in LISTED and header.raw(raw) is None:
            header = self.header()
        return [header.decoded(value) for value in header.all_raw(raw)]

    def attachments(self) -> list[Leaf]:
        """What is attached to the message. Raises MessageError."""
        if self._message is not None or (self.thorough and self.source.may_hide(self.envelope)):
            return listed(self.message())
        return self.source.attachments(self.envelope)

    def body(self) -> str:
        """The text that a reader sees, folded for comparing. Raises MessageError."""
        if self._body is None:
            self._body = folded("\n".join(visible_texts(self.message())))
        return self._body


@dataclass(frozen=True)
class Criterion:
    """A named test and the value it was given, for example ("from", "*@quay.example")."""

    name: str
    value: str

    def __post_init__(self) -> None:
        if self.name not in TESTS:
            near = get_close_matches(self.name, list(TESTS), n=1)
            hint = f" Did you mean {near[0]}?" if near else ""
            raise CallError(f"there is no criterion {self.name!r}.{hint} Criteria are: {', '.join(TESTS)}.")
        TESTS[self.name].check(self.value)

    @property
    def reads_body(self) -> bool:
        return TESTS[self.name].reads_body

    def matches(self, subject: Subject) -> bool:
        """Whether the message meets the criterion. May raise MessageError where a body has to be read."""
        return TESTS[self.name].test(subject, self.value)


_LITERAL = re.compile(r"\[([*?])\]")


def has_wildcard(value: str) -> bool:
    """Whether a value has a `*` or `?` that stands for letters; `[*]` and `[?]` stand for themselves."""
    return bool(re.search(r"[*?]", _LITERAL.sub("", value)))


@lru_cache(maxsize=20_000)  # a file plan has thousands
def _pattern(value: str) -> re.Pattern[str] | str:
    plain = value.casefold()
    if not has_wildcard(value):
        return _LITERAL.sub(r"\1", plain)
    wild = {"*": ".*", "?": "."}
    pieces = re.findall(r"\[[*?]\]|.", plain, re.DOTALL)
    return re.compile("".join(wild.get(one) or re.escape(_LITERAL.sub(r"\1", one)) for one in pieces), re.DOTALL)


def text_matches(value: str, *texts: str) -> bool:
    """IMAP's substring, whatever the case; with `*` or `?` the whole text has to fit."""
    return _fits(value, [text.casefold() for text in texts])


def _fits(value: str, texts: list[str]) -> bool:
    pattern = _pattern(value)
    if isinstance(pattern, str):
        return any(pattern in text for text in texts)
    return any(pattern.fullmatch(text.strip()) for text in texts)


def _addresses(field: bytes) -> Callable[[Subject, str], bool]:
    return lambda subject, value: _fits(value, subject.addresses(field))


def _text(subject: Subject, value: str) -> bool:
    header = subject.envelope.header
    fields = [header.decoded(raw) for _, raw in header.fields()]
    names = [attachment.name for attachment in subject.message().attachments]
    return holds(value, " ".join([folded("\n".join([*fields, *names])), subject.body()]))


def _header_field(subject: Subject, value: str) -> bool:
    name, _, text = value.partition("=")
    fields = subject.field(name.strip().lower())
    return any(text_matches(text.strip(), field) for field in fields) if text.strip() else bool(fields)


def _check_field(value: str) -> str:
    name, equals, _ = value.partition("=")
    if not (equals and re.fullmatch(r"[!-9;-~]+", name.strip())):
        raise CallError(f"{value!r} is not a field and its text. Write NAME=TEXT: 'X-Department=Harbour'.")
    return value


def _is_of_kind(subject: Subject, value: str) -> bool:
    from wexagraph.messages.kinds import KINDS  # few ask for it

    return KINDS[value](subject.header(), subject.message)


def _is_letter(subject: Subject, _: str) -> bool:
    from wexagraph.messages.kinds import is_letter

    return is_letter(subject.header(), subject.message)


def _check_kind(value: str) -> str:
    from wexagraph.messages.kinds import KINDS

    if value not in KINDS:
        near = get_close_matches(value, KINDS, n=1)
        hint = f" Did you mean {near[0]}?" if near else ""
        raise CallError(f"{value!r} is not a kind of message.{hint} Kinds are: {', '.join(KINDS)}.")
    return value


def _attached(subject: Subject, value: str) -> bool:
    return any(text_matches(value, leaf.name, leaf.type) for leaf in subject.attachments())


@dataclass(frozen=True)
class _Test:
    test: Callable[[Subject, str], bool]
    check: Callable[[str], object] = str
    reads_body: bool = False


def parse_size(value: str) -> int:
    """ "300", "20 KB", "1.5MB", "1GB" in bytes; a KB is 1,024. Raises CallError."""
    match = _SIZE.fullmatch(value.strip())
    if not match:
        raise CallError(f"{value!r} is not a size. Write bytes, or a number with KB, MB or GB: 20KB.")
    return int(float(match[1]) * _UNITS[match[2].lower()])


def _check_age(value: str) -> date:
    return before(date.today(), value)


def _flag(word: str, wanted: bool) -> _Test:
    return _Test(lambda subject, _: (word in subject.envelope.flags) is wanted)


FLAGS = ("seen", "unseen", "mail-only")
"""Criteria without a value."""
TESTS: dict[str, _Test] = {
    "from": _Test(_addresses(b"from")),
    "to": _Test(_addresses(b"to")),
    "cc": _Test(_addresses(b"cc")),
    "bcc": _Test(_addresses(b"bcc")),
    "with": _Test(lambda s, value: any(_addresses(field)(s, value) for field in (b"from", b"to", b"cc"))),
    "subject": _Test(lambda s, value: text_matches(value, s.envelope.header.subject)),
    "body": _Test(lambda s, value: holds(value, s.body()), reads_body=True),
    "text": _Test(_text, reads_body=True),
    "since": _Test(lambda s, value: s.date is not None and s.date >= parse_day(value, s.today), parse_day),
    "before": _Test(lambda s, value: s.date is not None and s.date < parse_day(value, s.today), parse_day),
    "older-than": _Test(lambda s, value: s.date is not None and s.date < before(s.today, value), _check_age),
    "newer-than": _Test(lambda s, value: s.date is not None and s.date >= before(s.today, value), _check_age),
    "larger": _Test(lambda s, value: s.envelope.size > parse_size(value), parse_size),
    "smaller": _Test(lambda s, value: s.envelope.size < parse_size(value), parse_size),
    "keyword": _Test(
        lambda s, value: any(
            text_matches(value, f) if "*" in value else f == value.lower().lstrip("\\") for f in s.envelope.flags
        )
    ),
    "seen": _flag("seen", True),
    "unseen": _flag("seen", False),
    "header-field": _Test(_header_field, _check_field, reads_body=True),
    "kind": _Test(_is_of_kind, _check_kind, reads_body=True),
    "mail-only": _Test(_is_letter, reads_body=True),
    "attached": _Test(_attached, reads_body=True),
    "folder": _Test(lambda s, value: folder_matches(value, s.envelope.folder)),
}


def folder_matches(value: str, folder: str) -> bool:
    """Whether a folder is the one named, or below it; with `*` or `?` the whole name has to fit."""
    if has_wildcard(value):
        return text_matches(value, folder)
    wanted, name = value.strip("/").casefold(), folder.casefold()
    return name == wanted or name.startswith(wanted + "/")


def folded(text: str) -> str:
    """A text as it is compared: white space of any kind is one space; case, accents and width forms do not count."""
    if not text.isascii():
        text = unicodedata.normalize("NFKD", _UNSEEN.sub("", text))
        text = "".join(letter for letter in text if not unicodedata.combining(letter))
    return " ".join(text.casefold().split())


def is_indexed(value: str) -> bool:
    """Whether an index of words finds what is looked for."""
    return not _UNSPACED.search(value) and not re.search(r"[?]|\*(?!\s|$)", value)


def holds(value: str, text: str) -> bool:
    """Whether a folded text holds all words of a value in any order, each as the beginning of a word; those "in quotes"
    whole and side by side. `*` in a word stands for any letters, `?` for one."""
    return all(pattern.search(text) for pattern in _patterns(value))


@lru_cache(maxsize=512)
def _patterns(value: str) -> tuple[re.Pattern[str], ...]:
    patterns = []
    for quoted, word in _PIECES.findall(value):
        words = re.findall(r"[\w*?]+", folded(quoted or word))
        if words and re.search(r"\w", "".join(words)):
            bare = r"\W+".join(map(_with_wildcards, words))
            begin, end = ("", "") if _UNSPACED.search(bare) else (r"(?<!\w)", r"(?!\w)" if quoted else "")
            patterns.append(re.compile(begin + bare + end))
    return tuple(patterns) or (re.compile(re.escape(folded(value))),)


def _with_wildcards(word: str) -> str:
    return re.escape(word).replace(r"\*", r"\w*").replace(r"\?", r"\w")
