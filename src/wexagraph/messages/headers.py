"""Header fields: found fast in raw bytes, decoded only when somebody asks (RFC 5322, 2047, 6532)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import datetime
from typing import NamedTuple

from wexagraph.messages.charsets import codec_for, decode, likely
from wexagraph.messages.dates import parse_date, plausible
from wexagraph.messages.encoded_words import decode_encoded, decode_words
from wexagraph.notes import Note

_BLANK = re.compile(rb"\r?\n\r?\n")
_FOLD = re.compile(r"[\r\n]+[ \t]*|\t")
_MOST_ADDRESSES, _MOST_FIELDS = 1_000_000, 1000
"""Bytes of an address field that are read, and fields of one name."""
_NO_FIELD = re.compile(rb"^(?![!-9;-~]+[ \t]*:)[^ \t\r\n]", re.MULTILINE)
LISTED = (
    *("date", "from", "sender", "reply-to", "to", "cc", "bcc", "subject"),
    *("message-id", "in-reply-to", "references", "received", "content-type"),
)
"""The fields that a list of messages is made from, and that tell which belong together."""
_LISTED = re.compile(
    rb"^(?:%b)[ \t]*:.*\n(?:[ \t].*\n)*" % "|".join(name for name in LISTED if name != "received").encode(),
    re.IGNORECASE | re.MULTILINE,
)
_OF_WORDS = (b"subject", b"from", b"sender", b"reply-to", b"to", b"cc")
"""Fields that people write words into, and that every source has at hand."""
_MOST_WORDS_READ = 4096
_NAMED_SET = re.compile(
    rb'charset[ \t]*=[ \t]*"?([\w.:+-]{1,40})|=\?([\w.:+-]{1,40})(?:\*[^?]*)?\?[bq]\?', re.IGNORECASE
)
_IN_BRACKETS = re.compile(rb"<[^<>]*>")
_BOUNDARY = re.compile(rb'\bboundary[ \t]*=[ \t]*(?:"([^"\r\n]*)"|([^\s;]+))', re.IGNORECASE)
_FIELD_LINE = re.compile(rb"(?:\xef\xbb\xbf)?[!-9;-~]+[ \t]*:|>*From ")


def header_end(data: bytes, start: int = 0, end: int | None = None) -> int:
    """Where the header block of the message or part at `start` ends: the offset of its first body byte."""
    if end is None:
        end = len(data)
    if data[start : start + 1] == b"\n":
        return start + 1
    if data[start : start + 2] == b"\r\n":
        return start + 2
    lf = data.find(b"\n\n", start, end)
    crlf = data.find(b"\n\r\n", start, end if lf < 0 else lf)
    body = crlf + 3 if crlf >= 0 else lf + 2 if lf >= 0 else end
    # some programs leave the empty line out, or put a blank into it: the first delimiter ends the header all the same
    dashes = data.find(b"\n--", start, body)
    if dashes >= 0:
        line = data[dashes + 3 : body].partition(b"\n")[0].strip()
        named = _BOUNDARY.search(data, start, dashes)
        if line and named is not None and line in named.groups():
            return dashes + 1
    return body


class Address(NamedTuple):
    """A mailbox of RFC 5322 section 3.4: display name (decoded, may be empty) and address (may be empty)."""

    name: str
    address: str

    def __str__(self) -> str:
        if not self.name or self.name == self.address:
            return self.address or self.name
        return f"{self.name} <{self.address}>" if self.address else self.name


class Header:
    """The header of a message or part: a block of bytes, and what its fields say.

    Nothing is decoded before it is asked for; what was decoded is kept. All texts are free of line breaks.
    """

    # plain attributes in place of cached_property, whose lock is the dearest part of a listing
    __slots__ = ("_authors", "_charset", "_dated_", "_lower", "_received", "_sender", "_subject", "block")

    def __init__(self, block: bytes) -> None:
        self.block = block
        self._lower = b"\n" + block.lower()
        self._charset: tuple[str, bool] | None = None
        self._subject: str | None = None
        self._sender: Address | None = None
        self._authors: list[Address] | None = None
        self._received: tuple[datetime | None] | None = None
        self._dated_: tuple[datetime | None, Note | None] | None = None

    def replaced(self, fields: Mapping[bytes, bytes]) -> Header:
        """The same header with other values of some fields (names in lower case), which then stand once."""
        line = re.compile(rb"^(?:%b)[ \t]*:.*\n(?:[ \t].*\n)*" % b"|".join(fields), re.IGNORECASE | re.MULTILINE)
        block = self.block if self.block.endswith(b"\n") else self.block + b"\n"
        new = b"".join(b"%b: %b\n" % (name.title(), value) for name, value in fields.items())
        return Header(new + line.sub(b"", block))

    def listed(self) -> Header:
        """The same header with the fields of LISTED alone, for those who hold many: ten times smaller in practice."""
        small = Header(b"".join(_LISTED.findall(self.block if self.block.endswith(b"\n") else self.block + b"\n")))
        if not self.block.isascii():
            small._charset = self._likely_charset
        small._dated_ = self._dated
        if self._dated[0] is None:
            small._received = (self.received,)
        return small

    def has(self, name: bytes) -> bool:
        """Whether the letters of a field's name (lower case) stand anywhere in the block: a quick first look."""
        return name in self._lower

    def raw(self, name: bytes) -> bytes | None:
        """The first field `name` (lower case), unparsed, without its line end; None where there is none."""
        at = self._lower.find(b"\n" + name + b":")
        if at < 0:
            return self._spaced(name)
        return self._value(at + len(name) + 1)

    def _value(self, at: int) -> bytes:
        block, end = self.block, self.block.find(b"\n", at)
        while end >= 0 and block[end + 1 : end + 2] in (b" ", b"\t"):
            end = block.find(b"\n", end + 1)
        return block[at : end if end >= 0 else len(block)].strip()

    def _spaced(self, name: bytes) -> bytes | None:
        # "Subject : x" is obsolete syntax (RFC 5322 section 4.5.8), and rare
        if b" :" not in self.block:
            return None
        match = re.search(rb"\n" + re.escape(name) + rb"[ \t]+:", self._lower)
        return self._value(match.end() - 1) if match else None

    def all_raw(self, name: bytes) -> list[bytes]:
        """All fields `name` (lower case) in their order, unparsed."""
        values, at = [], self._lower.find(b"\n" + name + b":")
        while at >= 0:
            values.append(self._value(at + len(name) + 1))
            at = self._lower.find(b"\n" + name + b":", at + 1)
        return values

    def text(self, name: bytes) -> str:
        """The first field `name` as one line of decoded text; empty where there is none."""
        value = self.raw(name)
        return self.decoded(value) if value else ""

    def decoded(self, raw: bytes) -> str:
        """A field's value as one line of text, as `decode_words`; bytes that are no UTF-8 in the header's `charset`."""
        return decode_words(raw) if raw.isascii() else decode_words(raw, self.charset)

    def addresses(self, name: bytes) -> list[Address]:
        """The mailboxes of all fields `name`; groups are opened."""
        values = self.all_raw(name)[:_MOST_FIELDS]
        return [
            address for value in values for address in parse_addresses(value, "" if value.isascii() else self.charset)
        ]

    @property
    def charset(self) -> str:
        """The character set of bytes beyond ASCII (against RFC 5322, but common) that are no UTF-8: the one that
        Content-Type or an encoded word names, else the likeliest for all words of the header together."""
        return self._likely_charset[0]

    def notes(self) -> list[Note]:
        """That its words were guessed, where nothing says what they are in."""
        charset, named = ("", True) if self.block.isascii() else self._likely_charset
        return [] if named else [Note("charset-guessed", f"header, read as {charset}")]

    @property
    def _likely_charset(self) -> tuple[str, bool]:
        """The character set, and whether the header names it or needs none."""
        if self._charset is None:
            self._charset = self._find_charset()
        return self._charset

    def _find_charset(self) -> tuple[str, bool]:
        words = b"\n".join(value for name in _OF_WORDS for value in self.all_raw(name)[:_MOST_FIELDS])
        for match in _NAMED_SET.finditer((self.raw(b"content-type") or b"") + b"\n" + words[:_MOST_WORDS_READ]):
            label = (match[1] or match[2]).decode("latin-1")
            if codec_for(label) not in (None, "ascii", "utf-8"):
                return label, True
        guess = likely(_IN_BRACKETS.sub(b"", words[:_MOST_WORDS_READ]))
        return guess, not guess

    @property
    def subject(self) -> str:
        if self._subject is None:
            self._subject = self.text(b"subject")
        return self._subject

    @property
    def sender(self) -> Address:
        """The first author: From, else Sender, else an empty address."""
        if self._sender is None:
            senders = self.authors or self.addresses(b"sender")
            self._sender = senders[0] if senders else Address("", "")
        return self._sender

    @property
    def authors(self) -> list[Address]:
        """The mailboxes of From."""
        if self._authors is None:
            self._authors = self.addresses(b"from")
        return self._authors

    @property
    def _dated(self) -> tuple[datetime | None, Note | None]:
        if self._dated_ is None:
            self._dated_ = self._read_date()
        return self._dated_

    def _read_date(self) -> tuple[datetime | None, Note | None]:
        raw = self.raw(b"date")
        if not raw:
            return None, Note("date-missing")
        moment = parse_date(raw.decode("latin-1"))
        if moment is None:
            return None, Note("date-unreadable", self.decoded(raw)[:80])
        at = self._lower.find(b"\nreceived:")
        # it arrived in that year, or was never received: no need to read the field closely
        near = at < 0 or self._lower.find(b" %d " % moment.year, at, at + 600) >= 0
        if not plausible(moment, None if near else self.received):
            return None, Note("date-absurd", self.decoded(raw)[:80])
        return moment, None

    @property
    def received(self) -> datetime | None:
        """The date of the newest (topmost readable) Received field."""
        if self._received is None:
            self._received = (self._read_received(),)
        return self._received[0]

    def _read_received(self) -> datetime | None:
        for value in self.all_raw(b"received")[:8]:
            moment = parse_date(value.decode("latin-1").rpartition(";")[2])
            if moment is not None and plausible(moment, None):
                return moment
        return None

    def date(self, arrival: datetime | None = None) -> tuple[datetime | None, list[Note]]:
        """The message's date, with the offset it was written in, and notes where it is not the Date field's.

        Falls back to the newest Received field, then to `arrival` (the mbox separator or the file's time).
        """
        own, note = self._dated
        if own is not None:
            return own, []
        notes = [note] if note else []
        if self.received is not None:
            return self.received, [*notes, Note("date-from-received")]
        if arrival is not None:
            return arrival, [*notes, Note("date-from-mailbox")]
        return None, notes

    def repeated(self, *names: bytes) -> list[str]:
        """Which of these fields, allowed once (RFC 5322 section 3.6), stand more than once and differ."""
        return [name.decode("ascii").title() for name in names if len(set(self.all_raw(name))) > 1]

    def strays(self) -> bytes:
        """Lines of the block that are neither field nor separator, and so belong to nothing."""
        if not _NO_FIELD.search(self.block):  # nearly always, and told in a fraction of the time
            return b""
        lines = [line for line in re.split(rb"\r?\n(?![ \t])", self.block) if line.strip()]
        return b"\n".join(line for line in lines if not _FIELD_LINE.match(line))

    def fields(self) -> list[tuple[str, bytes]]:
        """All fields in their order: name as written, value unparsed. Lines that are no field are left out."""
        fields: list[tuple[str, bytes]] = []
        for line in re.split(rb"\r?\n(?![ \t])", self.block):
            name, colon, value = line.partition(b":")
            if colon and name.strip() and re.fullmatch(rb"[!-9;-~]+[ \t]*", name):
                fields.append((name.strip().decode("ascii"), value.strip()))
        return fields


