"""Mails with files in them (RFC 5322, RFC 2046), split to what a server takes, their files byte for byte."""

from __future__ import annotations

import hashlib
import json
import mimetypes
import re
from base64 import encodebytes
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from email.header import Header as HeaderText
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime, formataddr
from pathlib import Path

from wexagraph.errors import CallError
from wexagraph.messages.headers import Address, parse_addresses
from wexagraph.selection.value_lists import values_of
from wexagraph.sources.accounts import steers_no_line
from wexagraph.text import one_line

MESSAGE, BYTES = "message/rfc822", "application/octet-stream"
_TYPES = mimetypes.MimeTypes()  # the same on every machine
_HEAD = 4096
"""Bytes that the header of a mail or of a part may take."""
_LONGEST_LINE = 998  # RFC 5322, section 2.1.1
_ADDRESS = re.compile(r"[^\s<>,;\"()\\]+@[^\s<>,;\"()\\]+")


@dataclass(frozen=True)
class Enclosed:
    """A file that is sent: its name there, where it lies, its size in bytes, its SHA-256, and its media type."""

    name: str
    path: Path
    size: int
    sha256: str
    type: str


@dataclass(frozen=True)
class Letter:
    """What a mail says, and to whom."""

    sender: Address
    to: tuple[Address, ...]
    copy: tuple[Address, ...]
    blind: tuple[Address, ...]
    subject: str
    text: str

    @property
    def recipients(self) -> tuple[str, ...]:
        """The addresses of all who get it, each once."""
        return tuple(dict.fromkeys(one.address for one in (*self.to, *self.copy, *self.blind)))


def addresses(given: Iterable[str], option: str) -> tuple[Address, ...]:
    """The addresses that an option names: addresses with names or without, or `@FILE`, a list of them. Raises
    CallError."""
    found: list[Address] = []
    for text in given:
        for line in values_of(text, option) if text.startswith("@") else [text]:
            if line.strip():
                if not steers_no_line(line):
                    raise CallError(f"{option}: {one_line(line)!r} is no address. It holds a control character.")
                for one in parse_addresses(line.encode("utf-8", "surrogateescape")) or [Address(line, "")]:
                    if not _ADDRESS.fullmatch(one.address):
                        raise CallError(f"{option}: {one_line(str(one))!r} is no address. Write name@host.example.")
                    found.append(one)
    return tuple({one.address.lower(): one for one in found}.values())


def enclosed(name: str, path: Path, eight_bit: bool) -> Enclosed:
    """A file as it goes with a mail. A message goes as one (message/rfc822) only where it arrives as it was: with lines
    of CRLF that are not too long, in 7 bits or where the server takes 8 (`eight_bit`)."""
    digest = hashlib.sha256()
    clean = name.lower().endswith(".eml")
    with path.open("rb") as file:
        size, last = 0, b""
        while chunk := file.read(1 << 20):
            digest.update(chunk)
            size += len(chunk)
            clean = clean and _travels(last + chunk, eight_bit)
            last = chunk[-_LONGEST_LINE - 2 :] if clean else b""
    if name.lower().endswith(".eml"):
        kind = MESSAGE if clean and last.endswith(b"\r\n") else BYTES
    else:
        kind = _TYPES.guess_type(name)[0] or BYTES
    return Enclosed(name, path, size, digest.hexdigest(), kind)


def _travels(data: bytes, eight_bit: bool) -> bool:
    if b"\0" in data or (not eight_bit and not data.isascii()):
        return False
    bare = data.replace(b"\r\n", b"")
    whole = b"\n" not in bare and b"\r" not in bare.removesuffix(b"\r")
    return whole and all(len(line) <= _LONGEST_LINE for line in data.split(b"\r\n"))


