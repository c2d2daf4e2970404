"""What S/MIME has encrypted (CMS EnvelopedData and AuthEnvelopedData, RFC 5652, 5083, 5753, 8418) or compressed (RFC
3274), opened."""

from __future__ import annotations

import hmac
import zlib
from collections.abc import Iterable
from typing import Any, NamedTuple

from asn1crypto import algos, cms, core, pem
from asn1crypto import x509 as asn1_x509
from cryptography import x509
from cryptography.exceptions import InvalidTag, UnsupportedAlgorithm
from cryptography.hazmat.decrepit.ciphers.algorithms import TripleDES
from cryptography.hazmat.primitives import hashes, keywrap, padding
from cryptography.hazmat.primitives.asymmetric import ec, rsa, x448, x25519
from cryptography.hazmat.primitives.asymmetric import padding as rsa_padding
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from cryptography.hazmat.primitives.ciphers.aead import AESCCM, AESGCM, ChaCha20Poly1305
from cryptography.hazmat.primitives.kdf.hkdf import HKDF
from cryptography.hazmat.primitives.kdf.x963kdf import X963KDF

from wexagraph.protection.certificates import BROKEN
from wexagraph.protection.der import OCTETS, SEQUENCE, der
from wexagraph.protection.signatures import is_of
from wexagraph.zips import out_of_proportion

try:
    from cryptography.hazmat.decrepit.ciphers.algorithms import Camellia
except ImportError:  # versions before 48 have it elsewhere
    from cryptography.hazmat.primitives.ciphers.algorithms import Camellia

_MOST_UNPACKED = 256 * 1024 * 1024
_HASHES: dict[str, hashes.HashAlgorithm] = {
    "sha1": hashes.SHA1(),
    "sha224": hashes.SHA224(),
    "sha256": hashes.SHA256(),
    "sha384": hashes.SHA384(),
    "sha512": hashes.SHA512(),
}
_AGREEMENTS: dict[str, tuple[bool, hashes.HashAlgorithm]] = {
    "1.3.133.16.840.63.0.2": (False, hashes.SHA1()),
    "1.3.133.16.840.63.0.3": (False, hashes.SHA1()),
    **{
        f"1.3.132.1.{arc}.{number}": (False, kind)
        for arc in (11, 14)
        for number, kind in enumerate((hashes.SHA224(), hashes.SHA256(), hashes.SHA384(), hashes.SHA512()))
    },
    "1.2.840.113549.1.9.16.3.19": (True, hashes.SHA256()),
    "1.2.840.113549.1.9.16.3.20": (True, hashes.SHA384()),
    "1.2.840.113549.1.9.16.3.21": (True, hashes.SHA512()),
}
"""How a key is derived from what two keys agree on: by HKDF (RFC 8418) or as ANSI X9.63 does it (RFC 5753), by which
hash."""
_WRAPS = {"2.16.840.1.101.3.4.1.5": 16, "2.16.840.1.101.3.4.1.25": 24, "2.16.840.1.101.3.4.1.45": 32}
"""AES key wrap (RFC 3394), and the length of its key."""
_WRAP_TRIPLE_DES = "1.2.840.113549.1.9.16.3.6"
_SEALED = {
    **{f"2.16.840.1.101.3.4.1.{number}": AESGCM for number in (6, 26, 46)},
    **{f"2.16.840.1.101.3.4.1.{number}": AESCCM for number in (7, 27, 47)},
    "1.2.840.113549.1.9.16.3.18": ChaCha20Poly1305,
}
"""Ciphers that show whether what they encrypt was altered (RFC 5084, RFC 8103)."""
_CHAINED = {f"2.16.840.1.101.3.4.1.{number}": algorithms.AES for number in (2, 22, 42)} | {
    "1.2.840.113549.3.7": TripleDES,
    **{f"1.2.392.200011.61.1.1.1.{number}": Camellia for number in (2, 3, 4)},
}


class Closed(Exception):
    """It is not opened; the message says why, for people."""


class Damaged(Closed):
    """It is for one of the keys, and can't be opened all the same."""


class Opened(NamedTuple):
    """What was inside, the place of the key that has opened it, and whether an alteration would have shown."""

    content: bytes
    key: int
    proved: bool


