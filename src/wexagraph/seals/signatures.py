"""Signatures over a file, made with a key of the office's (CMS SignedData, RFC 5652, detached, with RFC 5035's signing
certificate)."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cached_property
from pathlib import Path

from asn1crypto import algos, cms, core
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, padding, rsa
from cryptography.hazmat.primitives.serialization import Encoding, pkcs12

from wexagraph.errors import CallError
from wexagraph.protection.certificates import BROKEN, name_of, read_file
from wexagraph.protection.der import OCTETS, SEQUENCE, SET, der
from wexagraph.seals.tokens import TOKEN, TokenKey, read_token


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
        return der(OCTETS, hashlib.sha256(self.ders[0]).digest())

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
    data = read_file(path, "--seal")
    try:
        private, certificate, more = pkcs12.load_key_and_certificates(data, password.encode("utf-8"))
    except BROKEN as error:
        raise CallError(f"--seal {path}: it is no PKCS#12 file, or its password is another.") from error
    if certificate is None or private is None:
        raise CallError(f"--seal {path}: it holds no key with its certificate.")
    if not isinstance(private, rsa.RSAPrivateKey | ec.EllipticCurvePrivateKey):
        raise CallError(f"--seal {path}: its key is neither RSA nor EC, which each program that proves seals knows.")
    return SealKey(private, certificate, tuple(more))


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
        _attribute("message_digest", der(OCTETS, digest)),
        _attribute("signing_certificate_v2", der(SEQUENCE, der(SEQUENCE, der(SEQUENCE, key.own_digest)))),
    ]
    if moment is not None:
        said.append(_attribute("signing_time", cms.Time({"utc_time": moment.astimezone(UTC)}).dump()))
    attributes = b"".join(sorted(said))
    algorithm, value = key.sign(der(SET, attributes))
    stamped = b""
    if stamp is not None:
        token = stamp(hashlib.sha256(value).digest())
        stamped = der(_UNSIGNED, _attribute("signature_time_stamp_token", token))
    signer = der(
        SEQUENCE,
        *(_VERSION_1, der(SEQUENCE, key.issuer, key.serial), _SHA256, der(_SIGNED, attributes)),
        *(_ALGORITHMS[algorithm], der(OCTETS, value), stamped),
    )
    encapsulated = cms.ContentType(kind).dump()
    if content is not None:
        encapsulated += der(_EXPLICIT, der(OCTETS, content))
    data = der(
        SEQUENCE,
        *(_VERSION_1 if kind == "data" else _VERSION_3, der(SET, _SHA256), der(SEQUENCE, encapsulated)),
        *(der(_CERTIFICATES, *key.ders), der(SET, signer)),
    )
    return der(SEQUENCE, cms.ContentType("signed_data").dump(), der(_EXPLICIT, data))


_EXPLICIT = _SIGNED = _CERTIFICATES = 0xA0
_UNSIGNED = 0xA1


_VERSION_1, _VERSION_3 = core.Integer(1).dump(), core.Integer(3).dump()
_SHA256 = der(SEQUENCE, algos.DigestAlgorithmId("sha256").dump())
_ALGORITHMS = {
    "rsa": der(SEQUENCE, algos.SignedDigestAlgorithmId("rsassa_pkcs1v15").dump(), core.Null().dump()),
    "ec": der(SEQUENCE, algos.SignedDigestAlgorithmId("sha256_ecdsa").dump()),
}
"""How a signature is made, by the kind of the key (RFC 3370, section 3.2; RFC 5753, section 2.1.1)."""


def _attribute(name: str, value: bytes) -> bytes:
    return der(SEQUENCE, cms.CMSAttributeType(name).dump(), der(SET, value))
