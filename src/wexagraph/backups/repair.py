"""Mending a backup: what verification has found damaged is made again, from what is whole here or from elsewhere."""

from __future__ import annotations

import contextlib
import hashlib
import shutil
import zlib
from collections.abc import Iterator
from pathlib import Path

from wexagraph.backups import bag
from wexagraph.backups.catalogue import Catalogue, CatalogueDamaged
from wexagraph.backups.encryption import Ask, is_locked
from wexagraph.backups.opening import open_backup
from wexagraph.backups.packing import pack
from wexagraph.backups.store import NewFile
from wexagraph.backups.verify import verify
from wexagraph.backups.volumes import Member, VolumeWriter, members, read_packed, salvage, unpacked
from wexagraph.errors import InUse, MessageError, TargetError
from wexagraph.files import create_private, open_regular
from wexagraph.output.folder import InTheWay, OutputFolder
from wexagraph.reports import Finding, Verification
from wexagraph.sources.base import Source

_MOST_FLIPS = 6_000


def repair(
    folder: Path, source: Source | None, other: Path | None, jobs: int = 1, ask: Ask | None = None
) -> Verification:
    """Verify a backup, and mend what is wrong with it: from `other`, a copy of the backup, or from a mailbox, `source`.

    A locked backup is mended from a copy only. A file that is foreign is left where it is. What could not be mended is
    named. Raises SourceError, TargetError, CallError.
    """
    verification = verify(folder, jobs=jobs)
    if verification.whole:
        return verification
    with OutputFolder(folder, private=True) as root:
        if root.take_lock() is not None:
            raise InUse(f"{folder} is in use: another run is writing to it. Wait for it to end.")
        return _repair(root, verification, source, other, jobs, ask)


def _repair(
    root: OutputFolder,
    verification: Verification,
    source: Source | None,
    other: Path | None,
    jobs: int,
    ask: Ask | None,
) -> Verification:
    folder = root.path
    payload = [f for f in verification.findings if f.path.startswith("data/") and f.state in ("altered", "missing")]
    try:
        manifest = _sound_manifest(root, verification)
        sound = not any(f.path in (bag.CATALOGUE, bag.SEALED_CATALOGUE) for f in verification.findings)
        catalogue = folder / bag.CATALOGUE if sound and not is_locked(folder) else None
        if other is not None and not is_locked(folder) and is_locked(other):
            other = None
        _key_again(root, other, verification)
        rescued = [(f, _mended(root, f, manifest, source, other, catalogue)) for f in payload]
        for finding, digest in rescued:
            if digest is None:
                verification.unrepaired.append(finding.path)
            else:
                manifest[finding.path] = digest
                verification.repaired.append(finding.path)
        _rewrite_tags(root, manifest, sound, ask)
    except InTheWay as error:
        raise TargetError(f"{error.strerror}.") from error
    except OSError as error:
        raise TargetError(f"{folder} can't be written to: {error.strerror or error}.") from error
    verification.repaired += [
        f.path for f in verification.findings if f not in payload and f.state in ("altered", "missing")
    ]
    again = verify(folder, jobs=jobs)
    again.repaired = sorted(verification.repaired)
    again.unrepaired = sorted({*verification.unrepaired, *(f.path for f in again.findings if f.state != "foreign")})
    again.repaired = [path for path in again.repaired if path not in again.unrepaired]
    return again


def _key_again(root: OutputFolder, other: Path | None, verification: Verification) -> None:
    """The key of a locked backup, from a copy: nothing else can tell it."""
    if other is not None and any(f.path == bag.KEY for f in verification.findings) and is_locked(other):
        with open_regular(other / bag.KEY) as file:
            root.write(bag.KEY, file.read(1 << 16))


def _sound_manifest(root: OutputFolder, verification: Verification) -> dict[str, str]:
    """The lines that the manifest should have: its own, or the catalogue's where it is damaged itself."""
    folder = root.path
    if not any(f.path == bag.MANIFEST for f in verification.findings):
        sums = bag.read_sums(folder / bag.MANIFEST)
        return dict(sums.digests) if sums is not None else {}
    known: dict[str, str] = {}
    if not any(f.path == bag.CATALOGUE for f in verification.findings) and not is_locked(folder):
        with contextlib.suppress(CatalogueDamaged), contextlib.closing(Catalogue(folder / bag.CATALOGUE)) as catalogue:
            known = catalogue.files()
    for place in (bag.VOLUMES, bag.RUNS):
        for name in root.names(place):
            known.setdefault(f"{place}/{name}", root.digest(f"{place}/{name}") or "")
    return known


def _mended(
    root: OutputFolder,
    finding: Finding,
    manifest: dict[str, str],
    source: Source | None,
    other: Path | None,
    catalogue: Path | None,
) -> str | None:
    """Mend a file below data/. Returns its digest now, or None where that is not possible."""
    wanted = manifest.get(finding.path, "")
    if not bag.is_ours(finding.path):
        return None
    if other is not None and bag.digest_of(other / finding.path) == wanted:
        waiting = root.stage("mending") / "file"
        with open_regular(other / finding.path) as reading, create_private(waiting) as writing:
            shutil.copyfileobj(reading, writing, 1 << 20)
        if bag.digest_of(waiting) == wanted:
            root.replace(waiting, finding.path)
            return wanted
    if finding.path.startswith(bag.VOLUMES):
        return None if is_locked(root.path) else _volume_again(root, finding, source)
    return _list_again(root, finding.path, wanted, catalogue)


