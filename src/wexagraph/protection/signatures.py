"""Signatures over a file or a text (CMS SignedData, RFC 5652): checked against what they sign."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from asn1crypto import x509 as asn1_x509
from cryptography import x509
from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, ed448, ed25519, padding, rsa
from cryptography.hazmat.primitives.serialization import Encoding

from wexagraph.protection.certificates import BROKEN

_HASHES: dict[str, hashes.HashAlgorithm] = {
    "sha256": hashes.SHA256(),
    "sha384": hashes.SHA384(),
    "sha512": hashes.SHA512(),
}
_MORE_HASHES: dict[str, hashes.HashAlgorithm] = {
    "sha3_256": hashes.SHA3_256(),
    "sha3_384": hashes.SHA3_384(),
    "sha3_512": hashes.SHA3_512(),
}
_OLD_HASHES: dict[str, hashes.HashAlgorithm] = {"sha1": hashes.SHA1(), "md5": hashes.MD5(), "sha224": hashes.SHA224()}
DigestOf = Callable[[str], bytes]
"""Gives the digest of what is signed, by the name of an algorithm."""


class NotSigned(Exception):
    """A signature does not hold; the message says why, for people."""


class Changed(NotSigned):
    """What was signed is not what is there."""


@dataclass(frozen=True)
class Signature:
    """A signature that holds: by whom, with what other certificates, when by the signer's own clock (None: it does not
    say), and whether in an `old` way that proves little today."""

    certificate: x509.Certificate
    others: tuple[x509.Certificate, ...]
    said: datetime | None
    old: bool = False


def check(info: Any, digest_of: DigestOf) -> Signature:
    """Check a signature by one (`info`: a ContentInfo of asn1crypto) over what has those digests, in a way that proves
    something today. Raises NotSigned."""
    try:
        if info["content_type"].native != "signed_data":
            raise NotSigned("it is no signature")
        (signer,) = info["content"]["signer_infos"]
        return _checked(info["content"], signer, digest_of, _HASHES, ())
    except (*BROKEN, InvalidSignature) as error:
        raise NotSigned("it is damaged") from error


def check_each(
    info: Any, digest_of: DigestOf, certificates: Iterable[x509.Certificate]
) -> Iterator[Signature | NotSigned]:
    """Check each signature of a ContentInfo, also old ones; `certificates` are those of signers that are known."""
    pool = tuple(certificates)
    for signer in info["content"]["signer_infos"]:
        try:
            yield _checked(info["content"], signer, digest_of, _HASHES | _MORE_HASHES | _OLD_HASHES, pool)
        except NotSigned as error:
            yield error
        except (*BROKEN, InvalidSignature, UnsupportedAlgorithm):
            yield NotSigned("the signature is damaged")


def _checked(
    signed: Any, signer: Any, digest_of: DigestOf, kinds: dict[str, hashes.HashAlgorithm], pool: tuple[Any, ...]
) -> Signature:
    held = signed["certificates"]
    ders = [choice.chosen.dump() for choice in held if choice.name == "certificate"] if held else []
    known = [one.public_bytes(Encoding.DER) for one in pool]
    own = next((der for der in [*ders, *known] if is_of(signer["sid"], asn1_x509.Certificate.load(der))), None)
    if own is None:
        raise NotSigned("it does not hold the certificate of its signer")
    kind = signer["digest_algorithm"]["algorithm"].native
    if kind not in kinds:
        raise NotSigned(f"it goes by {kind}, which is not known here or proves little today")
    attributes = {one["type"].native: one["values"][0] for one in signer["signed_attrs"] or ()}
    if attributes:
        if attributes["message_digest"].native != digest_of(kind):
            raise Changed("what it signs was another file")
        if attributes["content_type"].native != signed["encap_content_info"]["content_type"].native:
            raise NotSigned("it signs something of another kind")
    if "signing_certificate_v2" in attributes:
        named = attributes["signing_certificate_v2"]["certs"][0]
        by = named["hash_algorithm"]["algorithm"].native
        if named["cert_hash"].native != hashlib.new(by, own).digest():
            raise NotSigned("it names another certificate than the one that it holds")
    certificate = x509.load_der_x509_certificate(own)
    try:
        _verify(certificate, signer, kind, kinds[kind], digest_of, bool(attributes))
    except InvalidSignature as error:
        wrong = NotSigned if attributes else Changed
        raise wrong("the signature is not by the key of the certificate") from error
    others = tuple(x509.load_der_x509_certificate(der) for der in ders if der != own)
    said = attributes["signing_time"].native if "signing_time" in attributes else None
    return Signature(certificate, others, said, kind in _OLD_HASHES)


def is_of(sid: Any, certificate: Any) -> bool:
    """Whether a signer or recipient is named by what a certificate has."""
    if sid.name == "issuer_and_serial_number":
        known = sid.chosen
        return bool(
            known["serial_number"].native == certificate.serial_number
            and known["issuer"].dump() == certificate.issuer.dump()
        )
    return bool(sid.chosen.native == certificate.key_identifier)


def _verify(
    certificate: x509.Certificate,
    signer: Any,
    kind: str,
    algorithm: hashes.HashAlgorithm,
    digest_of: DigestOf,
    attributes: bool,
) -> None:
    """Raise InvalidSignature where another key has signed. Without signed attributes, the digest itself is."""
    from cryptography.hazmat.primitives.asymmetric.utils import Prehashed

    public, value = certificate.public_key(), signer["signature"].native
    if attributes:
        signed = (
            b"\x31" + signer["signed_attrs"].dump()[1:]
        )  # as the set that is signed, not as the part that it is here
        by: Any = algorithm
    else:
        signed, by = digest_of(kind), Prehashed(algorithm)
    name = signer["signature_algorithm"]["algorithm"].native
    # some programs name no padding for keys that know one alone
    is_pss = name == "rsassa_pss" or certificate.public_key_algorithm_oid == x509.PublicKeyAlgorithmOID.RSASSA_PSS
    if isinstance(public, rsa.RSAPublicKey) and is_pss:
        public.verify(value, signed, padding.PSS(padding.MGF1(algorithm), padding.PSS.AUTO), by)
    elif isinstance(public, rsa.RSAPublicKey):
        public.verify(value, signed, padding.PKCS1v15(), by)
    elif isinstance(public, ec.EllipticCurvePublicKey):
        public.verify(value, signed, ec.ECDSA(by))
    elif isinstance(public, ed25519.Ed25519PublicKey | ed448.Ed448PublicKey) and attributes:
        public.verify(value, signed)
    else:
        raise NotSigned("its key is of a kind that is not known here")
