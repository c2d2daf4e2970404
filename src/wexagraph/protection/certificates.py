"""Certificates (RFC 5280): whose they are, whether they lead to one that is known, and whether they were withdrawn."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime
from itertools import pairwise
from pathlib import Path

from asn1crypto import pem
from cryptography import x509
from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes

from wexagraph.errors import CallError
from wexagraph.files import open_regular
from wexagraph.text import one_line

BROKEN = (ValueError, TypeError, KeyError, IndexError, AttributeError, RecursionError, OverflowError)
"""What is raised of data that is no DER, or is broken in the middle."""
MOST = 1_000_000
"""Bytes of a file with keys or certificates."""
_LONGEST_CHAIN = 10
_OLD = frozenset({"md5", "sha1", "md2", "md4"})


def name_of(certificate: x509.Certificate) -> str:
    """What a certificate calls its holder."""
    for attribute in (x509.NameOID.COMMON_NAME, x509.NameOID.ORGANIZATION_NAME):
        if names := certificate.subject.get_attributes_for_oid(attribute):
            return one_line(str(names[0].value))
    return one_line(certificate.subject.rfc4514_string())


def addresses_of(certificate: x509.Certificate) -> list[str]:
    """The addresses of mail that a certificate is for (RFC 8550, section 3)."""
    addresses = [str(one.value) for one in certificate.subject.get_attributes_for_oid(x509.NameOID.EMAIL_ADDRESS)]
    try:
        names = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
        addresses += names.get_values_for_type(x509.RFC822Name)
    except (x509.ExtensionNotFound, *BROKEN):
        pass
    return list(dict.fromkeys(one_line(address).casefold() for address in addresses))


def is_for_mail(certificate: x509.Certificate) -> bool:
    """Whether a certificate may sign mail: it says no other use alone (RFC 8550, section 4.4)."""
    try:
        uses = list(certificate.extensions.get_extension_for_class(x509.ExtendedKeyUsage).value)
    except x509.ExtensionNotFound:
        uses = [x509.ExtendedKeyUsageOID.ANY_EXTENDED_KEY_USAGE]
    except BROKEN:
        return False
    may = (x509.ExtendedKeyUsageOID.EMAIL_PROTECTION, x509.ExtendedKeyUsageOID.ANY_EXTENDED_KEY_USAGE)
    try:
        key = certificate.extensions.get_extension_for_class(x509.KeyUsage).value
        signs = key.digital_signature or key.content_commitment
    except x509.ExtensionNotFound:
        signs = True
    except BROKEN:
        return False
    return signs and any(use in may for use in uses)


@dataclass(frozen=True)
class Known:
    """Certificates that are trusted, each with the name of its file; and lists of withdrawn ones."""

    certificates: tuple[tuple[x509.Certificate, str], ...] = ()
    withdrawals: tuple[x509.CertificateRevocationList, ...] = ()

    def root_of(self, signer: x509.Certificate, others: Iterable[x509.Certificate], moment: datetime) -> str:
        """The name of the file with a certificate to which that of a signer leads, by certificates that held at a
        moment; "" where there is none."""
        chain, name = self.chain(signer, others)
        return name if all(holds(one, moment) for one in chain) else ""

    def chain(self, signer: x509.Certificate, others: Iterable[x509.Certificate]) -> tuple[list[x509.Certificate], str]:
        """The certificates from that of a signer to one that is known, and the name of its file; "" where they lead to
        none."""
        named = {one.fingerprint(hashes.SHA256()): name for one, name in self.certificates}
        pool = [*(one for one, _ in self.certificates), *others]
        chain = [signer]
        while len(chain) <= _LONGEST_CHAIN:
            if (name := named.get(chain[-1].fingerprint(hashes.SHA256()))) is not None:
                return chain, name
            below = len(chain) - 1
            issuer = next((one for one in pool if one not in chain and _has_issued(one, chain[-1], below)), None)
            if issuer is None:
                break
            chain.append(issuer)
        return chain, ""

    def withdrawn(self, chain: list[x509.Certificate]) -> tuple[datetime | None, bool]:
        """When a certificate of a chain was withdrawn first (None: none was), and whether lists tell of all but the
        root."""
        moments, asked = [], []
        for certificate, issuer in pairwise(chain):
            lists = [one for one in self.withdrawals if _is_list_of(one, issuer)]
            asked.append(bool(lists))
            entries = (one.get_revoked_certificate_by_serial_number(certificate.serial_number) for one in lists)
            moments += [entry.revocation_date_utc for entry in entries if entry is not None]
        return min(moments, default=None), bool(asked) and all(asked)


def holds(certificate: x509.Certificate, moment: datetime) -> bool:
    """Whether a certificate is valid at a moment."""
    return certificate.not_valid_before_utc <= moment <= certificate.not_valid_after_utc


def is_old(certificate: x509.Certificate) -> bool:
    """Whether a certificate is signed in a way that proves little today."""
    try:
        kind = certificate.signature_hash_algorithm
    except UnsupportedAlgorithm:
        return True
    return kind is not None and kind.name in _OLD


def _has_issued(issuer: x509.Certificate, certificate: x509.Certificate, below: int) -> bool:
    """Whether a certificate was signed by another, that may do so; `below` are so many between it and the signer's."""
    try:
        certificate.verify_directly_issued_by(issuer)
        constraints = issuer.extensions.get_extension_for_class(x509.BasicConstraints).value
        try:
            signs = issuer.extensions.get_extension_for_class(x509.KeyUsage).value.key_cert_sign
        except x509.ExtensionNotFound:
            signs = True
    except (*BROKEN, InvalidSignature, UnsupportedAlgorithm, x509.ExtensionNotFound):
        return False
    return constraints.ca and signs and (constraints.path_length is None or constraints.path_length >= below)


