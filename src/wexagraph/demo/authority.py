"""A stand-in for who gives the port office of Saltmere its certificate, and for who stamps (RFC 3161), on this machine.
For the demo alone: its keys are made anew each time, and nobody knows them."""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

from asn1crypto import cms, tsp
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import BestAvailableEncryption, Encoding, pkcs12

from wexagraph.seals.signatures import SealKey, signed

PASSWORD = "saltmere"
OFFICE_ROOT, STAMPS_ROOT, KEY = "office-root.pem", "stamps-root.pem", "office.p12"
_YEAR = timedelta(days=365)
_POLICY = "1.3.6.1.4.1.32473.1"
"""A number for examples (RFC 5612)."""


@contextmanager
def authority(folder: Path) -> Iterator[str]:
    """Make the office's key and the roots in a folder, and stamp while it is open: the address."""
    folder.mkdir(parents=True, exist_ok=True)
    now = datetime.now(UTC)
    office, office_root = _issued("Port of Saltmere", now)
    stamps, stamps_root = _issued("Saltmere Time", now, x509.ExtendedKeyUsageOID.TIME_STAMPING)
    (folder / OFFICE_ROOT).write_bytes(office_root.public_bytes(Encoding.PEM))
    (folder / STAMPS_ROOT).write_bytes(stamps_root.public_bytes(Encoding.PEM))
    lock, private = BestAvailableEncryption(PASSWORD.encode()), office.private
    assert isinstance(private, ec.EllipticCurvePrivateKey)
    content = pkcs12.serialize_key_and_certificates(b"office", private, office.certificate, [office_root], lock)
    (folder / KEY).write_bytes(content)

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            question = tsp.TimeStampReq.load(self.rfile.read(int(self.headers["Content-Length"])))
            self.send_response(200)
            self.end_headers()
            self.wfile.write(_stamped(question, stamps))

        def log_message(self, format: str, *arguments: Any) -> None:
            """Nothing on the terminal."""

    with ThreadingHTTPServer(("127.0.0.1", 0), Handler) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield f"http://127.0.0.1:{server.server_address[1]}/"
        server.shutdown()


def _stamped(question: Any, key: SealKey) -> bytes:
    now = datetime.now(UTC).replace(microsecond=0)
    stated = {
        "version": "v1",
        "policy": _POLICY,
        "message_imprint": question["message_imprint"],
        "serial_number": x509.random_serial_number(),
        "gen_time": now,
    }
    if question["nonce"].native is not None:
        stated["nonce"] = question["nonce"].native
    content = tsp.TSTInfo(stated).dump()
    token = signed(hashlib.sha256(content).digest(), key, now, "tst_info", content)
    token_info = cms.ContentInfo.load(token)
    return bytes(tsp.TimeStampResp({"status": {"status": "granted"}, "time_stamp_token": token_info}).dump())


def _issued(name: str, now: datetime, use: x509.ObjectIdentifier | None = None) -> tuple[SealKey, x509.Certificate]:
    """A key with its certificate, and the root that has issued that."""
    root_key, own = ec.generate_private_key(ec.SECP256R1()), ec.generate_private_key(ec.SECP256R1())
    issuer = _named(f"Root for {name}")
    root = (
        _begun(issuer, issuer, root_key, now)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(root_key.public_key()), critical=False)
        .sign(root_key, hashes.SHA256())
    )
    certificate = _begun(_named(name), issuer, own, now).add_extension(
        x509.BasicConstraints(ca=False, path_length=None), critical=True
    )
    if use is not None:
        certificate = certificate.add_extension(x509.ExtendedKeyUsage([use]), critical=True)
    return SealKey(own, certificate.sign(root_key, hashes.SHA256()), (root,)), root


def _named(name: str) -> x509.Name:
    return x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, name)])


def _begun(
    subject: x509.Name, issuer: x509.Name, key: ec.EllipticCurvePrivateKey, now: datetime
) -> x509.CertificateBuilder:
    return x509.CertificateBuilder(
        issuer, subject, key.public_key(), x509.random_serial_number(), now - timedelta(hours=1), now + _YEAR
    )
