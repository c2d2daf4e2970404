"""Opening the catalogue of a backup, and making it again from volumes and run lists where it is missing or behind."""

from __future__ import annotations

import contextlib
import hashlib
import shutil
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO

from wexagraph.backups import bag, runlists
from wexagraph.backups.catalogue import Catalogue, CatalogueDamaged
from wexagraph.backups.packing import Packed, describe
from wexagraph.backups.place import BackupFolder
from wexagraph.backups.runlists import FolderChange, Holding, RunList
from wexagraph.backups.volumes import Member, members, read_packed, unpacked
from wexagraph.errors import MessageError
from wexagraph.files import open_regular
from wexagraph.temporary import TemporaryFolder


@dataclass
class Index:
    """The catalogue of a backup, up to date with its manifest.

    `quiet` are the runs in which nothing changed, which it does not hold. It is `untouched` while it is as it lay
    there. `elsewhere` holds it where it could not be written beside the volumes.
    """

    catalogue: Catalogue
    quiet: list[RunList] = field(default_factory=list)
    untouched: bool = True
    elsewhere: TemporaryFolder | None = None

    def close(self) -> None:
        """Give it free."""
        self.catalogue.close()
        if self.elsewhere is not None:
            self.elsewhere.close()


def open_index(place: BackupFolder) -> Index:
    """The catalogue of a backup, made again where it is missing, damaged or behind."""
    path = place.path / bag.CATALOGUE
    if place.encryption.locked:
        path = place.encryption.folder / bag.CATALOGUE
        with contextlib.suppress(MessageError):
            shutil.copyfile(place.encryption.plain(place.path / bag.SEALED_CATALOGUE), path)
    if place.writing or path.exists():
        with contextlib.suppress(CatalogueDamaged):
            catalogue = Catalogue(path, place.writing)
            try:
                quiet = _quiet_runs(place, catalogue)
                if quiet is not None:
                    return Index(catalogue, quiet)
            except CatalogueDamaged:
                pass
            catalogue.close()
    if place.writing:
        return _made_again(place, path)
    # what is only read may lie where nothing can be written
    elsewhere = TemporaryFolder()
    made = _made_again(place, elsewhere.path / bag.CATALOGUE)
    made.close()
    return Index(Catalogue(elsewhere.path / bag.CATALOGUE), made.quiet, False, elsewhere)


def _quiet_runs(place: BackupFolder, catalogue: Catalogue) -> list[RunList] | None:
    """The runs that the manifest has and the catalogue has not, since nothing changed in them; None where it lacks
    anything else."""
    taken = catalogue.files()
    if bag.volumes_of(place.manifest.keys() - taken.keys()):
        return None
    quiet = []
    for path in bag.runs_of(place.manifest.keys() - taken.keys()):
        try:
            run = runlists.read(place.plain(path))
        except MessageError:
            continue  # verify names it
        if not run.is_quiet:
            return None
        quiet.append(run)
    return None if any(place.manifest.get(path) != digest for path, digest in taken.items()) else quiet


def _made_again(place: BackupFolder, path: Path) -> Index:
    """A new catalogue from volumes and run lists. What is damaged in them is left out."""
    path.unlink(missing_ok=True)
    path.with_name(path.name + "-journal").unlink(missing_ok=True)
    place.tell("making the catalogue again")
    catalogue, quiet = Catalogue(path, writing=True), list[RunList]()
    for name in bag.volumes_of(place.manifest):
        with contextlib.suppress(MessageError):
            for member, packed in described(place.plain(name)):
                if not catalogue.has(packed.digest):
                    catalogue.add_message(packed, bag.volume_number(name), member)
        _take_file(place, catalogue, name)
    last: RunList | None = None
    for name in bag.runs_of(place.manifest):
        with contextlib.suppress(MessageError):
            run = runlists.read(place.plain(name))
            run.head["run"] = bag.run_of(name)
            if run.unreadable:
                place.tell(f"{name}: {len(run.unreadable)} lines can't be read; the volumes have what they told of")
            last = run
            if run.is_quiet:
                quiet.append(run)
                continue
            catalogue.take_run(run)
        _take_file(place, catalogue, name)
    if last is not None:
        _place_orphans(catalogue, last)
    catalogue.commit()
    return Index(catalogue, quiet, False)


def _place_orphans(catalogue: Catalogue, last: RunList) -> None:
    """Messages that no line tells of any more lie in the folder under whose name they were stored."""
    changes: dict[str, FolderChange] = {}
    for digest, member in catalogue.orphans():
        folder = member.rpartition("/")[0] or "found in the volumes"
        change = changes.setdefault(folder, FolderChange(folder, "", last.head["run"]))
        change.present.append(Holding(folder, f"volume {digest[:20]}", "", digest, 0))
    if changes:
        run = int(catalogue.runs()[-1]["number"])
        for change in changes.values():
            catalogue.take_folder(run, last.head["source"], last.head["run"], change)


def _take_file(place: BackupFolder, catalogue: Catalogue, path: str) -> None:
    with contextlib.suppress(OSError, MessageError):
        catalogue.take_file(path, place.manifest[path], place.plain(path))


def described(path: Path) -> Iterator[tuple[Member, Packed]]:
    """The messages of a volume, read anew, as a run has them in hand; those that are damaged are left out.

    Raises MessageError where the volume can't be read at all.
    """
    listed = members(path)
    with _regular(path) as file:
        for member in listed:
            with contextlib.suppress(MessageError):
                content, method, _ = read_packed(file, member.offset, member.packed)
                packed = repacked(member, content, method)
                if packed is not None:
                    yield member, packed


def _regular(path: Path) -> BinaryIO:
    try:
        return open_regular(path)
    except OSError as error:
        raise MessageError(f"{path} can't be read: {error.strerror or error}") from error


def repacked(member: Member, content: bytes, method: int) -> Packed | None:
    """An entry of a volume as a run has its message in hand; None where its bytes do not come out whole."""
    try:
        data = unpacked(content, method, member.size)
    except MessageError:
        return None
    if len(data) != member.size:
        return None
    digest = hashlib.sha256(data).digest()
    return Packed(digest, len(data), member.crc, method, content, *describe(data))
