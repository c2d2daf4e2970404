"""A key on a token (PKCS#11), named by a URI (RFC 7512): it signs there, and never leaves it. An optional extra."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import lru_cache
from threading import Lock
from typing import Any
from urllib.parse import unquote

from cryptography import x509

from wexagraph.errors import CallError
from wexagraph.text import one_line

TOKEN = "pkcs11:"
_HOW = "pkcs11:token=NAME;object=NAME?module-path=/usr/lib/LIBRARY.so"


@dataclass(frozen=True)
class TokenKey:
    """The private key of a token: its `kind` (rsa or ec), and what signs data with it, by SHA-256."""

    kind: str
    sign: Callable[[bytes], bytes] = field(repr=False)


@lru_cache  # a token is logged into once
def read_token(uri: str, pin: str) -> tuple[TokenKey, x509.Certificate, tuple[x509.Certificate, ...]]:
    """The key that a URI names, its certificate, and the others on the token. Raises CallError, which never tells the
    PIN."""
    path, query = _parsed(uri)
    try:
        import pkcs11
    except ImportError:
        raise CallError("keys on tokens need an extra: pip install 'wexagraph[seal]'.") from None
    try:
        token = pkcs11.lib(query["module-path"]).get_token(token_label=path.get("token"))
        session = token.open(user_pin=pin)
        return _key(session, path, uri)
    except (pkcs11.exceptions.PinIncorrect, pkcs11.exceptions.PinLenRange, pkcs11.exceptions.PinLocked) as error:
        raise CallError(f"--seal {one_line(uri)}: the token refuses the PIN ({type(error).__name__}).") from error
    except (pkcs11.exceptions.PKCS11Error, RuntimeError, OSError) as error:
        raise CallError(f"--seal {one_line(uri)}: the token can't be used: {_told(error)}.") from error


def _told(error: Exception) -> str:
    return one_line(str(error))[:200] or type(error).__name__


def _parsed(uri: str) -> tuple[dict[str, str], dict[str, str]]:
    """The attributes of a URI: those of its path, and those of its query. Raises CallError."""
    path, _, query = uri.removeprefix(TOKEN).partition("?")
    parts = (_attributes(path, ";"), _attributes(query, "&"))
    if "module-path" not in parts[1] or not parts[0].keys() & {"object", "id"}:
        raise CallError(f"--seal {one_line(uri)}: a key on a token is named as {_HOW}.")
    return parts


def _attributes(text: str, sign: str) -> dict[str, str]:
    pairs = (each.partition("=") for each in text.split(sign) if each)
    return {name: unquote(value, "latin-1" if name == "id" else "utf-8") for name, _, value in pairs}


def _key(
    session: Any, path: dict[str, str], uri: str
) -> tuple[TokenKey, x509.Certificate, tuple[x509.Certificate, ...]]:
    from pkcs11 import Attribute, KeyType, Mechanism, ObjectClass
    from pkcs11.util.ec import encode_ecdsa_signature

    named: dict[Any, Any] = {}
    if "object" in path:
        named[Attribute.LABEL] = path["object"]
    if "id" in path:
        named[Attribute.ID] = path["id"].encode("latin-1")
    keys = list(session.get_objects({Attribute.CLASS: ObjectClass.PRIVATE_KEY} | named))
    held = [
        (each, x509.load_der_x509_certificate(each[Attribute.VALUE]))
        for each in session.get_objects({Attribute.CLASS: ObjectClass.CERTIFICATE})
    ]
    if len(keys) != 1:
        raise CallError(f"--seal {one_line(uri)}: the token has {len(keys)} keys of that name, and needs to have one.")
    (private,) = keys
    id = private[Attribute.ID]
    own = [certificate for each, certificate in held if each[Attribute.ID] == id]
    if not own:
        raise CallError(f"--seal {one_line(uri)}: the token has no certificate of that key.")
    others = tuple(certificate for _, certificate in held if certificate not in own)
    is_rsa, one_at_a_time = private.key_type == KeyType.RSA, Lock()

    def sign(data: bytes) -> bytes:
        with one_at_a_time:
            if is_rsa:
                return bytes(private.sign(data, mechanism=Mechanism.SHA256_RSA_PKCS))
            digest = hashlib.sha256(data).digest()
            return bytes(encode_ecdsa_signature(private.sign(digest, mechanism=Mechanism.ECDSA)))

    return TokenKey("rsa" if is_rsa else "ec", sign), own[0], others