def _volume_again(root: OutputFolder, finding: Finding, source: Source | None) -> str | None:
    """A volume from its own whole messages, each once, and the lost ones as the source has them."""
    path = root.path / finding.path
    waiting = root.stage("mending") / "volume.zip"
    writer, there = VolumeWriter(waiting), set[str]()
    for member, content, digest in _whole_entries(path):
        if digest not in there:
            there.add(digest)
            writer.add_raw(member, content)
    lost = {digest: name for digest, name in finding.messages if digest not in there}
    fetched = dict(_fetched(source, set(lost))) if source is not None and lost else {}
    if not fetched.keys() >= lost.keys():
        writer.abandon()
        return None
    for digest, name in sorted(lost.items(), key=lambda item: item[1]):
        writer.add(name, pack(fetched[digest]))
    made = writer.close()
    root.replace(waiting, finding.path)
    return made


def _whole_entries(path: Path) -> Iterator[tuple[Member, bytes, str]]:
    """The entries of a damaged volume whose messages are what they were, each with its packed content and the SHA-256
    of the message; found by the directory, else by walking through."""
    if not path.exists():
        return
    try:
        listed = members(path)
    except MessageError:
        with contextlib.suppress(MessageError):
            for member, content in salvage(path):
                if (entry := _whole(member, content, member.method)) is not None:
                    yield entry
        return
    with open_regular(path) as file:
        for member in listed:
            with contextlib.suppress(MessageError):
                content, method, _ = read_packed(file, member.offset, member.packed)
                if (entry := _whole(member, content, method)) is not None:
                    yield entry


def _whole(member: Member, content: bytes, method: int) -> tuple[Member, bytes, str] | None:
    """An entry as it is written anew, where its message is what it was; its CRC-32 is that of the message."""
    try:
        data = unpacked(content, method, member.size)
    except MessageError:
        return None
    digest = hashlib.sha256(data).hexdigest()
    if len(data) != member.size or digest[:12] not in member.name:
        return None
    entry = Member(member.name, 0, member.packed, member.size, method, zlib.crc32(data), member.stamp)
    return entry, content, digest


def _fetched(source: Source, wanted: set[str]) -> Iterator[tuple[str, bytes]]:
    """The messages of those digests that a source has."""
    from wexagraph.backups.source import BackupSource

    if isinstance(source, BackupSource):
        for digest in wanted:
            with contextlib.suppress(MessageError):
                yield digest, source.store.read(digest)
        return
    left = set(wanted)
    for name in source.folders():
        if not left:
            return
        for _, data in source.read_many(source.outline(name)):
            if isinstance(data, bytes) and (digest := hashlib.sha256(data).hexdigest()) in left:
                left.discard(digest)
                yield digest, data


def _list_again(root: OutputFolder, path: str, wanted: str, catalogue: Path | None) -> str | None:
    """A run list: from the copy in the catalogue, if that is whole, else by what its checksum proves."""
    content = None
    if catalogue is not None:
        with contextlib.suppress(CatalogueDamaged), contextlib.closing(Catalogue(catalogue)) as base:
            content = base.copy_of(path)
    if content is None or hashlib.sha256(content).hexdigest() != wanted:
        content = _unflipped(root.path / path, wanted)
    if content is None:
        return None
    root.write(path, content)
    return wanted


def _unflipped(path: Path, wanted: str) -> bytes | None:
    """A short file with one bit flipped: flipping each back in turn, its checksum proves which it was."""
    try:
        with open_regular(path) as file:
            content = bytearray(file.read(_MOST_FLIPS + 1))
    except OSError:
        return None
    for at in range(len(content) if len(content) <= _MOST_FLIPS else 0):
        for bit in range(8):
            content[at] ^= 1 << bit
            if hashlib.sha256(content).hexdigest() == wanted:
                return bytes(content)
            content[at] ^= 1 << bit
    return None


def _rewrite_tags(root: OutputFolder, manifest: dict[str, str], sound: bool, ask: Ask | None) -> None:
    """Write everything beside data/ anew, in the order of every change: the tag manifests go first and come last."""
    bag.keep_seals(root)
    for name in bag.TAG_MANIFESTS:
        root.unlink(name)
    for name, content in (
        (bag.MANIFEST, bag.sums_text(manifest)),
        (bag.BAGIT, bag.DECLARATION),
        (bag.README, bag.readme_text()),
    ):
        root.write(name, content)
    if not sound:
        for name in (bag.CATALOGUE, bag.SEALED_CATALOGUE):
            root.unlink(name)
    root.clear(f"{bag.OWN}/mending")
    root.close()  # the store takes the lock itself
    # where it disagrees with a mended volume, it is made again when the backup is opened
    with open_backup(root.path, writing=True, ask=ask) as store:
        store.untouched = False
        store.commit(list[NewFile]())
