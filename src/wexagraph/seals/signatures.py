"""Signatures over a file (CMS SignedData, RFC 5652, detached, with RFC 5035's signing certificate): made with a key of
the office's, and checked; and whether a certificate leads to one that is known (RFC 5280, section 6)."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from asn1crypto import algos, cms, pem, tsp
from asn1crypto import x509 as asn1_x509
from cryptography import x509
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, padding, rsa
from cryptography.hazmat.primitives.serialization import Encoding, pkcs12

from wexagraph.errors import CallError
from wexagraph.files import open_regular
from wexagraph.text import one_line

BROKEN = (ValueError, TypeError, KeyError, IndexError, AttributeError, RecursionError, OverflowError)
"""What is raised of data that is no DER, or is broken in the middle."""
_MOST = 1_000_000
_LONGEST_CHAIN = 10
_HASHES: dict[str, hashes.HashAlgorithm] = {
    "sha256": hashes.SHA256(),
    "sha384": hashes.SHA384(),
    "sha512": hashes.SHA512(),
}
DigestOf = Callable[[str], bytes]
"""Gives the digest of what is signed, by the name of an algorithm."""


class NotSigned(Exception):
    """A signature does not hold; the message says why, for people."""


@dataclass(frozen=True)
class SealKey:
    """A key that seals: with its certificate, and the certificates between that and the root."""

    private: rsa.RSAPrivateKey | ec.EllipticCurvePrivateKey
    certificate: x509.Certificate
    chain: tuple[x509.Certificate, ...]

    @property
    def name(self) -> str:
        """Who it is of."""
        return name_of(self.certificate)


def read_key(path: Path, password: str) -> SealKey:
    """The key in a PKCS#12 file (RFC 7292). Raises CallError, which never tells the password."""
    try:
        with open_regular(path, follow=True) as file:
            data = file.read(_MOST)
    except OSError as error:
        raise CallError(f"--seal {path} can't be read: {error.strerror or error}.") from error
    try:
        private, certificate, more = pkcs12.load_key_and_certificates(data, password.encode("utf-8"))
    except BROKEN as error:
        raise CallError(f"--seal {path}: it is no PKCS#12 file, or its password is another.") from error
    if certificate is None or private is None:
        raise CallError(f"--seal {path}: it holds no key with its certificate.")
    if not isinstance(private, rsa.RSAPrivateKey | ec.EllipticCurvePrivateKey):
        raise CallError(f"--seal {path}: its key is neither RSA nor EC, which each program that proves seals knows.")
    return SealKey(private, certificate, tuple(more))


def name_of(certificate: x509.Certificate) -> str:
    """What a certificate calls its holder."""
    for attribute in (x509.NameOID.COMMON_NAME, x509.NameOID.ORGANIZATION_NAME):
        if names := certificate.subject.get_attributes_for_oid(attribute):
            return one_line(str(names[0].value))
    return one_line(certificate.subject.rfc4514_string())


def sign(digest: bytes, key: SealKey, moment: datetime) -> bytes:
    """A detached signature over the file of that SHA-256, in DER; `moment` is when the signer says that it was made."""
    return bytes(signed(digest, key, moment).dump())


def signed(
    digest: bytes, key: SealKey, moment: datetime | None, kind: str = "data", content: bytes | None = None
) -> Any:
    """A ContentInfo of asn1crypto with a signature over what has that SHA-256, which is of a `kind`; with `content`, it
    holds that. Without a `moment` it does not say when it was made."""
    own = key.certificate.public_bytes(Encoding.DER)
    identity = tsp.SigningCertificateV2({"certs": [tsp.ESSCertIDv2({"cert_hash": hashlib.sha256(own).digest()})]})
    said: list[dict[str, Any]] = [
        {"type": "content_type", "values": [kind]},
        {"type": "message_digest", "values": [digest]},
        {"type": "signing_certificate_v2", "values": [identity]},
    ]
    if moment is not None:
        said.insert(2, {"type": "signing_time", "values": [cms.Time({"utc_time": moment.astimezone(UTC)})]})
    attributes = cms.CMSAttributes(said)
    certificates = [asn1_x509.Certificate.load(own)]
    certificates += [asn1_x509.Certificate.load(one.public_bytes(Encoding.DER)) for one in key.chain]
    if isinstance(key.private, rsa.RSAPrivateKey):
        algorithm, value = "rsassa_pkcs1v15", key.private.sign(attributes.dump(), padding.PKCS1v15(), hashes.SHA256())
    else:
        algorithm, value = "sha256_ecdsa", key.private.sign(attributes.dump(), ec.ECDSA(hashes.SHA256()))
    signer = cms.SignerInfo(
        {
            "version": "v1",
            "sid": cms.IssuerAndSerialNumber(
                {"issuer": certificates[0].issuer, "serial_number": certificates[0].serial_number}
            ),
            "digest_algorithm": algos.DigestAlgorithm({"algorithm": "sha256"}),
            "signed_attrs": attributes,
            "signature_algorithm": algos.SignedDigestAlgorithm({"algorithm": algorithm}),
            "signature": value,
        }
    )
    encapsulated: dict[str, Any] = {"content_type": kind}
    if content is not None:
        encapsulated["content"] = cms.ParsableOctetString(content)
    data = cms.SignedData(
        {
            "version": "v1" if kind == "data" else "v3",
            "digest_algorithms": [algos.DigestAlgorithm({"algorithm": "sha256"})],
            "encap_content_info": encapsulated,
            "certificates": certificates,
            "signer_infos": [signer],
        }
    )
    return cms.ContentInfo({"content_type": "signed_data", "content": data})


