"""Opening the catalogue of a backup, and making it again from volumes and run lists where it is missing or behind."""

from __future__ import annotations

import contextlib
import hashlib
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

from wexagraph.backups import bag, runlists
from wexagraph.backups.catalogue import Catalogue, CatalogueDamaged
from wexagraph.backups.packing import Packed, describe
from wexagraph.backups.runlists import FolderChange, Holding, RunList
from wexagraph.backups.volumes import Member, members, read_packed, unpacked
from wexagraph.errors import MessageError
from wexagraph.files import open_regular
from wexagraph.temporary import TemporaryFolder

if TYPE_CHECKING:
    from wexagraph.backups.store import Store


def open_catalogue(store: Store) -> Catalogue:
    """The catalogue of a backup that is being opened, up to date with its manifest."""
    path = store.folder / bag.CATALOGUE
    if store.vault.locked:
        path = store.vault.folder / bag.CATALOGUE
        with contextlib.suppress(MessageError):
            shutil.copyfile(store.vault.plain(store.folder / bag.SEALED_CATALOGUE), path)
    if store.writing or path.exists():
        with contextlib.suppress(CatalogueDamaged):
            catalogue = Catalogue(path, store.writing)
            try:
                if not _is_behind(store, catalogue):
                    return catalogue
            except CatalogueDamaged:
                pass
            catalogue.close()
    if store.writing:
        return _made_again(store, path)
    # what is only read may lie where nothing can be written
    store.elsewhere = TemporaryFolder()
    _made_again(store, store.elsewhere.path / bag.CATALOGUE).close()
    return Catalogue(store.elsewhere.path / bag.CATALOGUE)


def _is_behind(store: Store, catalogue: Catalogue) -> bool:
    """Whether the manifest has what the catalogue has not, but for runs in which nothing changed."""
    taken = catalogue.files()
    if bag.volumes_of(store.manifest.keys() - taken.keys()):
        return True
    for path in bag.runs_of(store.manifest.keys() - taken.keys()):
        try:
            found = runlists.read(store.plain(path))
        except MessageError:
            continue  # verify names it
        if not found.is_quiet:
            return True
        store.quiet.append(found)
    return any(store.manifest.get(path) != digest for path, digest in taken.items())


def _made_again(store: Store, path: Path) -> Catalogue:
    """A new catalogue from volumes and run lists. What is damaged in them is left out."""
    path.unlink(missing_ok=True)
    path.with_name(path.name + "-journal").unlink(missing_ok=True)
    store.tell("making the catalogue again")
    store.untouched = False
    store.quiet = []
    catalogue = Catalogue(path, writing=True)
    for name in bag.volumes_of(store.manifest):
        with contextlib.suppress(MessageError):
            for member, packed in described(store.plain(name)):
                if not catalogue.has(packed.digest):
                    catalogue.add_message(packed, bag.volume_number(name), member)
        _take_file(store, catalogue, name)
    last: RunList | None = None
    for name in bag.runs_of(store.manifest):
        with contextlib.suppress(MessageError):
            found = runlists.read(store.plain(name))
            found.head["run"] = bag.run_of(name)
            if found.unreadable:
                store.tell(f"{name}: {len(found.unreadable)} lines can't be read; the volumes have what they told of")
            last = found
            if found.is_quiet:
                store.quiet.append(found)
                continue
            catalogue.take_run(found)
        _take_file(store, catalogue, name)
    if last is not None:
        _place_orphans(catalogue, last)
    catalogue.commit()
    return catalogue


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


def _take_file(store: Store, catalogue: Catalogue, path: str) -> None:
    with contextlib.suppress(OSError, MessageError):
        catalogue.take_file(path, store.manifest[path], store.plain(path))


def described(path: Path) -> Iterator[tuple[Member, Packed]]:
    """The messages of a volume, read anew, as a run has them in hand; those that are damaged are left out.

    Raises MessageError where the volume can't be read at all.
    """
    listed = members(path)
    with _regular(path) as file:
        for member in listed:
            with contextlib.suppress(MessageError):
                content, method = read_packed(file, member.offset, member.packed)
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