KeyPair = tuple[Any, x509.Certificate]
"""A private key of cryptography, and its certificate."""


def content_info(data: bytes) -> Any:
    """A CMS ContentInfo (RFC 5652) in DER, BER or PEM. Raises what BROKEN names."""
    if pem.detect(data):
        data = pem.unarmor(data)[2]
    return cms.ContentInfo.load(data)


def kind_of(data: bytes) -> str:
    """What a CMS ContentInfo holds, as asn1crypto calls it; "" where data is none."""
    try:
        return str(content_info(data)["content_type"].native)
    except BROKEN:
        return ""


def is_enveloped(data: bytes) -> bool:
    """Whether data is a CMS EnvelopedData or AuthEnvelopedData."""
    return kind_of(data) in ("enveloped_data", "authenticated_enveloped_data")


def read_compressed(data: bytes) -> bytes | None:
    """The MIME entity in a CMS CompressedData; None where `data` is none, is damaged, or unpacks out of all
    proportion."""
    try:
        info = content_info(data)
        if info["content_type"].native != "compressed_data":
            return None
        packed = info["content"]["encap_content_info"]["content"].native
        stream = zlib.decompressobj()
        unpacked = stream.decompress(packed, _MOST_UNPACKED)
        return unpacked if stream.eof and not out_of_proportion(len(unpacked), len(packed)) else None
    except (*BROKEN, zlib.error):
        return None


def open_enveloped(data: bytes, keys: Iterable[KeyPair]) -> Opened:
    """What is inside of an EnvelopedData or AuthEnvelopedData, opened with the first of the keys that it is for. Raises
    Closed, Damaged."""
    try:
        enveloped = content_info(data)["content"]
        recipients = list(enveloped["recipient_infos"])
    except BROKEN as error:
        raise Damaged("what is encrypted is cut off or damaged") from error
    trouble: Closed | None = None
    for number, (private, certificate) in enumerate(keys):
        for recipient in recipients:
            try:
                key = _content_key(recipient.chosen, recipient.name, private, certificate)
                if key is not None:
                    content, proved = _decrypted(enveloped, key)
                    return Opened(content, number, proved)
            except Closed as error:
                trouble = trouble or error
            except (*BROKEN, InvalidTag, keywrap.InvalidUnwrap, UnsupportedAlgorithm):
                trouble = trouble or Damaged("what is encrypted is damaged")
    raise trouble or Closed("it is for another key than those of --key")


def _content_key(recipient: Any, kind: str, private: Any, certificate: x509.Certificate) -> bytes | None:
    """The key of the content, where a recipient is the holder of a certificate."""
    from cryptography.hazmat.primitives.serialization import Encoding

    own = asn1_x509.Certificate.load(certificate.public_bytes(Encoding.DER))
    if kind == "ktri" and isinstance(private, rsa.RSAPrivateKey) and is_of(recipient["rid"], own):
        algorithm = recipient["key_encryption_algorithm"]
        return private.decrypt(recipient["encrypted_key"].native, _rsa_padding(algorithm))
    if kind == "kari" and hasattr(private, "exchange"):
        for each in recipient["recipient_encrypted_keys"]:
            if _is_for(each["rid"], own):
                return _agreed(recipient, each["encrypted_key"].native, private)
    return None


def _is_for(rid: Any, certificate: Any) -> bool:
    if rid.name == "issuer_and_serial_number":
        return is_of(rid, certificate)
    return bool(rid.chosen["subject_key_identifier"].native == certificate.key_identifier)


def _rsa_padding(algorithm: Any) -> rsa_padding.AsymmetricPadding:
    if algorithm["algorithm"].native != "rsaes_oaep":
        return rsa_padding.PKCS1v15()
    stated = algorithm["parameters"]
    if not isinstance(stated, algos.RSAESOAEPParams):
        return rsa_padding.OAEP(rsa_padding.MGF1(hashes.SHA1()), hashes.SHA1(), None)
    digest = _HASHES[stated["hash_algorithm"]["algorithm"].native]
    mask = _HASHES[stated["mask_gen_algorithm"]["parameters"]["algorithm"].native]
    label = stated["p_source_algorithm"]["parameters"].native
    return rsa_padding.OAEP(rsa_padding.MGF1(mask), digest, label or None)


