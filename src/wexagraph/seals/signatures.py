"""Signatures over a file (CMS SignedData, RFC 5652, detached, with RFC 5035's signing certificate): made with a key of
the office's, and checked; and whether a certificate leads to one that is known (RFC 5280, section 6)."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cached_property
from pathlib import Path
from typing import Any

from asn1crypto import algos, cms, core, pem
from asn1crypto import x509 as asn1_x509
from cryptography import x509
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, padding, rsa
from cryptography.hazmat.primitives.serialization import Encoding, pkcs12

from wexagraph.errors import CallError
from wexagraph.files import open_regular
from wexagraph.seals.tokens import TOKEN, TokenKey, read_token
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

    private: rsa.RSAPrivateKey | ec.EllipticCurvePrivateKey | TokenKey
    certificate: x509.Certificate
    chain: tuple[x509.Certificate, ...]

    @property
    def name(self) -> str:
        """Who it is of."""
        return name_of(self.certificate)

    @cached_property
    def ders(self) -> tuple[bytes, ...]:
        """Its certificate and the others, in DER."""
        return tuple(one.public_bytes(Encoding.DER) for one in (self.certificate, *self.chain))

    @cached_property
    def own_digest(self) -> bytes:
        """The SHA-256 of its certificate, as a value in DER."""
        return _der(_OCTETS, hashlib.sha256(self.ders[0]).digest())

    @cached_property
    def issuer(self) -> bytes:
        """Who has issued its certificate, in DER."""
        return self.certificate.issuer.public_bytes()

    @cached_property
    def serial(self) -> bytes:
        """The number of its certificate, in DER."""
        return bytes(core.Integer(self.certificate.serial_number).dump())

    def sign(self, data: bytes) -> tuple[str, bytes]:
        """Its kind, and its signature over data."""
        if isinstance(self.private, TokenKey):
            return self.private.kind, self.private.sign(data)
        if isinstance(self.private, rsa.RSAPrivateKey):
            return "rsa", self.private.sign(data, padding.PKCS1v15(), hashes.SHA256())
        return "ec", self.private.sign(data, ec.ECDSA(hashes.SHA256()))


def read_key(named: str, password: str) -> SealKey:
    """The key in a PKCS#12 file (RFC 7292), or on a token (RFC 7512). Raises CallError, which never tells the
    password."""
    if named.startswith(TOKEN):
        return SealKey(*read_token(named, password))
    path = Path(named)
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
    return signed(digest, key, moment)


def signed(
    digest: bytes,
    key: SealKey,
    moment: datetime | None,
    kind: str = "data",
    content: bytes | None = None,
    stamp: Callable[[bytes], bytes] | None = None,
) -> bytes:
    """A signature (ContentInfo in DER) over what has that SHA-256, which is of a `kind`; with `content`, it holds that.

    Without a `moment` it does not say when it was made. `stamp` gives the stamp of a SHA-256, which is then that of the
    signature itself (RFC 3161, appendix A).
    """
    said = [
        _attribute("content_type", cms.ContentType(kind).dump()),
        _attribute("message_digest", _der(_OCTETS, digest)),
        _attribute("signing_certificate_v2", _der(_SEQUENCE, _der(_SEQUENCE, _der(_SEQUENCE, key.own_digest)))),
    ]
    if moment is not None:
        said.append(_attribute("signing_time", cms.Time({"utc_time": moment.astimezone(UTC)}).dump()))
    attributes = b"".join(sorted(said))
    algorithm, value = key.sign(_der(_SET, attributes))
    stamped = b""
    if stamp is not None:
        token = stamp(hashlib.sha256(value).digest())
        stamped = _der(_UNSIGNED, _attribute("signature_time_stamp_token", token))
    signer = _der(
        _SEQUENCE,
        *(_VERSION_1, _der(_SEQUENCE, key.issuer, key.serial), _SHA256, _der(_SIGNED, attributes)),
        *(_ALGORITHMS[algorithm], _der(_OCTETS, value), stamped),
    )
    encapsulated = cms.ContentType(kind).dump()
    if content is not None:
        encapsulated += _der(_EXPLICIT, _der(_OCTETS, content))
    data = _der(
        _SEQUENCE,
        *(_VERSION_1 if kind == "data" else _VERSION_3, _der(_SET, _SHA256), _der(_SEQUENCE, encapsulated)),
        *(_der(_CERTIFICATES, *key.ders), _der(_SET, signer)),
    )
    return _der(_SEQUENCE, cms.ContentType("signed_data").dump(), _der(_EXPLICIT, data))


_OCTETS, _SEQUENCE, _SET = 0x04, 0x30, 0x31
_EXPLICIT = _SIGNED = _CERTIFICATES = 0xA0
_UNSIGNED = 0xA1


def _der(tag: int, *contents: bytes) -> bytes:
    """A value in DER (X.690, section 8.1)."""
    content = b"".join(contents)
    length = len(content)
    if length < 128:
        return bytes([tag, length]) + content
    size = (length.bit_length() + 7) // 8
    return bytes([tag, 0x80 | size]) + length.to_bytes(size, "big") + content


_VERSION_1, _VERSION_3 = core.Integer(1).dump(), core.Integer(3).dump()
_SHA256 = _der(_SEQUENCE, algos.DigestAlgorithmId("sha256").dump())
_ALGORITHMS = {
    "rsa": _der(_SEQUENCE, algos.SignedDigestAlgorithmId("rsassa_pkcs1v15").dump(), core.Null().dump()),
    "ec": _der(_SEQUENCE, algos.SignedDigestAlgorithmId("sha256_ecdsa").dump()),
}
"""How a signature is made, by the kind of the key (RFC 3370, section 3.2; RFC 5753, section 2.1.1)."""


def _attribute(name: str, value: bytes) -> bytes:
    return _der(_SEQUENCE, cms.CMSAttributeType(name).dump(), _der(_SET, value))


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