def size_of(letter: Letter, files: Sequence[Enclosed]) -> int:
    """At most how many bytes a mail with these files takes."""
    parts = (file.size if file.type == MESSAGE else (file.size + 56) // 57 * 78 for file in files)
    return _HEAD + 3 * len(letter.text.encode("utf-8", "replace")) + sum(parts) + _HEAD * len(files)


def split(letter: Letter, files: Sequence[Enclosed], most: int) -> list[list[Enclosed]]:
    """The files of each mail, in their order, so that none takes more than `most` bytes. Raises CallError where one
    file alone does."""
    mails: list[list[Enclosed]] = [[]]
    for file in files:
        if size_of(letter, [file]) > most:
            raise CallError(
                f"{one_line(file.name)} is too large to be sent: the server takes mails of {most // 1_000_000} MB. "
                "Choose --as zip for less, or hand it over in another way."
            )
        if mails[-1] and size_of(letter, [*mails[-1], file]) > most:
            mails.append([])
        mails[-1].append(file)
    return mails


def identity(letter: Letter, content: Sequence[str], number: int) -> str:
    """The Message-ID of a mail: the same for the same `content` (digests, and how it was made) to the same people."""
    said = [sorted(letter.recipients), letter.subject, letter.text, *content, number]
    digest = hashlib.sha256(json.dumps(said).encode("utf-8", "surrogateescape")).hexdigest()
    domain = letter.sender.address.rpartition("@")[2]
    return f"<{digest[:40]}@{domain.encode('idna').decode('ascii') if not domain.isascii() else domain}>"


def built(letter: Letter, files: Sequence[Enclosed], id: str, of: tuple[int, int], moment: datetime) -> bytes:
    """A mail as bytes; `of` says which it is of how many. Raises OSError."""
    number, count = of
    subject = f"{letter.subject} ({number} of {count})" if count > 1 else letter.subject
    lines = [
        f"From: {_written([letter.sender])}",
        f"To: {_written(letter.to) or 'undisclosed-recipients:;'}",
        *([f"Cc: {_written(letter.copy)}"] if letter.copy else []),
        f"Subject: {_encoded(subject)}",
        f"Date: {format_datetime(moment)}",
        f"Message-ID: {id}",
        "MIME-Version: 1.0",
    ]
    text = EmailMessage(policy=SMTP)
    text.set_content(letter.text or "\n", cte="quoted-printable")
    del text["MIME-Version"]
    boundary = f"=_wexagraph_{hashlib.sha256((id + str(number)).encode()).hexdigest()[:32]}"
    lines.append(f'Content-Type: multipart/mixed;\r\n boundary="{boundary}"')
    mark = f"--{boundary}".encode()
    out = ["\r\n".join(lines).encode("utf-8", "surrogateescape"), b"", mark, text.as_bytes().rstrip(b"\r\n")]
    for file in files:
        out += [mark, _part(file)]
    return b"\r\n".join([*out, mark + b"--", b""])


def _encoded(text: str) -> str:
    """A line of text as a header field has it (RFC 2047)."""
    return HeaderText(one_line(text), "us-ascii" if text.isascii() else "utf-8").encode(linesep="\r\n")


def _written(people: Sequence[Address]) -> str:
    return ",\r\n ".join(
        formataddr((one.name, one.address))
        if one.address.isascii()
        else f"{_encoded(one.name)} <{one.address}>".lstrip()
        for one in people
    )


def _part(file: Enclosed) -> bytes:
    """A file as a part of a mail."""
    data = file.path.read_bytes()
    whole = file.type == MESSAGE
    holder = EmailMessage(policy=SMTP)
    holder.add_header("Content-Disposition", "attachment", filename=file.name)
    disposition = holder.as_bytes().strip()
    coding = ("8bit" if not data.isascii() else "7bit") if whole else "base64"
    head = f"Content-Type: {file.type}\r\nContent-Transfer-Encoding: {coding}\r\n".encode() + disposition
    body = data if whole else encodebytes(data).replace(b"\n", b"\r\n").removesuffix(b"\r\n")
    return head + b"\r\n\r\n" + body
