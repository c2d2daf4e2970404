"""Proving a backup: every checksum, and with `deep` every message, every line of the lists and the catalogue."""

from __future__ import annotations

import hashlib
import os
import zlib
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

from wexagraph.backups import bag, runlists
from wexagraph.backups.catalogue import Catalogue, CatalogueDamaged
from wexagraph.backups.encryption import Ask, Encryption, is_locked, unlock
from wexagraph.backups.volumes import Member, members, read_packed, unpacked
from wexagraph.errors import MessageError, SourceError
from wexagraph.files import open_regular
from wexagraph.naming.paths import SEALS
from wexagraph.output.folder import OutputFolder
from wexagraph.reports import Verification
from wexagraph.work.pool import ProcessWorkers

if TYPE_CHECKING:
    from wexagraph.protection.certificates import Known

_AT_ONCE = 1000


def verify(
    folder: str | Path,
    deep: bool = False,
    jobs: int = 1,
    progress: Callable[[int], None] | None = None,
    ask: Ask | None = None,
    known: Known | None = None,
) -> Verification:
    """Compare a backup with its checksums, and prove its seals by certificates that are `known`. Nothing is changed.
    `progress` is told how many bytes were read.

    Of a locked one, only `deep` needs the passphrase, which `ask` gives. Raises SourceError where no backup lies there,
    CallError.
    """
    root = Path(folder)
    if not (root / "data").is_dir() and not (root / bag.BAGIT).exists():
        raise SourceError(f"{root} is not a backup. `wexagraph backup SOURCE --into {root}` makes one.")
    verification = Verification(str(root), deep=deep)
    with unlock(root, ask) if deep or not is_locked(root) else Encryption() as encryption:
        check = _Check(root, verification, progress or (lambda _: None), encryption)
        check.tags()
        check.payload()
        check.seals(known)
        if deep:
            check.deep(jobs)
        if encryption.locked or not is_locked(root):
            check.take_along()
    return verification


