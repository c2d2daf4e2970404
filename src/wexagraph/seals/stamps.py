"""Time stamps (RFC 3161): asked of the address that the clerk names, and checked. Only a digest leaves the house."""

from __future__ import annotations

import hashlib
import http.client
import secrets
import ssl
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from urllib.parse import urlsplit

from asn1crypto import algos, cms, tsp
from cryptography import x509

from wexagraph.errors import CallError
from wexagraph.protection.certificates import BROKEN
from wexagraph.protection.signatures import DigestOf, NotSigned, Signature, check
from wexagraph.text import one_line

_PATIENCE = 30.0
_MOST = 200_000
_GRANTED = ("granted", "granted_with_mods")


class NoStamp(Exception):
    """A stamp can't be had; the message says why, for people."""


def check_address(url: str) -> None:
    """Raise CallError for what is no address of an authority that stamps."""
    parts = urlsplit(url)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise CallError(f"--stamp {one_line(url)}: it is the address of an authority that stamps, http:// or https://.")


def ask(url: str, digest: bytes, kind: str = "sha256") -> bytes:
    """The answer of an authority to a digest, in DER, checked to be one over that digest. Raises NoStamp."""
    nonce = secrets.randbits(63)
    request = tsp.TimeStampReq(
        {
            "version": "v1",
            "message_imprint": {"hash_algorithm": algos.DigestAlgorithm({"algorithm": kind}), "hashed_message": digest},
            "nonce": nonce,
            "cert_req": True,
        }
    )
    answer = _post(url, request.dump())
    try:
        response = tsp.TimeStampResp.load(answer, strict=True)
        status = response["status"]["status"].native
        if status not in _GRANTED:
            said = one_line(" ".join(response["status"]["status_string"].native or ()))[:200]
            raise NoStamp(f"{url} refuses: {status}{f' ({said})' if said else ''}")
        content = _content(response)
        if content["nonce"].native != nonce:
            raise NoStamp(f"{url} has answered another question")
        read(answer, lambda name: digest if name == kind else b"")
    except NotSigned as error:
        raise NoStamp(f"what {url} has answered is no stamp that holds: {error}") from error
    except BROKEN as error:
        raise NoStamp(f"{url} has not answered with a time stamp") from error
    return answer


def token(url: str, digest: bytes) -> bytes:
    """The stamp of an authority for a digest (SHA-256), as it stands in a signature, in DER. Raises NoStamp."""
    return bytes(tsp.TimeStampResp.load(ask(url, digest))["time_stamp_token"].dump())


def _post(url: str, body: bytes) -> bytes:
    parts = urlsplit(url)
    line: http.client.HTTPConnection
    if parts.scheme == "https":
        context = ssl.create_default_context()
        line = http.client.HTTPSConnection(parts.hostname or "", parts.port, timeout=_PATIENCE, context=context)
    else:
        line = http.client.HTTPConnection(parts.hostname or "", parts.port, timeout=_PATIENCE)
    path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    try:
        line.request("POST", path, body, {"Content-Type": "application/timestamp-query"})
        answer = line.getresponse()
        if answer.status != http.client.OK:
            raise NoStamp(f"{url} answers {answer.status} {one_line(answer.reason)[:80]}")
        return answer.read(_MOST)
    except (OSError, http.client.HTTPException, ValueError) as error:
        raise NoStamp(f"{url} can't be asked: {one_line(str(error) or type(error).__name__)[:200]}") from error
    finally:
        line.close()


@dataclass(frozen=True)
class Stamp:
    """A stamp that holds: the moment that it tells, and the signature under it."""

    moment: datetime
    signature: Signature


def read(answer: bytes, digest_of: DigestOf) -> Stamp:
    """Check a stamp (the answer of an authority, in DER) over what has those digests. Raises NotSigned."""
    try:
        response = tsp.TimeStampResp.load(answer, strict=True)
        content = _content(response)
        imprint = content["message_imprint"]
        kind = imprint["hash_algorithm"]["algorithm"].native
        if imprint["hashed_message"].native != digest_of(kind):
            raise NotSigned("what it stamps was another file")
        inner = bytes(response["time_stamp_token"]["content"]["encap_content_info"]["content"])
        signature = check(response["time_stamp_token"], lambda name: hashlib.new(name, inner).digest())
        moment: datetime = content["gen_time"].native
    except BROKEN as error:
        raise NotSigned("it is damaged") from error
    if not _may_stamp(signature.certificate):
        raise NotSigned("its certificate is not one for time stamps")
    return Stamp(moment, signature)


def _content(response: Any) -> Any:
    token: cms.ContentInfo = response["time_stamp_token"]
    encapsulated = token["content"]["encap_content_info"]
    if encapsulated["content_type"].native != "tst_info":
        raise NotSigned("it is no time stamp")
    return encapsulated["content"].parsed


def _may_stamp(certificate: x509.Certificate) -> bool:
    """RFC 3161, section 2.3: for that alone, and marked as critical."""
    try:
        usage = certificate.extensions.get_extension_for_class(x509.ExtendedKeyUsage)
    except (x509.ExtensionNotFound, *BROKEN):
        return False
    return usage.critical and list(usage.value) == [x509.ExtendedKeyUsageOID.TIME_STAMPING]
