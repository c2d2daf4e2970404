"""What sending domains put on a message (DKIM, RFC 6376): whether it fits still. It is a domain's word, no person's."""

from __future__ import annotations

import base64
import binascii
import hashlib
import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from typing import Any

from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ed25519, padding, rsa
from cryptography.hazmat.primitives.serialization import load_der_public_key

from wexagraph.notes import Note
from wexagraph.protection.certificates import BROKEN
from wexagraph.protection.der import SEQUENCE, der
from wexagraph.text import one_line

Record = Callable[[str], str | None]
"""Gives the record with the key of a name in the DNS; "" where there is none, None where it is not known."""
_LINE_END = re.compile(rb"\r\n|\r|\n")
_FIELD = re.compile(rb"([!-9;-~]+)[ \t]*:(.*?)\r\n(?![ \t])", re.DOTALL)
_BLANKS = re.compile(rb"[ \t]+")
_FOLDS = re.compile(rb"\r\n(?=[ \t])")
_TAG = re.compile(rb"\s*([a-zA-Z]\w*)\s*=\s*([^;]*?)\s*(?:;|\Z)", re.DOTALL)
_VALUE = re.compile(rb"((?:\A|;)\s*b\s*=)[^;]*", re.DOTALL)
_HASHES: dict[str, hashes.HashAlgorithm] = {"sha256": hashes.SHA256(), "sha1": hashes.SHA1()}
_MOST_MARKS, _MOST_RELAYS, _LEAST_BITS = 8, 50, 2048
_RELAYED = (b"arc-authentication-results", b"arc-message-signature", b"arc-seal")
_INSTANCE = re.compile(rb"(?:\A|;)\s*i\s*=\s*(\d{1,2})\s*(?:;|\Z)")
_RSA = bytes.fromhex("300d06092a864886f70d0101010500")