_SIMPLE = re.compile(rb'(?:"([^"\\]*)"|([^"<>@,;:()\\\[\]]*?))[ \t\r\n]*<([!-=?A-~]+@[!-=?A-~]+)>')
_BARE = re.compile(rb"[!#-'*+\-./0-9=?A-Z^-~]+@[A-Za-z0-9.\-]+")


def parse_addresses(raw: bytes, hint: str = "") -> list[Address]:
    """The mailboxes of an address field (RFC 5322 section 3.4, with the obsolete and wrong forms of practice).

    `hint` is as in `decode_words`.
    """
    if len(raw) > _MOST_ADDRESSES:  # nobody reads so many; the message itself has them all
        raw = raw[: raw.rfind(b",", 0, _MOST_ADDRESSES)] if b"," in raw[:_MOST_ADDRESSES] else raw[:_MOST_ADDRESSES]
    match = _SIMPLE.fullmatch(raw) if len(raw) < 1000 else None
    if match:
        name = match[1] if match[1] is not None else match[2]
        return [Address(decode_words(name, hint) if name else "", match[3].decode("ascii"))]
    if len(raw) < 1000 and _BARE.fullmatch(raw):
        return [Address("", raw.decode("ascii"))]
    text = raw.decode("utf-8") if _is_utf8(raw) else decode(raw, "", hint)[0]
    return [mailbox for mailbox in map(_mailbox, _split_list(_FOLD.sub(" ", text))) if mailbox is not None]