def _agreed(recipient: Any, wrapped: bytes, private: Any) -> bytes:
    """The key of the content, wrapped by one that both sides agree on."""
    algorithm = recipient["key_encryption_algorithm"]
    by_hkdf, digest = _AGREEMENTS[algorithm["algorithm"].dotted]
    wrap = core.Sequence.load(algorithm["parameters"].dump())
    name = core.ObjectIdentifier.load(wrap[0].dump()).dotted
    size = 24 if name == _WRAP_TRIPLE_DES else _WRAPS[name]
    material = recipient["ukm"].native
    extra = der(0xA0, der(OCTETS, material)) if material else b""
    # ECC-CMS-SharedInfo (RFC 5753, section 7.2): its last field is the length of the key in bits
    info = der(SEQUENCE, wrap.dump(), extra, der(0xA2, der(OCTETS, (8 * size).to_bytes(4, "big"))))
    shared = _exchanged(private, recipient["originator"].chosen["public_key"])
    key = (HKDF(digest, size, None, info) if by_hkdf else X963KDF(digest, size, info)).derive(shared)
    return _unwrapped_triple_des(key, wrapped) if name == _WRAP_TRIPLE_DES else keywrap.aes_key_unwrap(key, wrapped)


def _exchanged(private: Any, public: Any) -> bytes:
    point = bytes(public.native) if isinstance(public.native, bytes) else bytes(public)
    if isinstance(private, ec.EllipticCurvePrivateKey):
        return private.exchange(ec.ECDH(), ec.EllipticCurvePublicKey.from_encoded_point(private.curve, point))
    if isinstance(private, x25519.X25519PrivateKey):
        return private.exchange(x25519.X25519PublicKey.from_public_bytes(point))
    if isinstance(private, x448.X448PrivateKey):
        return private.exchange(x448.X448PublicKey.from_public_bytes(point))
    raise Closed("its key is of a kind that is not known here")


def _unwrapped_triple_des(key: bytes, wrapped: bytes) -> bytes:
    """RFC 3217, section 3.2."""
    import hashlib

    def opened(start: bytes, data: bytes) -> bytes:
        cipher = Cipher(TripleDES(key), modes.CBC(start)).decryptor()
        return cipher.update(data) + cipher.finalize()

    inner = opened(bytes.fromhex("4adda22c79e82105"), wrapped)[::-1]
    found = opened(inner[:8], inner[8:])
    if not hmac.compare_digest(hashlib.sha1(found[:-8]).digest()[:8], found[-8:]):
        raise Damaged("what is encrypted is damaged")
    return found[:-8]


def _decrypted(enveloped: Any, key: bytes) -> tuple[bytes, bool]:
    """The content, and whether an alteration of it would have shown."""
    sealed = isinstance(enveloped, cms.AuthEnvelopedData)
    held = enveloped["auth_encrypted_content_info"] if sealed else enveloped["encrypted_content_info"]
    algorithm, content = held["content_encryption_algorithm"], held["encrypted_content"].native
    if content is None:
        raise Closed("what was encrypted is not in the message")
    name, stated = algorithm["algorithm"].dotted, algorithm["parameters"]
    if sealed:
        if name not in _SEALED:
            raise Closed(f"its encryption ({algorithm['algorithm'].native}) is not known here")
        nonce = (
            stated.native if isinstance(stated.native, bytes) else bytes(core.Sequence.load(stated.dump())[0].native)
        )
        attributes = enveloped["auth_attrs"]
        bound = b"\x31" + attributes.dump()[1:] if attributes.native else b""
        tag = enveloped["mac"].native
        cipher = _SEALED[name](key, len(tag)) if _SEALED[name] is AESCCM else _SEALED[name](key)
        return cipher.decrypt(nonce, content + tag, bound), True
    if name not in _CHAINED:
        raise Closed(f"its encryption ({algorithm['algorithm'].native}) is too weak, or not known here")
    cipher = Cipher(_CHAINED[name](key), modes.CBC(stated.native)).decryptor()
    padded = cipher.update(content) + cipher.finalize()
    unpadder = padding.PKCS7(8 * len(stated.native)).unpadder()
    return unpadder.update(padded) + unpadder.finalize(), False
