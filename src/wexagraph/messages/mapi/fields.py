"""The header of a message that is kept as properties: the one that it came with, or one made of them (RFC 5322)."""

from __future__ import annotations

import re
from base64 import b64encode
from collections.abc import Iterable
from datetime import datetime
from email.utils import format_datetime

from wexagraph.messages.headers import Address
from wexagraph.messages.mapi.item import Item
from wexagraph.messages.mapi.properties import PUBLIC_STRINGS, Name, Properties
from wexagraph.text import one_line

TRANSPORT_HEADER = 0x007D
_STRUCTURE = re.compile(
    r"mime-version|content-(?:type|transfer-encoding|disposition|id|description|location)|wexagraph-.*", re.IGNORECASE
)
_FIELD = re.compile(r"([!-9;-~]+)[ \t]*:")
_ATOM = re.compile(r"[A-Za-z0-9!#$%&'*+/=?^_`{|}~ -]+")
_ADDRESS = re.compile(r'[^\s<>"(),:;\\@\[\]\x00-\x20\x7f]{1,256}@[^\s<>"(),:;\\@\x00-\x20\x7f]{1,256}')
_SEND_AND_SMTP = ((0x0042, 0x0064, 0x0065, 0x5D02), (0x0C1A, 0x0C1E, 0x0C1F, 0x5D01))
"""Of whom a message is, and who sent it: name, kind of address, address, SMTP address."""
_ROLES = {1: "To", 2: "Cc", 3: "Bcc"}
_IMPORTANCE, _SENSITIVITY = {0: "low", 2: "high"}, {1: "Personal", 2: "Private", 3: "Company-Confidential"}
CATEGORIES = Name(PUBLIC_STRINGS, "Keywords")
_REPLIED, _FORWARDED = (102, 103), 104  # the last verb of [MS-OXOMSG] section 2.2.2.3
LISTED = frozenset(
    {0x001A, 0x0017, 0x0036, 0x0037, 0x0039, 0x003D, 0x007D, 0x0E06, 0x0E07, 0x0E1D, 0x1035, 0x1039, 0x1042, 0x1081}
    | {0x1090, 0x3007, 0x3008, 0x3FDE, 0x3FFD}
    | {number for numbers in _SEND_AND_SMTP for number in numbers}
)
"""The properties of which a header is made, but for recipients and categories."""
FLAGS = frozenset({0x0E06, 0x0E07, 0x1081, 0x1090})
"""Those that tell flags and when it was delivered, but for categories."""


def header_block(item: Item) -> bytes:
    """The fields of a message but those of its structure, with CRLF, in UTF-8 where the kept header holds such."""
    kept = kept_fields(item.properties)
    there = {name.lower() for name, _ in kept}
    lines = [line for _, line in kept]
    lines += [f"{name}: {value}" for name, value in _made(item, there) if value]
    return "".join(f"{line}\r\n" for line in lines).encode("utf-8", "replace")


def kept_fields(properties: Properties) -> list[tuple[str, str]]:
    """The fields of the header that a message was sent with, name and whole field, but those of its structure."""
    text = properties.text(TRANSPORT_HEADER)
    fields: list[tuple[str, str]] = []
    for line in text.replace("\r\n", "\n").replace("\r", "\n").split("\n"):
        if not line.strip():
            if fields:
                break  # what stands behind the header is of its parts
        elif line[0] in " \t":
            if fields:
                fields[-1] = (fields[-1][0], f"{fields[-1][1]}\r\n{line.rstrip()}")
        elif match := _FIELD.match(line):
            fields.append((match[1], line.rstrip()))
    return [field for field in fields if not _STRUCTURE.fullmatch(field[0])]


def _made(item: Item, there: set[str]) -> Iterable[tuple[str, str]]:
    """The fields that properties tell and that are not there."""
    properties = item.properties
    if "date" not in there:
        moment = moment_of(properties)
        yield "Date", format_datetime(moment.replace(microsecond=0)) if moment else ""
    if "from" not in there:
        author, sender = _authors(properties)
        yield "From", _people([author])
        if sender.address and sender.address != author.address:
            yield "Sender", _people([sender])
    if not {"to", "cc"} & there or "bcc" not in there:
        people: dict[str, list[Address]] = {role: [] for role in _ROLES.values()}
        for recipient in item.people:
            role = _ROLES.get(recipient.number(0x0C15) & 0xF)
            if role:
                people[role].append(recipient_of(recipient))
        for role, its in people.items():
            if role.lower() not in there and (role == "Bcc" or not {"to", "cc"} & there):
                yield role, _people(its)
    if "subject" not in there:
        yield "Subject", folded("Subject", subject_of(properties))
    for name, number in (("Message-ID", 0x1035), ("In-Reply-To", 0x1042), ("References", 0x1039)):
        if name.lower() not in there:
            yield name, _ids(properties.text(number))
    if not {"importance", "x-priority"} & there:
        yield "Importance", _IMPORTANCE.get(properties.number(0x0017, 1), "")
    if "sensitivity" not in there:
        yield "Sensitivity", _SENSITIVITY.get(properties.number(0x0036), "")
    if "keywords" not in there:
        yield "Keywords", ", ".join(_phrase(word) for word in categories(properties))