@dataclass(frozen=True)
class Signature:
    """A signature that holds: by whom, with what other certificates, and when by the signer's own clock (None: it does
    not say)."""

    certificate: x509.Certificate
    others: tuple[x509.Certificate, ...]
    said: datetime | None


def check(info: Any, digest_of: DigestOf) -> Signature:
    """Check a signature (`info`: a ContentInfo of asn1crypto) over what has those digests. Raises NotSigned."""
    try:
        return _checked(info, digest_of)
    except (*BROKEN, InvalidSignature) as error:
        raise NotSigned("it is damaged") from error


def _checked(info: Any, digest_of: DigestOf) -> Signature:
    if info["content_type"].native != "signed_data":
        raise NotSigned("it is no signature")
    signed = info["content"]
    (signer,) = signed["signer_infos"]
    ders = [choice.chosen.dump() for choice in signed["certificates"] if choice.name == "certificate"]
    own = next((der for der in ders if _is_of(signer["sid"], asn1_x509.Certificate.load(der))), None)
    if own is None:
        raise NotSigned("it does not hold the certificate of its signer")
    attributes = {one["type"].native: one["values"][0] for one in signer["signed_attrs"]}
    kind = signer["digest_algorithm"]["algorithm"].native
    if kind not in _HASHES:
        raise NotSigned(f"it goes by {kind}, which proves little today")
    if attributes["message_digest"].native != digest_of(kind):
        raise NotSigned("what it signs was another file")
    if "signing_certificate_v2" in attributes:
        named = attributes["signing_certificate_v2"]["certs"][0]
        by = named["hash_algorithm"]["algorithm"].native
        if named["cert_hash"].native != hashlib.new(by, own).digest():
            raise NotSigned("it names another certificate than the one that it holds")
    certificate = x509.load_der_x509_certificate(own)
    try:
        _verify(certificate, signer, kind)
    except InvalidSignature as error:
        raise NotSigned("the signature is not by the key of the certificate") from error
    others = tuple(x509.load_der_x509_certificate(der) for der in ders if der != own)
    said = attributes["signing_time"].native if "signing_time" in attributes else None
    return Signature(certificate, others, said)


def _is_of(sid: Any, certificate: Any) -> bool:
    if sid.name == "issuer_and_serial_number":
        known = sid.chosen
        return bool(
            known["serial_number"].native == certificate.serial_number
            and known["issuer"].dump() == certificate.issuer.dump()
        )
    return bool(sid.chosen.native == certificate.key_identifier)


def _verify(certificate: x509.Certificate, signer: Any, kind: str) -> None:
    """Raise InvalidSignature where the signed attributes were signed by another key."""
    public, value = certificate.public_key(), signer["signature"].native
    signed = b"\x31" + signer["signed_attrs"].dump()[1:]  # as the set that is signed, not as the part that it is here
    name, algorithm = signer["signature_algorithm"]["algorithm"].native, _HASHES[kind]
    if isinstance(public, rsa.RSAPublicKey) and name == "rsassa_pss":
        public.verify(value, signed, padding.PSS(padding.MGF1(algorithm), padding.PSS.AUTO), algorithm)
    elif isinstance(public, rsa.RSAPublicKey):
        public.verify(value, signed, padding.PKCS1v15(), algorithm)
    elif isinstance(public, ec.EllipticCurvePublicKey):
        public.verify(value, signed, ec.ECDSA(algorithm))
    else:
        raise NotSigned("its key is neither RSA nor EC")


@dataclass(frozen=True)
class Known:
    """Certificates that are trusted: those of `--known`, each with the name of its file."""

    certificates: tuple[tuple[x509.Certificate, str], ...] = ()

    def root_of(self, signer: x509.Certificate, others: Iterable[x509.Certificate], moment: datetime) -> str:
        """The name of the file with a certificate to which that of a signer leads, by certificates that held at a
        moment; "" where there is none."""
        named = {one.fingerprint(hashes.SHA256()): name for one, name in self.certificates}
        pool = [*(one for one, _ in self.certificates), *others]
        at, steps = signer, 0
        while _holds(at, moment) and steps < _LONGEST_CHAIN:
            if (name := named.get(at.fingerprint(hashes.SHA256()))) is not None:
                return name
            issuer = next((one for one in pool if one != at and _has_issued(one, at)), None)
            if issuer is None:
                return ""
            at, steps = issuer, steps + 1
        return ""


def _holds(certificate: x509.Certificate, moment: datetime) -> bool:
    return certificate.not_valid_before_utc <= moment <= certificate.not_valid_after_utc


def _has_issued(issuer: x509.Certificate, certificate: x509.Certificate) -> bool:
    """Whether a certificate was signed by another, that may do so."""
    try:
        certificate.verify_directly_issued_by(issuer)
        constraints = issuer.extensions.get_extension_for_class(x509.BasicConstraints).value
    except (*BROKEN, InvalidSignature, x509.ExtensionNotFound):
        return False
    return constraints.ca


def read_known(paths: Iterable[Path]) -> Known:
    """The certificates in files, as PEM or DER. Raises CallError."""
    certificates: list[tuple[x509.Certificate, str]] = []
    for path in paths:
        try:
            with open_regular(path, follow=True) as file:
                data = file.read(_MOST)
            ders = [der for _, _, der in pem.unarmor(data, multiple=True)] if pem.detect(data) else [data]
            certificates += [(x509.load_der_x509_certificate(der), path.name) for der in ders]
        except OSError as error:
            raise CallError(f"--known {path} can't be read: {error.strerror or error}.") from error
        except BROKEN as error:
            raise CallError(f"--known {path}: it holds no certificate, as PEM or DER.") from error
    return Known(tuple(certificates))
