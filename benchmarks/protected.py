"""Opening and proving protected mail, and looking at the marks of domains: processor time a message, beside openssl, gpg
and dkimpy with the same mail."""

from __future__ import annotations

import base64
import os
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import dkim
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, PublicFormat

from benchmarks.measure import table
from tests.protected_mail import ENTITY, PASSWORD, mail
from tests.protected_mail import Keys as Office
from wexagraph.messages.message import Message
from wexagraph.messages.visible_text import visible_texts
from wexagraph.protection.keys import KeyFile, Keys, opener
from wexagraph.protection.marks import marks_of

_COUNT = 40
_LONG = ENTITY.replace("KITTIWAKE", "KITTIWAKE " + "The berth is free until the end of the month. " * 1100)


def main() -> None:
    rows = []
    with tempfile.TemporaryDirectory(prefix="wx-") as place:
        office = Office(Path(place) / "office", gpg=True)
        names = ("clerk.p12", "clerk-secret.asc")
        files = tuple(
            KeyFile(name, (office.home / name).read_bytes(), PASSWORD if name == names[0] else "") for name in names
        )
        known = tuple((name, (office.home / name).read_bytes()) for name in ("root.pem", "ines.asc"))
        keys = Keys(files, known, home=place)
        office.gpg("clerk", "--import", str(office.home / "ines.asc"))
        smime = mail(office.encrypted(office.signed(_LONG)), "S/MIME")
        pgp = mail(office.pgp_encrypted(_LONG, "--sign"), "OpenPGP")
        for name, data, theirs, most in (
            ("S/MIME, encrypted and signed, 50 kB", smime, lambda: _openssl(office, smime), 15),
            (
                "OpenPGP, encrypted and signed, 50 kB",
                pgp,
                lambda: office.gpg("clerk", "--decrypt", data=_armour(pgp)),
                60,
            ),
        ):
            Message(data, keys=keys).notes()
            own = _processor(lambda number, data=data: _read(data, keys))
            others = _processor(lambda number, theirs=theirs: theirs())
            rows.append([name, f"{own:.1f} ms", f"{others:.1f} ms", f"{most} ms"])
        key = rsa.generate_private_key(65537, 2048)
        secret = key.private_bytes(Encoding.PEM, PrivateFormat.TraditionalOpenSSL, NoEncryption())
        public = base64.b64encode(
            key.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
        ).decode()
        record = f"v=DKIM1; p={public}"
        letter = mail(_LONG.encode(), "Mark")
        marked = dkim.sign(letter, b"s1", b"saltmere.example", secret) + letter
        own = _processor(lambda number: list(marks_of(marked, ["ines@saltmere.example"], lambda name: record)))
        others = _processor(lambda number: dkim.verify(marked, dnsfunc=lambda name, timeout=5: record.encode()))
        rows.append(["a mark (DKIM), 50 kB", f"{own:.1f} ms", f"{others:.1f} ms", "10 ms"])
        office.close()
    table("Protected mail (`protected`)", ["message", "ours", "openssl, gpg, dkimpy", "at most"], rows)


def _read(data: bytes, keys: Keys) -> None:
    opened = opener(keys)  # which remembers the last messages
    opened.open_pgp.cache_clear()
    opened.open_enveloped.cache_clear()
    message = Message(data, keys=keys)
    assert "KITTIWAKE" in "".join(visible_texts(message)) and message.header.subject


def _openssl(office: Office, data: bytes) -> None:
    signed = office.openssl("cms", "-decrypt", "-recip", "clerk.pem", "-inkey", "clerk.key", data=data)
    office.openssl("cms", "-verify", "-CAfile", "root.pem", "-out", os.devnull, data=signed)


def _armour(data: bytes) -> bytes:
    return data[data.index(b"-----BEGIN PGP") : data.index(b"\r\n--pg--")]


def _processor(call: Callable[[int], object]) -> float:
    """Milliseconds of processor a call takes, with those of programs that it runs; the median of five rounds."""
    spent = []
    for _ in range(5):
        begin, started = os.times(), time.process_time()
        for number in range(_COUNT):
            call(number)
        end = os.times()
        children = end.children_user + end.children_system - begin.children_user - begin.children_system
        spent.append((time.process_time() - started + children) / _COUNT * 1000)
    return sorted(spent)[2]


if __name__ == "__main__":
    main()