def _is_list_of(withdrawals: x509.CertificateRevocationList, issuer: x509.Certificate) -> bool:
    try:
        return withdrawals.issuer == issuer.subject and withdrawals.is_signature_valid(issuer.public_key())  # type: ignore[arg-type]
    except (*BROKEN, UnsupportedAlgorithm):
        return False


def read_known(paths: Iterable[Path]) -> Known:
    """The certificates and lists of withdrawn ones in files, as PEM or DER. Raises CallError."""
    files = [(path.name, read_file(path, "--known")) for path in paths]
    for name, data in files:
        if not any(_entries(data)):
            raise CallError(f"--known {name}: it holds no certificate, as PEM or DER.")
    return known_in(files)


def known_in(files: Iterable[tuple[str, bytes]]) -> Known:
    """The certificates and lists of withdrawn ones in the content of files, by their names; what is none is passed
    over."""
    certificates: list[tuple[x509.Certificate, str]] = []
    withdrawals: list[x509.CertificateRevocationList] = []
    for name, data in files:
        for entry in _entries(data):
            if isinstance(entry, x509.Certificate):
                certificates.append((entry, name))
            else:
                withdrawals.append(entry)
    return Known(tuple(certificates), tuple(withdrawals))


def _entries(data: bytes) -> Iterator[x509.Certificate | x509.CertificateRevocationList]:
    try:
        ders = [der for _, _, der in pem.unarmor(data, multiple=True)] if pem.detect(data) else [data]
    except BROKEN:
        return
    for der in ders:
        for load in (x509.load_der_x509_certificate, x509.load_der_x509_crl):
            try:
                yield load(der)
                break
            except BROKEN:
                continue


def read_file(path: Path, option: str) -> bytes:
    """The content of a file that an option names. Raises CallError."""
    try:
        with open_regular(path, follow=True) as file:
            return file.read(MOST)
    except OSError as error:
        raise CallError(f"{option} {path} can't be read: {error.strerror or error}.") from error