def _is_utf8(raw: bytes) -> bool:
    try:
        raw.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True


def _split_list(text: str) -> list[list[tuple[str, str]]]:
    """Address list to items; an item is a list of (kind, text), kind one of: word, quoted, comment, angle."""
    items: list[list[tuple[str, str]]] = [[]]
    at, end = 0, len(text)
    while at < end:
        char = text[at]
        if char == '"':
            at, piece = _quoted(text, at)
            items[-1].append(("quoted", piece))
        elif char == "(":
            at, piece = _comment(text, at)
            items[-1].append(("comment", piece))
        elif char == "<":
            stop = text.find(">", at)
            stop = stop if stop >= 0 else end
            items[-1].append(("angle", text[at + 1 : stop].strip()))
            at = stop + 1
        elif char in ",;":
            items.append([])
            at += 1
        elif char == ":" and not any(kind == "angle" for kind, _ in items[-1]):
            items[-1] = []  # what stood before was a group's name
            at += 1
        else:
            stop = at + 1
            while stop < end and text[stop] not in '"(<,;:':
                literal = text.find("]", stop) if text.startswith("@[", stop) else -1
                stop = max(stop, literal) + 1
            items[-1].append(("word", text[at:stop]))
            at = stop
    return items


def _quoted(text: str, at: int) -> tuple[int, str]:
    out, at = [], at + 1
    while at < len(text) and text[at] != '"':
        if text[at] == "\\" and at + 1 < len(text):
            at += 1
        out.append(text[at])
        at += 1
    return at + 1, "".join(out)


def _comment(text: str, at: int) -> tuple[int, str]:
    depth, start = 0, at + 1
    while at < len(text):
        if text[at] == "\\":
            at += 1
        elif text[at] == "(":
            depth += 1
        elif text[at] == ")":
            depth -= 1
            if depth == 0:
                return at + 1, text[start:at]
        at += 1
    return at, text[start:]


def _mailbox(item: list[tuple[str, str]]) -> Address | None:
    angles = [text for kind, text in item if kind == "angle"]
    words = " ".join(text.strip() for kind, text in item if kind in ("word", "quoted") and text.strip())
    comments = " ".join(text for kind, text in item if kind == "comment")
    if angles:
        name, address = (
            words or comments,
            angles[-1].rpartition(":")[2] if angles[-1].startswith("@") else angles[-1],
        )
    elif "@" in words:
        match = re.search(r"\S+@\S+", words)
        address = match[0].strip("'\"") if match else words
        name = comments
    else:
        name, address = words or comments, ""
    name = _decode_name(name)
    address = " ".join(address.split())
    return Address(name, address) if name or address else None


def _decode_name(name: str) -> str:
    if "=?" in name:
        name = decode_encoded(name)
    return " ".join(name.split())