def moment_of(properties: Properties) -> datetime | None:
    """When a message was sent, else delivered, else last changed or made."""
    return properties.moment(0x0039, 0x0E06, 0x3008, 0x3007)


def subject_of(properties: Properties) -> str:
    """The subject; two characters before it may say how long its prefix is ([MS-PST] section 2.5.3.1.1.1)."""
    subject = properties.text(0x0037) or properties.text(0x003D) + properties.text(0x0E1D)
    return one_line(subject[2:] if subject.startswith("\x01") else subject).strip()


def categories(properties: Properties) -> list[str]:
    """The categories that people gave the message."""
    return [word for text in properties.texts(CATEGORIES)[:100] if (word := one_line(text).strip())]


def flags_of(properties: Properties) -> frozenset[str]:
    """IMAP flags and keywords of a message, as an envelope has them."""
    state, flags = properties.number(0x0E07), set()
    if state & 1:
        flags.add("seen")
    if state & 8:
        flags.add("draft")
    if properties.number(0x1090) == 2:
        flags.add("flagged")
    verb = properties.number(0x1081)
    flags |= {"answered"} if verb in _REPLIED else {"$forwarded"} if verb == _FORWARDED else set()
    return frozenset(flags | {word.lower() for word in categories(properties)})


def _authors(properties: Properties) -> tuple[Address, Address]:
    """Of whom a message is, and who sent it."""
    author, sender = (_sender(properties, *numbers) for numbers in _SEND_AND_SMTP)
    return author if author != Address("", "") else sender, sender


def _sender(properties: Properties, name: int, kind: int, address: int, smtp: int) -> Address:
    return _person(properties.text(name), properties.text(kind), properties.text(address), properties.text(smtp))


def recipient_of(properties: Properties) -> Address:
    """A recipient: name and address; the address is empty where only a directory's name for it is kept."""
    smtp, name = properties.text(0x39FE), properties.text(0x3001, 0x5FF6)
    return _person(name, properties.text(0x3002), properties.text(0x3003), smtp)


def _person(name: str, kind: str, address: str, smtp: str) -> Address:
    candidates = [smtp, address if kind.upper() != "EX" else "", name]
    known = next((one.strip() for one in candidates if _ADDRESS.fullmatch(one.strip())), "")
    return Address(one_line(name).strip().strip("'") if name.strip("' ") != known else "", known)


def unkept(item: Item) -> int:
    """How many people of a message no address is kept of, by its properties."""
    people = [recipient_of(recipient) for recipient in item.people]
    people.append(_authors(item.properties)[0])
    return sum(1 for person in people if person.name and not person.address)


def _people(people: list[Address]) -> str:
    texts = []
    for person in people:
        if person.name:
            texts.append(f"{_phrase(person.name)} <{person.address}>")
        elif person.address:
            texts.append(person.address)
    return ",\r\n ".join(texts)


def _phrase(text: str) -> str:
    """A name as RFC 5322 writes it: as it is, in quotes, or in encoded words."""
    if not text.isascii():
        return encoded(text)
    if _ATOM.fullmatch(text):
        return text
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _ids(text: str) -> str:
    return "\r\n ".join(word for word in one_line(text).split() if word.isascii() and len(word) < 900)


def folded(name: str, text: str) -> str:
    """A text for a field: in encoded words where it is not ASCII, folded where it is long."""
    if not text.isascii():
        return encoded(text)
    lines, line = [], ""
    for word in text.split(" "):
        if line and len(name) + len(line) + len(word) > 74:
            lines.append(line)
            line, name = word, ""
        else:
            line = f"{line} {word}" if line else word
    return "\r\n ".join([*lines, line])


def encoded(text: str) -> str:
    """A text in encoded words (RFC 2047), whole characters in each."""
    words, piece = [], ""
    for character in text:
        if len((piece + character).encode("utf-8", "replace")) > 42:
            words.append(piece)
            piece = ""
        piece += character
    words.append(piece)
    return "\r\n ".join(f"=?utf-8?B?{b64encode(word.encode('utf-8', 'replace')).decode()}?=" for word in words)
