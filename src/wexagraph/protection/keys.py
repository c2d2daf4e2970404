"""Keys that open protected mail, and what is known of who signs it: plain data, which each process opens once."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives.serialization import pkcs12

from wexagraph.errors import CallError
from wexagraph.protection.certificates import BROKEN, Known, known_in
from wexagraph.protection.enveloped import Closed, Opened, open_enveloped
from wexagraph.protection.openpgp import Gpg, PgpResult, PgpSignature, is_public, is_secret
from wexagraph.protection.signatures import NotSigned, Signature, check_each
from wexagraph.text import one_line

_REMEMBERED = 4


@dataclass(frozen=True)
class KeyFile:
    """A file with a key (PKCS#12, or a secret key of OpenPGP): its name, its content, and the password of the key."""

    name: str
    content: bytes = field(repr=False)
    password: str = field(default="", repr=False)


@dataclass(frozen=True)
class Keys:
    """What opens and proves protected mail: keys in `files`, whether the user's own `gpg` and its agent are asked, and
    files of what is `known` (roots, senders' keys, withdrawal lists), by their names. Keyrings lie in the folder `home`
    while they are used. With `marks`, those of sending domains are looked at, by the records of `senders` and those
    that the name server `ask` gives; what the office's own `server` wrote is told."""

    files: tuple[KeyFile, ...] = ()
    known: tuple[tuple[str, bytes], ...] = field(default=(), repr=False)
    gpg: bool = False
    home: str = field(default="", compare=False)
    marks: bool = False
    senders: tuple[tuple[str, str], ...] = field(default=(), repr=False, compare=False)
    ask: str = ""
    server: str = ""

    @property
    def opens(self) -> bool:
        """Whether something is opened or proved, and not the marks of domains alone."""
        return bool(self.files or self.known or self.gpg)

    @cached_property
    def sender_mark(self) -> str:
        """Equal for two that look at the marks of domains in the same way; "" where no key of one is looked for."""
        if not (self.senders or self.ask or self.server):
            return ""
        return hashlib.sha256(repr((self.senders, self.ask, self.server)).encode()).hexdigest()[:12]

    @cached_property
    def mark(self) -> str:
        """Equal for two that open and prove the same: that of each key, and of all that is known."""
        known = hashlib.sha256(b"".join(hashlib.sha256(content).digest() for _, content in self.known))
        return f"{'.'.join(sorted(self._marks))}~{known.hexdigest()[:8]}"

    @property
    def _marks(self) -> set[str]:
        marks = {hashlib.sha256(file.content).hexdigest()[:8] for file in self.files}
        return marks | {"gpg"} if self.gpg else marks

    def hold(self, mark: str) -> bool:
        """Whether each key that a mark tells of is among these."""
        return set(mark.partition("~")[0].split(".")) - {""} <= self._marks


class Opener:
    """Keys that are open in this process. Raises CallError where one can't be opened, which never tells a password."""

    def __init__(self, keys: Keys) -> None:
        self.known: Known = known_in(keys.known)
        self.senders = tuple(one for one, _ in self.known.certificates)
        self._pairs: list[tuple[Any, x509.Certificate]] = []
        self._names: list[str] = []
        self._keyrings: list[tuple[str, Gpg]] = []
        public = [content for _, content in keys.known if is_public(content)]
        for file in keys.files:
            if is_secret(file.content):
                self._keyrings.append((file.name, Gpg([file.content, *public], file.password, home=keys.home)))
            else:
                self._pairs.append(_pair(file))
                self._names.append(file.name)
        if keys.gpg:
            self._keyrings.append(("gpg", Gpg(own=True)))
        if public and not self._keyrings:
            self._keyrings.append(("", Gpg(public, home=keys.home)))
        # a message is read for its list and for its text
        self.open_enveloped = lru_cache(_REMEMBERED)(self._open_enveloped)
        self.open_pgp = lru_cache(_REMEMBERED)(self._open_pgp)

    def _open_enveloped(self, data: bytes) -> tuple[Opened, str]:
        """What S/MIME has encrypted, and the name of the key that opens it. Raises Closed, Damaged."""
        opened = open_enveloped(data, self._pairs)
        return opened, self._names[opened.key]

    def check_each(self, info: Any, contents: Iterable[bytes]) -> list[Signature | NotSigned]:
        """The signatures of a ContentInfo over a text, in the first of the forms in which one holds."""
        verdicts: list[Signature | NotSigned] = []
        for content in contents:

            def digest(kind: str, content: bytes = content) -> bytes:
                return hashlib.new(kind, content).digest()

            verdicts = list(check_each(info, digest, self.senders))
            if any(isinstance(one, Signature) for one in verdicts):
                break
        return verdicts

    def _open_pgp(self, data: bytes) -> tuple[PgpResult, str]:
        """What OpenPGP has encrypted or signed, and the name of the key that opens it. Raises Closed, Damaged."""
        trouble: Closed | None = None
        for name, keyring in self._keyrings:
            try:
                return keyring.opened(data), name
            except Closed as error:
                trouble = error if trouble is None or type(error) is not Closed else trouble
        raise trouble or Closed("there is no key for it in --key")

    def check_pgp(self, contents: Iterable[bytes], signature: bytes) -> list[PgpSignature]:
        """The signatures of OpenPGP over a text, in the first of the forms in which one holds."""
        forms, found = list(contents), list[PgpSignature]()
        for content in forms:
            for _, keyring in self._keyrings:
                now = keyring.checked(content, signature)
                if any(one.state not in ("bad", "unknown") for one in now):
                    return now
                found = found if any(one.state == "bad" for one in found) else now
        return found or [PgpSignature("unknown", "", "")]


def _pair(file: KeyFile) -> tuple[Any, x509.Certificate]:
    try:
        private, certificate, _ = pkcs12.load_key_and_certificates(file.content, file.password.encode("utf-8"))
    except BROKEN as error:
        what = "it is no PKCS#12 file and no secret key of OpenPGP, or its password is another"
        raise CallError(f"--key {one_line(file.name)}: {what}.") from error
    if private is None or certificate is None:
        raise CallError(f"--key {one_line(file.name)}: it holds no key with its certificate.")
    return private, certificate


@lru_cache(maxsize=4)
def opener(keys: Keys) -> Opener:
    """Keys opened in this process, once. Raises CallError."""
    return Opener(keys)
