"""What is said of protected mail, layer by layer: whether it was opened, and whether what was signed holds."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from datetime import datetime
from typing import Any

from wexagraph.notes import PROTECTION, Note
from wexagraph.protection.certificates import Known, addresses_of, holds, is_for_mail, is_old, name_of
from wexagraph.protection.openpgp import PgpSignature
from wexagraph.protection.signatures import Changed, NotSigned, Signature
from wexagraph.text import one_line

OPENED, CLOSED, DAMAGED = "opened", "closed", "damaged"
HOLDS, UNKNOWN, OTHER, CHANGED, EXPIRED = "holds", "signer unknown", "other signer", "changed", "expired"
WITHDRAWN = "withdrawn"
_CODES = {(kind, word): code for code, (kind, word) in PROTECTION.items()}


@dataclass(frozen=True)
class Layer:
    """One layer of protection: of what `kind` (encrypted, signed), in which `form` (S/MIME, OpenPGP), its `state`, and
    what else is to be said. `weak` says that the way proves little: that an alteration would not show, or that it is
    old; not `whole`, that something of the message stands outside of it."""

    kind: str
    form: str
    state: str
    detail: str = ""
    weak: bool = False
    whole: bool = True

    def notes(self) -> list[Note]:
        """What a page says of it."""
        notes = [Note(_CODES[self.kind, self.state], self.detail)]
        if self.weak:
            notes.append(Note("protection-unproved" if self.kind == "encrypted" else "signature-old", self.form))
        return notes

    def as_dict(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return asdict(self)


def of_smime(found: Signature | NotSigned, known: Known, senders: list[str], moment: datetime, lists: str) -> Layer:
    """The verdict on a signature of S/MIME, in a message from these addresses (in lower case), of a moment, that came
    by these lists."""
    if isinstance(found, NotSigned):
        state = CHANGED if isinstance(found, Changed) else UNKNOWN
        return Layer("signed", "S/MIME", state, lists if state == CHANGED else str(found))
    certificate, when = found.certificate, found.said or moment
    addresses = addresses_of(certificate)
    who = _who(name_of(certificate), addresses)
    chain, root = known.chain(certificate, found.others)
    old = found.old or any(is_old(one) for one in chain[: -1 if root else None])
    day = f"{when:%Y-%m-%d}"
    if not root or not is_for_mail(certificate):
        why = "nothing in --known leads to its certificate" if not root else "its certificate is not one for mail"
        state, more = UNKNOWN, f"{who}; {why}"
    elif not all(holds(one, when) for one in chain):
        ends = certificate.not_valid_after_utc
        begins = certificate.not_valid_before_utc
        state, more = EXPIRED, f"{who}; valid from {begins:%Y-%m-%d} to {ends:%Y-%m-%d}, signed {day}"
    else:
        withdrawn, asked = known.withdrawn(chain)
        told = "it was not withdrawn, by the lists in --known" if asked else "whether it was withdrawn was not asked"
        if withdrawn is not None:
            told = f"it was withdrawn later, on {withdrawn:%Y-%m-%d}"
        state = HOLDS
        more = f"{who}; its certificate is known through {root}, and valid on {day}, when {_says(found)}; {told}"
        if withdrawn is not None and withdrawn <= when:
            state, more = WITHDRAWN, f"{who}; withdrawn {withdrawn:%Y-%m-%d}, signed {day}"
    if state in (HOLDS, UNKNOWN) and not set(addresses) & set(senders):
        state, more = OTHER, f"{more}" if addresses else f"{more}; its certificate names no address"
    return Layer("signed", "S/MIME", state, one_line(more), old)


def of_pgp(found: PgpSignature, senders: list[str], lists: str) -> Layer:
    """The verdict on a signature of OpenPGP; what is in --known is trusted."""
    day = f", {found.said:%Y-%m-%d}" if found.said is not None else ""
    who = f"{found.name or f'key {found.key}'}{day}"
    if found.state == "bad":
        return Layer("signed", "OpenPGP", CHANGED, lists)
    if found.state == "unknown":
        return Layer("signed", "OpenPGP", UNKNOWN, f"{who}; the key is not in --known")
    state = {"expired": EXPIRED, "withdrawn": WITHDRAWN}.get(found.state, HOLDS)
    if state == HOLDS and not set(found.addresses) & set(senders):
        state = OTHER
    return Layer("signed", "OpenPGP", state, one_line(f"{who}; key {found.key}"), found.old)


def _says(found: Signature) -> str:
    return "the signature says it was made" if found.said is not None else "the message says it was written"


def _who(name: str, addresses: list[str]) -> str:
    shown = [address for address in addresses[:3] if address != name.casefold()]
    return f"{name} <{', '.join(shown)}>" if shown else name