class _Check:
    def __init__(
        self, root: Path, verification: Verification, tell: Callable[[int], None], encryption: Encryption
    ) -> None:
        self.root, self.verification, self.tell, self.encryption = root, verification, tell, encryption
        self.manifest: dict[str, str] = {}
        self.catalogue: Catalogue | None = None

    def seals(self, known: Known | None) -> None:
        """What the backup was sealed with."""
        with OutputFolder(self.root, make=False) as root:
            if bag.is_sealed(root):
                from wexagraph.protection.certificates import Known
                from wexagraph.seals.sealing import prove

                prove(root, known or Known(), self.verification)

    # the files beside data/

    def tags(self) -> None:
        """The tag files against both tag manifests. One manifest alone that differs is itself the damaged one."""
        sums = {}
        for name in bag.TAG_MANIFESTS:
            read = bag.read_sums(self.root / name)
            if read is not None:
                sums[name] = read
        agree = {name: self._agreeing(name, read.digests) for name, read in sums.items()}
        for path in bag.TAG_FILES:
            states = [agreeing[path] for agreeing in agree.values() if path in agreeing]
            if not (self.root / path).exists():
                if path not in bag.PERHAPS or any(path in read.digests for read in sums.values()):
                    self.verification.add(path, "missing")
            elif states and not any(states):
                self.verification.add(path, "altered", "its checksum is another")
            self.verification.files += (self.root / path).exists()
        damaged = {finding.path for finding in self.verification.findings}
        for name, read in sums.items():
            wrong = [path for path, good in agree[name].items() if not good and path not in damaged]
            strange = read.digests.keys() - set(bag.TAG_FILES)
            if wrong or strange or read.unreadable or (len(sums) == 2 and read.digests.keys() != set(agree[name])):
                self.verification.add(name, "altered", "it does not agree with the files that it lists")
            self.verification.files += 1
        if len(sums) < len(bag.TAG_MANIFESTS) and self._finished():
            self.verification.left.append("a tag manifest was not yet written by a run that was stopped")
        self._short_lists(sums)

    def _short_lists(self, sums: dict[str, bag.Sums]) -> None:
        """A line that a flipped bit has renamed is missing in one of the two lists."""
        if len(sums) < 2:
            return
        known = {name: read.digests.keys() & set(bag.TAG_FILES) for name, read in sums.items()}
        every = set().union(*known.values())
        for name, paths in known.items():
            if paths != every:
                self.verification.add(name, "altered", "a line of it is missing")

    def _finished(self) -> bool:
        sums = bag.read_sums(self.root / bag.MANIFEST)
        return sums is not None and bool(sums.digests)

    def _agreeing(self, name: str, digests: dict[str, str]) -> dict[str, bool]:
        kind = bag.TAG_MANIFESTS[name]
        return {
            path: bag.digest_of(self.root / path, kind) == digest
            for path, digest in digests.items()
            if path in bag.TAG_FILES
        }

    def _is(self, path: str, *states: str) -> bool:
        return any(finding.path == path and finding.state in states for finding in self.verification.findings)

    # what is below data/

    def payload(self) -> None:
        """The files below data/ against the manifest; where that is damaged, against what the catalogue has of it."""
        sums = bag.read_sums(self.root / bag.MANIFEST)
        self.manifest = sums.digests if sums is not None else {}
        self.catalogue = self._catalogue()
        if self._is(bag.MANIFEST, "altered", "missing"):
            self.manifest = self._manifest_from_elsewhere()
        elif sums is not None and sums.unreadable:
            self.verification.add(bag.MANIFEST, "altered", "a line of it can't be read")
        done = 0
        with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
            states = pool.map(lambda item: self._state(*item), sorted(self.manifest.items()))
            for path, (state, size) in zip(sorted(self.manifest), states, strict=True):
                self.verification.files += 1
                self.verification.bytes += size
                done += size
                self.tell(done)
                if state:
                    self.verification.add(path, state, "its checksum is another" if state == "altered" else "")
        self._foreign()

    def _catalogue(self) -> Catalogue | None:
        if self._is(bag.CATALOGUE, "altered", "missing") or self._is(bag.SEALED_CATALOGUE, "altered", "missing"):
            return None
        if is_locked(self.root) and not self.encryption.locked:
            return None
        try:
            place = bag.SEALED_CATALOGUE if self.encryption.locked else bag.CATALOGUE
            return Catalogue(self.encryption.plain(self.root / place))
        except (CatalogueDamaged, MessageError):
            return None

    def _manifest_from_elsewhere(self) -> dict[str, str]:
        """The manifest's lines as they have to be: those of the catalogue, and of the damaged one where they fit."""
        known = self.catalogue.files() if self.catalogue is not None else {}
        for path in self._below_data():
            known.setdefault(path, bag.digest_of(self.root / path) or "")
        return known

    def _state(self, path: str, digest: str) -> tuple[str, int]:
        place = self.root / path
        try:
            size = place.lstat().st_size
        except OSError:
            return "missing", 0
        return ("" if bag.digest_of(place) == digest else "altered"), size

    def _below_data(self) -> list[str]:
        paths = []
        for folder, _, names in os.walk(self.root / "data"):
            paths += [f"{Path(folder).relative_to(self.root).as_posix()}/{name}" for name in names]
        return sorted(paths)

    def _foreign(self) -> None:
        for path in self._below_data():
            if path in self.manifest:
                continue
            if bag.is_ours(path) and not (self.root / next(iter(bag.TAG_MANIFESTS))).exists():
                self.verification.left.append(path)
            else:
                self.verification.add(path, "foreign")
        own = {*bag.TAG_FILES, *bag.TAG_MANIFESTS, "data", bag.OWN, bag.CATALOGUE + "-journal"}
        with OutputFolder(self.root, make=False) as root:
            seals = bag.seals_in(root)
            inner = list(root.files(SEALS)) if root.taken(SEALS) else []
        for entry in [*sorted({*os.listdir(self.root)} - {SEALS}), *inner]:
            if entry not in own and entry not in seals:
                self.verification.add(entry, "foreign")

    # messages

    def deep(self, jobs: int) -> None:
        """Unpack and digest every message, resolve every line of the lists, compare the catalogue."""
        held: dict[str, str] = {}
        volumes = bag.volumes_of(self.manifest)
        for path, digest, _, reason in _all_members(self._opened(volumes), jobs):
            if reason:
                self.verification.add(path, "altered", reason)
            else:
                held[digest] = path
        self.verification.messages = len(held)
        for path in bag.runs_of(self.manifest):
            try:
                run = runlists.read(self.encryption.plain(self.root / path))
            except MessageError as error:
                self.verification.add(path, "altered", str(error))
                continue
            if not run.is_whole:
                self.verification.add(path, "altered", "it is not whole")
                continue
            lost = sum(h.digest not in held for change in run.folders for h in change.present)
            if lost and self._all_volumes_whole():
                self.verification.add(path, "altered", f"{lost} of its messages are in no volume")
        if self.catalogue is not None and self._all_volumes_whole():
            self._compare_catalogue(self.catalogue, held)

    def _opened(self, paths: list[str]) -> dict[str, Path]:
        """Where files can be read as they are; one that can't be opened is named, and stays where it is."""
        volumes = {}
        for path in paths:
            try:
                volumes[path] = self.encryption.plain(self.root / path)
            except MessageError as error:
                self.verification.add(path, "altered", str(error))
                volumes[path] = self.root / path
        return volumes

    def _all_volumes_whole(self) -> bool:
        return not any(finding.path.startswith(bag.VOLUMES) for finding in self.verification.findings)

    def _compare_catalogue(self, catalogue: Catalogue, held: dict[str, str]) -> None:
        try:
            if self.verification.left and catalogue.files() != self.manifest:
                self.verification.left.append("the catalogue is behind, since a run was stopped")
                return
            known = catalogue.digests()
            good = catalogue.is_sound() and known == {d: bag.volume_number(path) for d, path in held.items()}
        except CatalogueDamaged:
            good = False
        if not good:
            place = bag.SEALED_CATALOGUE if self.encryption.locked else bag.CATALOGUE
            self.verification.add(place, "altered", "it does not agree with the volumes")

    def take_along(self) -> None:
        """Name the messages that a damaged or missing volume takes along."""
        for finding in self.verification.findings:
            if not (finding.path.startswith(bag.VOLUMES) and bag.is_ours(finding.path)) or finding.state == "foreign":
                continue
            whole = {
                d
                for _, d, _, reason in _members_of(finding.path, self._opened([finding.path])[finding.path])
                if not reason
            }
            expected = self._expected(bag.volume_number(finding.path))
            finding.messages = sorted((d, name) for d, name in expected.items() if d not in whole)

    def _expected(self, volume: int) -> dict[str, str]:
        members: dict[str, str] = {}
        if self.catalogue is not None:
            members = {stored.digest: stored.member for stored in self.catalogue.in_volume(volume)}
        if members:
            return members
        prefix = bag.volume_path(volume) + ":"
        for path in bag.runs_of(self.manifest):
            try:
                for value in runlists.values(self.encryption.plain(self.root / path)):
                    if str(value.get("member", "")).startswith(prefix):
                        members[str(value["message"])] = str(value["member"]).removeprefix(prefix)
            except MessageError:
                continue
        return members


