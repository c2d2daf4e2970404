"""Sealing a folder: a signature and a time stamp over its list of checksums, beside it, with all that others need to
prove them; and proving them here.

A list that was sealed and is replaced is kept with its seals in `seals/0001`, `seals/0002`, ... To renew is to stamp a
list of all seals and stamps (SHA-512) before the certificates of the old stamps end.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

from asn1crypto import cms
from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding

from wexagraph.errors import CallError, InUse, TargetError
from wexagraph.files import open_regular
from wexagraph.naming.paths import MANIFEST, PROOF, SEAL_MARK, SEALED, SEALS
from wexagraph.output.folder import OutputFolder
from wexagraph.output.replacing import write_whole_file
from wexagraph.protection.certificates import BROKEN, Known, name_of
from wexagraph.protection.signatures import NotSigned, Signature, check
from wexagraph.reports import Finding, Report, Sealed, Sealing, Verification
from wexagraph.seals import stamps
from wexagraph.seals.signatures import SealKey, read_key, sign

SEAL, STAMP = ".p7s", ".tsr"
_BAG, _VOLUMES, _TAGS = "bagit.txt", "data/volumes", "tagmanifest-sha256.txt"
"""A backup is sealed by the list that proves its list (BagIt, RFC 8493)."""
CERTIFICATES, HOW = SEALED[2], PROOF
RENEWED = "stamps-sha512.txt"
_EARLIER = re.compile(rf"{SEALS}/\d{{4}}")
_LINE = re.compile(r"([0-9a-f]{128})  (.+)")
_SEAL_NAMES = re.compile(r"(?<=-in )[\w/.-]+(?:\.p7s|\.tsr)")
_MOST_LINES = 10_000_000
_PATIENCE = 10.0
_MOST = 1_000_000
"""A seal or a stamp is not larger: one that is was put there by somebody else."""


@contextmanager
def _held(folder: Path) -> Iterator[OutputFolder]:
    """A folder that nobody writes into meanwhile. Raises CallError where nothing is there to be sealed, TargetError."""
    if not (folder / MANIFEST).is_file():
        raise CallError(f"{folder} holds no {MANIFEST}, so there is nothing to seal. An export or a backup has one.")
    try:
        with OutputFolder(folder, make=False) as root:
            if not root.taken(list_in(root)):
                raise CallError(f"{folder} holds a run that was stopped. Run its backup again, then seal it.")
            if (holder := root.take_lock(_PATIENCE)) is not None:
                by = f" by process {holder}" if holder else ""
                raise InUse(f"{folder} is being written to{by}. Wait for that run, then seal again.")
            yield root
    except OSError as error:
        raise TargetError(f"{folder} can't be written to: {error.strerror or error}. Check the disk.") from error


def seal(folder: Path, sealing: Sealing, moment: datetime, report: Report) -> None:
    """Seal the list of checksums of a folder, have it stamped, and say so in a report. What is sealed and stamped
    already, as it is, stays; a seal by another key is kept among the earlier ones. Raises CallError, TargetError."""
    key, url = _key(sealing), sealing.stamp
    with _held(folder) as root:
        digest = bytes.fromhex(root.digest(list_in(root)) or "")
        at = _Place(root)
        others = key is not None and root.taken(at.list + SEAL) and not at.is_sealed_by(key)
        if others or (url and root.taken(at.list + STAMP) and at.stamp() is None):
            keep_earlier(root)
        if key is not None and not at.is_sealed_by(key):
            root.write(at.list + SEAL, sign(digest, key, moment))
            report.sealed = key.name
        if url and at.stamp() is None:
            try:
                root.write(at.list + STAMP, stamps.ask(url, digest))
                report.stamped = _Place(root).stamped_at()
            except stamps.NoStamp as error:
                report.unstamped = str(error)
        if any(root.taken(at.list + ending) for ending in (SEAL, STAMP)):
            root.write(SEAL_MARK, b"")
            _write_helps(root)


def _key(sealing: Sealing) -> SealKey | None:
    return read_key(sealing.key, sealing.password) if sealing.key else None


def seal_file(path: Path, sealing: Sealing, moment: datetime, report: Report) -> None:
    """Seal one file that a run has made; seal and stamp lie beside it, and hold their certificates. Raises CallError,
    TargetError."""
    key = _key(sealing)
    try:
        with open_regular(path) as file:
            digest = hashlib.file_digest(file, "sha256").digest()
        if key is not None:
            write_whole_file(path.with_name(path.name + SEAL), sign(digest, key, moment))
            report.sealed = key.name
        if sealing.stamp:
            answer = stamps.ask(sealing.stamp, digest)
            write_whole_file(path.with_name(path.name + STAMP), answer)
            report.stamped = stamps.read(answer, lambda kind: digest).moment
    except stamps.NoStamp as error:
        report.unstamped = str(error)
    except OSError as error:
        raise TargetError(f"{path} can't be sealed: {error.strerror or error}. Check the disk.") from error


def prove_file(path: Path, known: Known, verification: Verification) -> None:
    """Prove the seals beside one file. Raises TargetError."""
    try:
        with OutputFolder(path.absolute().parent, make=False) as root:
            _prove(_Place(root, path.name), known, verification, lambda stamp: [])
    except OSError as error:
        raise TargetError(f"{path} can't be read: {error.strerror or error}.") from error


def renew(folder: Path, url: str, report: Report) -> int:
    """Have all seals and stamps of a folder, with the lists that they are over, stamped once more, so that they are
    proved beyond the end of their certificates. Returns how many files; the report says why none. Raises CallError,
    TargetError."""
    with _held(folder) as root:
        files = [path for path in sorted(seal_files(root)) if path not in (CERTIFICATES, HOW)]
        stamped = [path for path in files if path.endswith(STAMP)]
        if not stamped:
            raise CallError(f"{folder} has no stamp that could be renewed. `wexagraph seal --stamp URL` asks for one.")
        lines = [f"{root.digest(path, 'sha512')}  {path}\n" for path in [*files, list_in(root)]]
        content = "".join(lines).encode()
        try:
            answer = stamps.ask(url, hashlib.sha512(content).digest(), "sha512")
        except stamps.NoStamp as error:
            report.unstamped = str(error)
            return 0
        place = _free(root)
        root.write(f"{place}/{RENEWED}", content)
        root.write(f"{place}/{RENEWED}{STAMP}", answer)
        _write_helps(root)
    return len(files)


def keep_earlier(root: OutputFolder) -> None:
    """Keep the seals of a list of checksums that is about to be replaced, with the list. Raises OSError."""
    name = list_in(root)
    there = [ending for ending in (SEAL, STAMP) if root.taken(name + ending)]
    if not there or not root.taken(name):
        return
    place = _free(root)
    with root.reader(name) as file:
        root.write(f"{place}/{name}", file.read())
    for ending in there:
        root.rename_new(name + ending, f"{place}/{name}{ending}")
    _write_helps(root)


def list_in(root: OutputFolder) -> str:
    """The list of checksums that is sealed: of a backup, that of the files beside its data."""
    return _TAGS if root.taken(_BAG) and root.taken(_VOLUMES) else MANIFEST


def _free(root: OutputFolder) -> str:
    numbers = [int(name) for name in root.names(SEALS) if name.isdigit()] if root.taken(SEALS) else []
    return f"{SEALS}/{max(numbers, default=0) + 1:04}"


def seal_files(root: OutputFolder) -> set[str]:
    """The files of seals in a folder."""
    sealed = list_in(root)
    beside = {f"{sealed}{SEAL}", f"{sealed}{STAMP}", CERTIFICATES, HOW}
    names = {name + ending for name in (sealed, RENEWED) for ending in ("", SEAL, STAMP)}
    inner = root.files(SEALS) if root.taken(SEALS) else iter(())
    kept = {path for path in inner if _EARLIER.fullmatch(path.rpartition("/")[0]) and path.rpartition("/")[2] in names}
    return {path for path in beside if root.taken(path)} | kept


class _Place:
    """A list of checksums, or of stamps, with the seal and the stamp over it. What does not hold is a finding."""

    def __init__(self, root: OutputFolder, path: str = "") -> None:
        self.root, self.list = root, path or list_in(root)
        self.findings: list[Finding] = []

    def _digest(self, kind: str) -> bytes:
        return bytes.fromhex(self.root.digest(self.list, kind) or "")

    def _read(self, path: str) -> bytes | None:
        if not self.root.taken(path):
            return None
        with self.root.reader(path) as file:
            return file.read(_MOST)

    def seal(self) -> Signature | None:
        """The seal that holds; None where there is none."""
        if (data := self._read(self.list + SEAL)) is None:
            return None
        try:
            return check(cms.ContentInfo.load(data, strict=True), self._digest)
        except NotSigned as error:
            self.findings.append(Finding(self.list + SEAL, "altered", f"the seal does not hold: {error}"))
        except BROKEN:
            self.findings.append(Finding(self.list + SEAL, "altered", "the seal does not hold: it is damaged"))
        return None

    def stamp(self) -> stamps.Stamp | None:
        """The stamp that holds; None where there is none."""
        if (data := self._read(self.list + STAMP)) is None:
            return None
        try:
            return stamps.read(data, self._digest)
        except NotSigned as error:
            self.findings.append(Finding(self.list + STAMP, "altered", f"the stamp does not hold: {error}"))
            return None

    def is_sealed_by(self, key: SealKey) -> bool:
        """Whether the list is sealed with that key, as it is."""
        signature = self.seal()
        return signature is not None and signature.certificate == key.certificate

    def stamped_at(self) -> datetime | None:
        stamp = self.stamp()
        return stamp.moment if stamp is not None else None

    def certificates(self) -> Iterator[x509.Certificate]:
        """All that stand in seal and stamp."""
        signed = self.seal()
        stamp = self.stamp()
        for signature in (signed, stamp.signature if stamp is not None else None):
            if signature is not None:
                yield signature.certificate
                yield from signature.others


def _places(root: OutputFolder) -> list[_Place]:
    """The list as it is, the earlier ones, and the lists of stamps."""
    folders = sorted({path.rpartition("/")[0] for path in seal_files(root) if path.startswith(f"{SEALS}/")})
    lists = [_Place(root, f"{folder}/{name}") for folder in folders for name in (list_in(root), RENEWED)]
    return [_Place(root), *(place for place in lists if _is_there(place))]


def _is_there(place: _Place) -> bool:
    return any(place.root.taken(place.list + ending) for ending in ("", SEAL, STAMP))


def prove(root: OutputFolder, known: Known, verification: Verification) -> None:
    """Prove the seals of a folder: what holds goes to the `seals` of a verification, what does not to its findings."""
    if root.taken(SEAL_MARK) and not any(path.endswith((SEAL, STAMP)) for path in seal_files(root)):
        verification.add(list_in(root) + SEAL, "missing", "the folder was sealed, and no seal of it is left")
    until = _renewed_until(root, verification)
    for place in _places(root):
        if place.list.endswith(RENEWED):
            continue
        if "/" in place.list and not root.taken(place.list):
            verification.add(place.list, "missing", "the list that was sealed is gone")
        else:
            _prove(place, known, verification, until)
    _prove_helps(root, verification)


def _prove(
    place: _Place,
    known: Known,
    verification: Verification,
    until: Callable[[str], list[tuple[datetime, datetime]]],
) -> None:
    """Prove one seal and stamp; `until` gives when a stamp was stamped once more, and until when that is proved."""
    signature, stamp = place.seal(), place.stamp()
    verification.findings += place.findings
    if signature is None and stamp is None:
        return
    sealed = Sealed(place.list)
    moment = stamp.moment if stamp is not None else datetime.now(UTC)
    if signature is not None:
        sealed.by = name_of(signature.certificate)
        sealed.known_by = known.root_of(signature.certificate, signature.others, moment)
    if stamp is not None:
        authority = stamp.signature
        sealed.stamped_by, sealed.since = name_of(authority.certificate), stamp.moment
        sealed.stamp_known_by = known.root_of(authority.certificate, authority.others, stamp.moment)
        ends = authority.certificate.not_valid_after_utc
        sealed.until = max([ends, *(end for at, end in until(place.list + STAMP) if at <= ends)])
    verification.seals.append(sealed)


def _renewed_until(root: OutputFolder, verification: Verification) -> Callable[[str], list[tuple[datetime, datetime]]]:
    """For each file, when it was stamped once more, and until when that is proved; a chain counts to its end."""
    spans: dict[str, list[tuple[datetime, datetime]]] = {}
    for place in _places(root):
        if not place.list.endswith(RENEWED):
            continue
        stamp = place.stamp()
        verification.findings += place.findings
        if not root.taken(place.list):
            verification.add(place.list, "missing", "the list of stamps is gone")
        elif stamp is None and not place.findings:
            verification.add(place.list, "altered", "its stamp is gone")
        if stamp is None or not root.taken(place.list):
            continue
        with root.reader(place.list) as file:
            lines = file.read(_MOST_LINES).decode("utf-8", "replace").splitlines()
        for line in lines:
            match = _LINE.fullmatch(line)
            if match is None or not _is_inside(match[2]):
                continue
            path = match[2]
            current = root.digest(path, "sha512")
            if current is None and "/" in path:
                verification.add(path, "missing", "it was stamped, and is gone")
            elif current == match[1]:
                spans.setdefault(path, []).append((stamp.moment, stamp.signature.certificate.not_valid_after_utc))
            elif current is not None and path.startswith(f"{SEALS}/"):
                verification.add(path, "altered", "it is not as it was stamped")
    return lambda path: spans.get(path, [])


_HOW = """How to prove this folder without the program that made it

