"""Kinds of messages that are no letters from one person to another, told by fields of the header and types of parts
(docs/choose.md has the table)."""

from __future__ import annotations

from collections.abc import Callable

from wexagraph.messages.headers import Header
from wexagraph.messages.mapi.mail import MADE_FROM
from wexagraph.messages.message import Message
from wexagraph.messages.mime import parse_parameters

Read = Callable[[], Message]
"""Gives the message itself, where its header does not tell. Raises MessageError."""


def _newsletter(header: Header, read: Read) -> bool:
    listed = header.raw(b"list-id") is not None or header.raw(b"list-unsubscribe") is not None
    return listed or _precedence(header) in ("list", "bulk")


def _automatic(header: Header, read: Read) -> bool:
    """RFC 3834; and what came before it."""
    submitted = header.text(b"auto-submitted").partition(";")[0].strip().lower()
    return submitted not in ("", "no") or _precedence(header) in ("auto_reply", "junk") or _is_report(header)


def _precedence(header: Header) -> str:
    return header.text(b"precedence").strip().lower()


def _is_report(header: Header, *kinds: str) -> bool:
    """Whether it is a report (RFC 6522), of one of these types."""
    type, parameters = parse_parameters(header.raw(b"content-type") or b"")
    return type == "multipart/report" and (not kinds or parameters.get("report-type", "").lower() in kinds)


def _bounce(header: Header, read: Read) -> bool:
    """RFC 3464."""
    return _is_report(header, "delivery-status") or header.raw(b"x-failed-recipients") is not None


def _receipt(header: Header, read: Read) -> bool:
    """RFC 8098."""
    return _is_report(header, "disposition-notification")


def _calendar(header: Header, read: Read) -> bool:
    """RFC 6047."""
    parts = read().root.walk()
    return any(part.type == "text/calendar" or part.filename.lower().endswith(".ics") for part in parts)


def _noted(code: str) -> Callable[[Header, Read], bool]:
    """As a page says it of the message: RFC 8551, RFC 3156."""

    def is_it(header: Header, read: Read) -> bool:
        message = read()
        if not any(word in message.data.lower() for word in (b"pkcs7", b"smime", b"multipart/signed", b"encrypted")):
            return False
        return any(note.code == code for note in message.notes())

    return is_it


KINDS: dict[str, Callable[[Header, Read], bool]] = {
    "newsletter": _newsletter,
    "calendar": _calendar,
    "receipt": _receipt,
    "bounce": _bounce,
    "signed": _noted("signed"),
    "encrypted": _noted("encrypted"),
    "automatic": _automatic,
}
"""The kinds by their names, each a test of a whole header, and of the message where that does not tell."""


LETTER = "letter"


def kind_of(message: Message) -> str:
    """The first kind that a message is of; `letter` where it is of none."""
    kinds = (name for name, is_it in KINDS.items() if is_it(message.header, lambda: message))
    return next(kinds, LETTER)


def is_letter(header: Header, read: Read) -> bool:
    """Whether it is mail: not an appointment, a contact, a task or a note of a personal folder file."""
    if header.raw(MADE_FROM) is None:
        return True
    parts = list(read().root.walk())
    if any(part.type == "text/vcard" and not part.filename for part in parts):
        return False
    if any(part.type == "text/calendar" and "method" not in part.parameters for part in parts):
        return False
    return bool(header.sender.address or header.sender.name or header.addresses(b"to") or header.addresses(b"cc"))