def _all_members(volumes: dict[str, Path], jobs: int) -> Iterator[tuple[str, str, str, str]]:
    """Path, digest, name and what is wrong, of every message; many at a time in workers."""
    pieces: list[tuple[str, Path, list[Member]]] = []
    for path, plain in volumes.items():
        try:
            listed = members(plain)
        except MessageError as error:
            yield path, "", "", str(error)
            continue
        pieces += [(path, plain, listed[at : at + _AT_ONCE]) for at in range(0, len(listed), _AT_ONCE)]
    if jobs < 2 or len(pieces) < 2:
        for piece in pieces:
            yield from _members_of(*piece)
        return
    with ProcessWorkers(jobs, 600) as pool:
        futures: list[Future[list[tuple[str, str, str, str]]]] = [
            pool.submit_lasting(_members_of, *piece) for piece in pieces
        ]
        for future in futures:
            yield from future.result()


def _members_of(path: str, plain: Path, listed: list[Member] | None = None) -> list[tuple[str, str, str, str]]:
    """The same for some members of a volume, or all; runs in a worker."""
    named = []
    try:
        if listed is None:
            listed = members(plain)
        with open_regular(plain) as file:
            for member in listed:
                digest, reason = _prove(file, member)
                named.append((path, digest, member.name, reason))
    except (MessageError, OSError) as error:
        named.append((path, "", "", str(error)))
    return named


def _prove(file: BinaryIO, member: Member) -> tuple[str, str]:
    try:
        content, method, crc = read_packed(file, member.offset, member.packed)
        data = unpacked(content, method, member.size)
    except MessageError as error:
        return "", f"{member.name}: {error}"
    if {crc, member.crc} != {zlib.crc32(data)}:
        return "", f"{member.name}: its CRC-32 is another, so that other programs call it damaged"
    digest = hashlib.sha256(data).hexdigest()
    if len(data) != member.size or digest[:12] not in member.name:
        return "", f"{member.name}: its bytes are not those that were stored"
    return digest, ""
