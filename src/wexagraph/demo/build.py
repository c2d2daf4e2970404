"""Messages built byte by byte, so that they can be as whole or as broken as the demo wants them."""

from __future__ import annotations

import base64
import hashlib
import quopri
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta, timezone
from email.header import Header as EncodedHeader
from email.utils import format_datetime


@dataclass(frozen=True)
class Piece:
    """A MIME part: its header lines and its encoded body."""

    header: bytes
    body: bytes

    def __bytes__(self) -> bytes:
        return self.header + b"\n" + self.body


def text(body: str, charset: str = "utf-8", flowed: bool = False, kind: str = "plain") -> Piece:
    """A text part, quoted-printable where it needs to be."""
    data = body.encode(charset)
    form = "; format=flowed" if flowed else ""
    plain = all(byte < 128 for byte in data) and all(len(line) < 990 for line in data.split(b"\n"))
    encoding = "7bit" if plain else "quoted-printable"
    header = f"Content-Type: text/{kind}; charset={charset}{form}\nContent-Transfer-Encoding: {encoding}\n"
    return Piece(header.encode(), data if plain else quopri.encodestring(data))


def html(body: str, charset: str = "utf-8") -> Piece:
    return text(body, charset, kind="html")


def file(name: str, kind: str, content: bytes, *, cid: str = "", disposition: str = "attachment") -> Piece:
    """A part with a file in it, base64."""
    shown = name if name.isascii() else EncodedHeader(name, "utf-8", maxlinelen=200).encode()
    lines = [f'Content-Type: {kind}; name="{shown}"', "Content-Transfer-Encoding: base64"]
    lines.append(f'Content-Disposition: {"inline" if cid else disposition}; filename="{shown}"')
    if cid:
        lines.append(f"Content-ID: <{cid}>")
    return Piece("\n".join(lines).encode() + b"\n", base64.encodebytes(content))


def multipart(kind: str, *parts: Piece | bytes, closed: bool = True) -> Piece:
    """A multipart of the given subtype; its boundary follows from what is in it."""
    inner = [bytes(part) for part in parts]
    boundary = "saltmere-" + hashlib.sha256(kind.encode() + b"".join(inner)).hexdigest()[:16]
    lines = [b"--" + boundary.encode() + b"\n" + part.rstrip(b"\n") + b"\n" for part in inner]
    end = f"--{boundary}--\n".encode() if closed else b""
    return Piece(f'Content-Type: multipart/{kind}; boundary="{boundary}"\n'.encode(), b"\n".join(lines) + end)


def forwarded(message: bytes) -> Piece:
    return Piece(b"Content-Type: message/rfc822\nContent-Disposition: inline\n", message)


def when(day: str, hour: int = 9, minute: int = 0, offset: int = 0) -> datetime:
    """A moment of 2025 or 2026: "2026-03-14", with an offset in hours."""
    return datetime.fromisoformat(day).replace(hour=hour, minute=minute, tzinfo=timezone(timedelta(hours=offset)))


def message(
    sender: str,
    to: str,
    subject: str,
    moment: datetime | None,
    body: Piece,
    *,
    cc: str = "",
    reference: Sequence[str] = (),
    extra: str = "",
) -> bytes:
    """A whole message, LF line ends. Its Message-ID follows from subject and date."""
    lines = [f"From: {_address(sender)}", f"To: {_address(to)}"]
    if cc:
        lines.append(f"Cc: {_address(cc)}")
    lines.append(f"Subject: {_encoded(subject)}")
    if moment is not None:
        lines.append(f"Date: {format_datetime(moment)}")
    lines.append(f"Message-ID: {identifier(subject, moment)}")
    if reference:
        lines += [f"In-Reply-To: {reference[-1]}", f"References: {' '.join(reference)}"]
    if extra:
        lines.append(extra)
    lines.append("MIME-Version: 1.0")
    data = "\n".join(lines).encode("utf-8") + b"\n" + bytes(body)
    return data if data.endswith(b"\n") else data + b"\n"


def identifier(subject: str, moment: datetime | None) -> str:
    digest = hashlib.sha256(f"{subject}{moment}".encode()).hexdigest()[:12]
    return f"<{digest}@mail.saltmere.example>"


def _encoded(value: str) -> str:
    return value if value.isascii() else EncodedHeader(value, "utf-8", maxlinelen=70).encode()


def _address(value: str) -> str:
    name, bracket, address = value.partition("<")
    return f"{_encoded(name.strip())} <{address}" if bracket and not name.isascii() else value