@dataclass(frozen=True)
class Mark:
    """A mark on a message: of which domain, by which key (its name in the DNS), its `state`, whether the domain is that
    of the From address (`own`), since when by its own word, and what else is to be said."""

    domain: str
    key: str
    state: str
    own: bool
    said: datetime | None = None
    more: tuple[str, ...] = field(default_factory=tuple)

    def notes(self) -> list[Note]:
        """What a page says of it."""
        when = f", {self.said:%Y-%m-%d %H:%M} UTC" if self.said is not None else ""
        about = one_line(f"{self.domain}{when}; key {self.key}")[:200]
        others = [] if self.own else [Note("mark-other", self.domain[:100])]
        return [
            Note(f"mark-{self.state}", about),
            *others,
            *(Note(f"mark-{each}", self.domain[:100]) for each in self.more),
        ]

    def as_dict(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return asdict(self) | {"said": self.said.isoformat() if self.said is not None else None}


def marks_of(message: bytes, senders: list[str], record: Record) -> Iterator[Mark]:
    """The marks of a message from these addresses (in lower case), the first ones; `record` gives their keys."""
    fields, body = _parted(message)
    signatures = [value for name, value in fields if name.lower() == b"dkim-signature"]
    for value in signatures[:_MOST_MARKS]:
        tags = _tags(value)
        domain, selector = (_text(tags.get(name, b"")).lower() for name in ("d", "s"))
        if not domain or not selector:
            continue
        name = f"{selector}._domainkey.{domain}"
        own = any(_is_of(address.rpartition("@")[2], domain) for address in senders)
        said = _moment(tags.get("t"))
        state, more = _state(fields, body, value, tags, name, record)
        yield Mark(domain, name, state, own, said, tuple(more))


def names_of(message: bytes) -> list[str]:
    """The names of the keys that the marks of a message are by, and the seals of servers on its way."""
    asked: list[str] = []

    def note(name: str) -> None:
        asked.append(name)

    return [*(mark.key for mark in marks_of(message, [], note)), *(asked if relays_of(message, note) else ())]


@dataclass(frozen=True)
class Relay:
    """What the last server on the way that says so wrote of how a message came to it (ARC, RFC 8617), and whether its
    seal and those before it hold: holds, changed, wrong, or unchecked."""

    domain: str
    said: str
    state: str

    def notes(self) -> list[Note]:
        """What a page says of it."""
        return [Note(f"relay-{self.state}", one_line(f"{self.domain}: {self.said}")[:300])]


def relays_of(message: bytes, record: Record) -> list[Relay]:
    """What the last server on the way says, one at most."""
    fields, body = _parted(message)
    sets: dict[int, dict[bytes, tuple[bytes, bytes]]] = {}
    for name, value in fields:
        if name.lower() in _RELAYED and (number := _INSTANCE.search(value)) is not None:
            sets.setdefault(int(number[1]), {}).setdefault(name.lower(), (name, value))
    if not sets or sorted(sets) != list(range(1, len(sets) + 1)) or len(sets) > _MOST_RELAYS:
        return []
    if not all(len(each) == len(_RELAYED) for each in sets.values()):
        return []
    last = sets[len(sets)]
    seal, mark = (_tags(last[name][1]) for name in (b"arc-seal", b"arc-message-signature"))
    said = one_line(" ".join(_FOLDS.sub(b"", last[_RELAYED[0]][1]).decode("utf-8", "replace").split()))
    key = f"{_text(mark.get('s', b''))}._domainkey.{_text(mark.get('d', b''))}"
    whole = {"v": b"1"} | mark  # these have no version
    states = [_state(fields, body, last[b"arc-message-signature"][1], whole, key, record)[0]]
    states += [_seal_state(sets, one, record) for one in range(1, len(sets) + 1)]
    worst = next((state for state in ("changed", "wrong", "unchecked") if state in states), "holds")
    known = all(state in ("changed", "wrong", "unchecked", "holds") for state in states)
    return [Relay(_text(seal.get("d", b"")), said.partition(";")[2].strip(), worst if known else "unchecked")]


def _seal_state(sets: dict[int, dict[bytes, tuple[bytes, bytes]]], number: int, record: Record) -> str:
    """Whether the seal of a server holds over what the servers before it and it have written (section 5.1.1)."""
    name, value = sets[number][b"arc-seal"]
    tags = _tags(value)
    kind, _, digest = _text(tags.get("a", b"")).lower().partition("-")
    text = record(f"{_text(tags.get('s', b''))}._domainkey.{_text(tags.get('d', b''))}")
    if text is None:
        return "unchecked"
    stated = _tags(text.encode("utf-8", "replace"))
    lines = [_relaxed_field(*sets[one][each]) for one in range(1, number + 1) for each in _RELAYED]
    lines[-1] = _relaxed_field(name, _VALUE.sub(rb"\1", value)).removesuffix(b"\r\n")
    try:
        _verify(_decoded(stated.get("p", b"")), kind, digest, b"".join(lines), _decoded(tags.get("b", b"")))
    except (*BROKEN, InvalidSignature, UnsupportedAlgorithm):
        return "wrong"
    return "holds" if _text(tags.get("cv", b"")) != "fail" else "wrong"


def _tags(value: bytes) -> dict[str, bytes]:
    return {name.decode("ascii"): text for name, text in _TAG.findall(value)}


def _state(
    fields: list[tuple[bytes, bytes]],
    body: bytes,
    value: bytes,
    tags: dict[str, bytes],
    name: str,
    record: Record,
) -> tuple[str, list[str]]:
    """The state of a mark, and what else is to be said of it."""
    more: list[str] = []
    kind, _, digest = _text(tags.get("a", b"")).lower().partition("-")
    head_form, _, body_form = _text(tags.get("c", b"simple")).lower().partition("/")
    if digest not in _HASHES or kind not in ("rsa", "ed25519") or tags.get("v") != b"1" or "bh" not in tags:
        return "unreadable", more
    content = _relaxed_body(body) if body_form == "relaxed" else _simple_body(body)
    if "l" in tags:
        more.append("partial")
        content = content[: int(tags["l"])] if tags["l"].isdigit() else content
    if hashlib.new(digest, content).digest() != _decoded(tags.get("bh", b"")):
        return "changed", more
    if b"from" not in [each.strip().lower() for each in tags.get("h", b"").split(b":")]:
        return "unreadable", more
    text = record(name)
    if text is None:
        return "unchecked", more
    stated = _tags(text.encode("utf-8", "replace"))
    if not text or "p" not in stated:
        return "no-key", more
    if not _decoded(stated["p"]):
        return "withdrawn", more
    if b"y" in [each.strip().lower() for each in stated.get("t", b"").split(b":")]:
        more.append("testing")
    signed = _signed_fields(fields, tags.get("h", b""), value, head_form == "relaxed")
    try:
        bits = _verify(_decoded(stated["p"]), kind, digest, signed, _decoded(tags.get("b", b"")))
    except (*BROKEN, InvalidSignature, UnsupportedAlgorithm):
        return "wrong", more
    if digest == "sha1" or bits < _LEAST_BITS:
        more.append("old")
    return "holds", more


def _verify(key: bytes, kind: str, digest: str, signed: bytes, value: bytes) -> int:
    """How many bits the key has (a large number, of Ed25519). Raises InvalidSignature, and what BROKEN names."""
    if kind == "ed25519":
        ed25519.Ed25519PublicKey.from_public_bytes(key).verify(value, hashlib.sha256(signed).digest())  # RFC 8463
        return 1 << 16
    try:
        public = load_der_public_key(key)
    except ValueError:  # the key alone, as RFC 6376 has it before its errata
        public = load_der_public_key(der(SEQUENCE, _RSA, der(0x03, b"\0" + key)))
    if not isinstance(public, rsa.RSAPublicKey):
        raise InvalidSignature
    public.verify(value, signed, padding.PKCS1v15(), _HASHES[digest])
    return public.key_size


def _parted(message: bytes) -> tuple[list[tuple[bytes, bytes]], bytes]:
    """The header fields (names and values) and the body, with the line ends of mail."""
    data = _LINE_END.sub(b"\r\n", message)
    head, _, body = data.partition(b"\r\n\r\n")
    return _FIELD.findall(head + b"\r\n"), body


def _signed_fields(fields: list[tuple[bytes, bytes]], named: bytes, own: bytes, relaxed: bool) -> bytes:
    """The header fields that a mark is over, each name from the last field on, and the mark itself without its value
    (section 3.7)."""
    left: dict[bytes, list[tuple[bytes, bytes]]] = {}
    for name, value in fields:
        left.setdefault(name.lower(), []).append((name, value))
    lines = [left[name].pop() for each in named.split(b":") if left.get(name := each.strip().lower())]
    names = [name for name, value in fields if value == own]
    empty = _VALUE.sub(rb"\1", own)
    form = _relaxed_field if relaxed else _simple_field
    return b"".join(form(*line) for line in lines) + form(names[0], empty).removesuffix(b"\r\n")


def _simple_field(name: bytes, value: bytes) -> bytes:
    return name + b":" + value + b"\r\n"


def _relaxed_field(name: bytes, value: bytes) -> bytes:
    return name.lower().strip() + b":" + _BLANKS.sub(b" ", _FOLDS.sub(b"", value)).strip() + b"\r\n"


def _simple_body(body: bytes) -> bytes:
    return re.sub(rb"(?:\r\n)*\Z", b"", body) + b"\r\n"


def _relaxed_body(body: bytes) -> bytes:
    lines = _BLANKS.sub(b" ", body).split(b"\r\n")
    text = re.sub(rb"(?:\r\n)*\Z", b"", b"\r\n".join(line.rstrip(b" ") for line in lines))
    return text + b"\r\n" if text else b""


def _decoded(text: bytes) -> bytes:
    try:
        return base64.b64decode(re.sub(rb"\s+", b"", text), validate=True)
    except binascii.Error:
        return b""


def _text(value: bytes) -> str:
    return one_line(value.decode("ascii", "replace")).strip()[:200]


def _moment(value: bytes | None) -> datetime | None:
    try:
        return datetime.fromtimestamp(int(value or b""), UTC)
    except (ValueError, OverflowError, OSError):
        return None


def _is_of(host: str, domain: str) -> bool:
    return host == domain or host.endswith(f".{domain}")


def said_by(server: str, fields: Iterable[str]) -> str:
    """What the office's own server wrote of a message when it came, by its Authentication-Results (RFC 8601); ""
    where it wrote nothing. Only the first one with its name counts: others may have come with the message."""
    for text in fields:
        name, _, results = text.partition(";")
        if name.split()[:1] == [server]:
            return one_line(" ".join(results.split()))[:300]
    return ""
