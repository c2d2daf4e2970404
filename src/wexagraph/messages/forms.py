"""Forms of files that hold one message and are no RFC 5322: made into it. A new form is an entry here."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import BinaryIO

from wexagraph.errors import MessageError
from wexagraph.messages.mapi import compound
from wexagraph.messages.mapi.fields import flags_of, header_block
from wexagraph.messages.mapi.mail import mail_of
from wexagraph.messages.mapi.msg import is_message, read_item


@dataclass(frozen=True)
class Form:
    """A form of a message in a file of its own.

    `suffix` has its point; `type` is its media type. Files begin with `magic`, and `holds` looks whether one is of the
    form. `header` gives the header, without that of its structure, and the flags of an open file; `mail` makes the
    bytes of the message (RFC 5322) from those of the file. All raise MessageError.
    """

    name: str
    suffix: str
    type: str
    magic: bytes
    holds: Callable[[BinaryIO], bool]
    header: Callable[[BinaryIO], tuple[bytes, frozenset[str]]]
    mail: Callable[[bytes], bytes]


def _compound(file: BinaryIO) -> compound.CompoundFile:
    size = file.seek(0, 2)

    def read(offset: int, count: int) -> bytes:
        file.seek(offset)
        return file.read(count)

    if size <= _AT_ONCE:
        return compound.in_memory(read(0, size))
    return compound.CompoundFile(read, size)


_AT_ONCE = 256 * 1024  # a smaller file is read as a whole


def _msg_holds(file: BinaryIO) -> bool:
    try:
        return is_message(_compound(file))
    except MessageError:
        return False


def _msg_header(file: BinaryIO) -> tuple[bytes, frozenset[str]]:
    item = read_item(_compound(file), listed=True)
    return header_block(item), flags_of(item.properties)


def _msg_mail(data: bytes) -> bytes:
    file = compound.in_memory(data)
    if not is_message(file):
        raise MessageError("it is a compound file, and holds no message")
    return mail_of(read_item(file), data)


FORMS = (Form("MSG", ".msg", "application/vnd.ms-outlook", compound.MAGIC, _msg_holds, _msg_header, _msg_mail),)


def form_of(head: bytes) -> Form | None:
    """The form of a file that begins with these bytes, as far as they tell it."""
    return next((form for form in FORMS if head.startswith(form.magic)), None)
