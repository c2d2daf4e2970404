"""S/MIME signatures (RFC 8551, RFC 5652): what was signed and by whom. Nothing is verified here."""

from __future__ import annotations

from typing import NamedTuple

from asn1crypto import cms, x509

from wexagraph.protection.certificates import BROKEN
from wexagraph.protection.enveloped import content_info


class Signed(NamedTuple):
    """A CMS SignedData: the MIME entity inside (None for a detached signature), and the signers' names."""

    content: bytes | None
    signers: list[str]


def read_signed(data: bytes) -> Signed | None:
    """What a CMS SignedData holds, in DER, BER or PEM; None where `data` is none."""
    try:
        info = content_info(data)
        if info["content_type"].native != "signed_data":
            return None
        signed = info["content"]
        inner = signed["encap_content_info"]["content"].native
        return Signed(inner if isinstance(inner, bytes) else None, _signers(signed))
    except BROKEN:
        return None


def _signers(signed: cms.SignedData) -> list[str]:
    serials = set()
    for signer in signed["signer_infos"]:
        identifier = signer["sid"].chosen
        if isinstance(identifier, cms.IssuerAndSerialNumber):
            serials.add(identifier["serial_number"].native)
    certificates = [choice.chosen for choice in signed["certificates"] or []]
    names = []
    for certificate in certificates:
        if isinstance(certificate, x509.Certificate) and certificate.serial_number in serials:
            subject = certificate.subject.native
            name = subject.get("common_name") or subject.get("email_address") or certificate.subject.human_friendly
            names.append(str(name[0] if isinstance(name, list) else name))
    return names