Take the office's root certificate from the office itself, and that of the authority that stamps from the
authority, not from this folder: root.pem and stamps-root.pem stand for them below.

The files are those of the list:

    {checks}
"""
_HOW_SEAL = """The list was sealed (CMS, RFC 5652):

    openssl cms -verify -binary -inform DER -in {seal} -content {list} \\
        -certfile {certificates} -CAfile root.pem -purpose any -out /dev/null

"""
_HOW_STAMP = """The list was there when it was stamped (RFC 3161):

    openssl ts -verify -data {list} -in {stamp} -untrusted {certificates} -CAfile stamps-root.pem

"""


def _helps(root: OutputFolder) -> dict[str, bytes]:
    """Certificates and the lines that prove, made from the seals that are there."""
    listed = "sha256sum --check --strict {}\n    ".format
    sealed = list_in(root)
    checks = "".join(map(listed, dict.fromkeys((sealed, MANIFEST)))).rstrip(" ")
    certificates, lines = dict[x509.Certificate, None](), [_HOW.format(checks=checks)]
    for place in _places(root):
        certificates |= dict.fromkeys(place.certificates())
        names = {"list": place.list, "seal": place.list + SEAL, "stamp": place.list + STAMP}
        for ending, text in ((SEAL, _HOW_SEAL), (STAMP, _HOW_STAMP)):
            if root.taken(place.list + ending):
                lines.append(text.format(certificates=CERTIFICATES, **names))
    pems = b"".join(certificate.public_bytes(Encoding.PEM) for certificate in certificates)
    return {CERTIFICATES: pems, HOW: "".join(lines).encode()}


def _named(root: OutputFolder) -> list[str]:
    """The seals and stamps that the lines beside them name."""
    if root.stamp(HOW) is None:
        return []
    with root.reader(HOW) as file:
        text = file.read(_MOST_LINES).decode("utf-8", "replace")
    return [path for path in dict.fromkeys(_SEAL_NAMES.findall(text)) if _is_inside(path)]


def _is_inside(path: str) -> bool:
    return not any(level in ("", ".", "..") for level in path.split("/"))


def _write_helps(root: OutputFolder) -> None:
    for path, content in _helps(root).items():
        if hashlib.sha256(content).hexdigest() != root.digest(path):
            root.write(path, content)


def _prove_helps(root: OutputFolder, verification: Verification) -> None:
    for path in _named(root):
        if not root.taken(path):
            verification.add(path, "missing", f"{HOW} names it")
    broken = any(finding.path.endswith((SEAL, STAMP)) for finding in verification.findings)
    for path, content in _helps(root).items():
        if not root.taken(path):
            verification.add(path, "missing", "it belongs to the seals")
        elif hashlib.sha256(content).hexdigest() != root.digest(path) and not broken:
            verification.add(path, "altered", "it does not go with the seals: one was altered or taken away")
