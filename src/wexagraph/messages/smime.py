"""S/MIME signatures (RFC 8551, RFC 5652): what was signed and by whom. Nothing is verified here."""

from __future__ import annotations

import zlib
from typing import Any, NamedTuple

from asn1crypto import cms, pem, x509

from wexagraph.zips import out_of_proportion

_MOST_UNPACKED = 256 * 1024 * 1024
_BROKEN = (ValueError, TypeError, KeyError, IndexError, AttributeError, RecursionError)
"""What is raised of data that is not DER at all, or is broken in the middle: the file is kept as it is."""


class Signed(NamedTuple):
    """A CMS SignedData: the MIME entity inside (None for a detached signature), and the signers' names."""

    content: bytes | None
    signers: list[str]


def read_signed(data: bytes) -> Signed | None:
    """What a CMS SignedData holds, in DER, BER or PEM; None where `data` is none."""
    try:
        signed = _content(data, "signed_data")
        if signed is None:
            return None
        inner = signed["encap_content_info"]["content"].native
        return Signed(inner if isinstance(inner, bytes) else None, _signers(signed))
    except _BROKEN:
        return None


def read_compressed(data: bytes) -> bytes | None:
    """The MIME entity in a CMS CompressedData (RFC 3274), in DER, BER or PEM; None where `data` is none, is damaged, or
    unpacks out of all proportion."""
    try:
        compressed = _content(data, "compressed_data")
        if compressed is None:
            return None
        packed = compressed["encap_content_info"]["content"].native
        stream = zlib.decompressobj()
        unpacked = stream.decompress(packed, _MOST_UNPACKED)
        return unpacked if stream.eof and not out_of_proportion(len(unpacked), len(packed)) else None
    except (*_BROKEN, zlib.error):
        return None


def is_enveloped(data: bytes) -> bool:
    """Whether data is a CMS EnvelopedData or AuthEnvelopedData, in DER, BER or PEM."""
    try:
        return str(_info(data)["content_type"].native) in ("enveloped_data", "authenticated_enveloped_data")
    except _BROKEN:
        return False


def _content(data: bytes, kind: str) -> Any:
    """What a CMS ContentInfo of this kind holds; None of another kind. Raises what `_BROKEN` names."""
    info = _info(data)
    return info["content"] if info["content_type"].native == kind else None


def _info(data: bytes) -> Any:
    if pem.detect(data):
        data = pem.unarmor(data)[2]
    return cms.ContentInfo.load(data)


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
