"""A backup on a disk: opened, locked, completed where a run was killed, and changed in one order only.

What a run has made waits below `.wexagraph`. To end, it is moved below `data/`, the manifest is replaced, the catalogue
is committed, and the tag manifests, which were taken away before, are written: at every instant the bag is whole, or
holds files that no list has yet, which the next run takes in.
"""

from __future__ import annotations

import hashlib
import shutil
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from wexagraph.backups import bag
from wexagraph.backups.completing import complete
from wexagraph.backups.indexing import open_catalogue
from wexagraph.backups.runlists import RunList
from wexagraph.backups.vault import Ask, Vault, is_locked, new_lock, unlock
from wexagraph.backups.volumes import read_packed, unpacked
from wexagraph.errors import CallError, MessageError, SourceError, TargetError
from wexagraph.files import open_regular
from wexagraph.output.folder import FULL, InTheWay, OutputFolder
from wexagraph.temporary import TemporaryFolder

_FULL = "no space is left for {folder}. The backup is whole as it was; free some space and run the same command again."


@dataclass(frozen=True)
class NewFile:
    """A file that is ready to become a part of the backup: where it waits, where it goes, its digest and size."""

    waiting: Path
    path: str
    digest: str
    size: int


class Store:
    """A backup, open for reading, or, held by this process alone, for writing. Use it as a context manager.

    `ask` gives the passphrase of one that is locked; `locked` makes a new one such.

    Raises SourceError where no backup lies there, TargetError where it can't be written to.
    """

    def __init__(
        self,
        folder: Path,
        writing: bool = False,
        tell: Callable[[str], None] | None = None,
        ask: Ask | None = None,
        locked: bool = False,
    ) -> None:
        self.folder, self.writing = folder, writing
        self.staged = folder / bag.OWN / "staged"
        self.vault = Vault()
        self.tell = tell or (lambda _: None)
        self.elsewhere: TemporaryFolder | None = None
        self.untouched = True
        self.lost: tuple[str, ...] = ()
        self.lost_quiet: tuple[str, ...] = ()
        self.root: OutputFolder
        if writing:
            self._prepare(ask, locked)
        elif not bag.is_backup(folder):
            raise SourceError(f"{folder} is no backup. `wexagraph backup SOURCE --into {folder}` makes one.")
        else:
            self.root = OutputFolder(folder, make=False)
        try:
            self._refuse_links()
            if not self.vault.locked:
                self.vault = unlock(folder, ask)
            if self.vault.locked:
                self.staged = self.vault.folder / "staged"  # nothing of it lies open beside the backup
                self.staged.mkdir(exist_ok=True)
            self.manifest = self._manifest()
            self.quiet: list[RunList] = []
            self.catalogue = open_catalogue(self)
            if writing:
                complete(self)
                self.lost = self._lost_volumes()
        except OSError as error:
            self.close()
            raise self.failed(error) from error
        except BaseException:
            self.close()
            raise

    def __enter__(self) -> Store:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Give the backup free; what was not committed waits for the next run."""
        if hasattr(self, "catalogue"):
            self.catalogue.close()
        if self.elsewhere is not None:
            self.elsewhere.close()
        self.vault.close()
        if hasattr(self, "root"):
            self.root.close()

    # opening

    def _prepare(self, ask: Ask | None, locked: bool) -> None:
        folder = self.folder
        if locked and bag.is_backup(folder) and not is_locked(folder):
            raise CallError(f"{folder} is a backup that is not locked, and can't become one. Choose another folder.")
        try:
            if folder.exists() and not folder.is_dir():
                raise TargetError(f"{folder} is a file. A backup needs a folder, or a name that is still free.")
            if (
                folder.is_dir()
                and any(folder.iterdir())
                and not (folder / bag.OWN).is_dir()
                and not bag.is_backup(folder)
            ):
                raise TargetError(f"{folder} holds something else. Choose an empty folder, or one that holds a backup.")
            if (folder / bag.OWN / "journal.sqlite").exists() or (folder / bag.OWN / "attachments.sqlite").exists():
                raise TargetError(f"{folder} holds an export. Choose another folder for a backup.")
            self.root = OutputFolder(folder, private=True)
            if self.root.take_lock() is not None:
                raise TargetError(f"{folder} is in use: another run is writing to it. Wait for it to end.")
            for place in (f"{bag.OWN}/staged", bag.VOLUMES, bag.RUNS):
                self.root.make_folder(place)
            first = ((bag.MANIFEST, b""), (bag.INFO, bag.info_text([], 0, 0, "")), (bag.README, bag.readme_text()),
                     (bag.BAGIT, bag.DECLARATION))  # fmt: skip
            if locked and not bag.is_backup(folder) and not is_locked(folder):
                sealed, self.vault = new_lock(ask)
                self.replace(bag.KEY, sealed)
            for name, content in first:
                if not (folder / name).exists():
                    self.replace(name, content)
        except OSError as error:
            self.close()
            raise self.failed(error) from error
        except (TargetError, CallError):
            self.close()
            raise

    def _refuse_links(self) -> None:
        """A link in place of one of its folders leads elsewhere. Raises InTheWay."""
        for place in (bag.VOLUMES, bag.RUNS):
            self.root.names(place)

    def _lost_volumes(self) -> tuple[str, ...]:
        """The volumes that are missing, or not what they were: what they held has to be stored again."""
        lost = []
        for path in bag.volumes_of(self.manifest):
            stamp = self.root.stamp(path)
            if stamp is not None and stamp == self.catalogue.seen_whole(path):
                continue
            if stamp is None or self.root.digest(path) != self.manifest[path]:
                lost.append(path)
            else:
                self.untouched = False
                self.catalogue.see_whole(path, stamp)
        self.catalogue.lose(map(bag.volume_number, lost))
        self.lost_quiet = self._write_lists_again()
        return tuple(lost)

    def _write_lists_again(self) -> tuple[str, ...]:
        """Write run lists that are missing again from the catalogue. Returns those that it never had: nothing changed
        in them, so that they tell no more than that there was a run."""
        known, quiet = self.catalogue.files(), []
        for path in bag.runs_of(self.manifest):
            if self.root.taken(path):
                continue
            copy = self.catalogue.copy_of(path)
            if copy is not None and hashlib.sha256(copy).hexdigest() == self.manifest[path]:
                self.root.write(path, copy)
                self.tell(f"{path} was missing; it was written again from the catalogue")
            elif path not in known:
                quiet.append(path)
                self.tell(f"{path} is missing; it told of a run in which nothing had changed")
        return tuple(quiet)

    def failed(self, error: OSError) -> TargetError:
        """The error for a person, of something that went wrong when writing."""
        if isinstance(error, InTheWay):
            return TargetError(f"{error.strerror}.")
        if error.errno in FULL:
            return TargetError(_FULL.format(folder=self.folder))
        if not self.folder.exists():
            return TargetError(
                f"{self.folder} has gone while it was written to. Bring it back and run the command again."
            )
        return TargetError(f"{self.folder} can't be written to: {error.strerror or error}. Check the disk.")

    def _manifest(self) -> dict[str, str]:
        """The lines of the manifest. To be written to, it has to be the one that the tag manifests know: a run on a
        damaged one would make the damage look right."""
        try:
            sums = bag.read_sums(self.folder / bag.MANIFEST)
            told = [read.digests.get(bag.MANIFEST) == bag.digest_of(self.folder / bag.MANIFEST, kind)
                    for name, kind in bag.TAG_MANIFESTS.items()
                    if self.writing and (read := bag.read_sums(self.folder / name)) is not None]  # fmt: skip
        except OSError as error:
            raise SourceError(f"{self.folder / bag.MANIFEST} can't be read: {error.strerror}.") from error
        if told and not any(told):
            raise TargetError(
                f"{self.folder / bag.MANIFEST} was damaged, so nothing is written to this backup. "
                f"`wexagraph verify {self.folder} --repair SOURCE` mends it."
            )
        return sums.digests if sums is not None else {}

    # names

    def plain(self, path: str) -> Path:
        """Where a file of the backup can be read as it is. Raises MessageError, OSError."""
        return self.vault.plain(self.folder / path)

    def ready(self, waiting: Path, path: str, digest: str = "") -> NewFile:
        """A file that is written, as it goes into the backup: sealed, where that is locked. Raises OSError."""
        if self.vault.locked:
            place = self.folder / bag.OWN / "staged"
            self.root.make_folder(f"{bag.OWN}/staged")
            sealed = place / path.replace("/", " ")
            self.vault.seal(waiting, sealed)
            waiting.unlink()
            waiting, digest = sealed, ""
        return NewFile(
            waiting, path + self.vault.suffix, digest or bag.digest_of(waiting) or "", waiting.stat().st_size
        )

    def next_volume(self) -> int:
        """The number of the next volume."""
        return max(map(bag.volume_number, bag.volumes_of(self.manifest)), default=0) + 1

    def runs(self) -> list[str]:
        """The names of all runs, first to last."""
        return [bag.run_of(path) for path in bag.runs_of(self.manifest)]

    def free_run(self, wanted: str) -> str:
        """A name for a run, later than all others even where the clock was set back."""
        from datetime import timedelta

        last = max(self.runs(), default="")
        if wanted > last:
            return wanted
        return bag.run_name(bag.run_moment(last) + timedelta(seconds=1))

    # changing

    def replace(self, name: str, content: bytes) -> None:
        """Write a file beside data/ anew, whole or not at all. Raises OSError."""
        self.root.write(name, content)

    def commit(self, new: list[NewFile], without: tuple[str, ...] = ()) -> None:
        """Make new files a part of the backup, and (after a join) `without` some that they stand for.

        Raises TargetError; whatever fails, the backup is whole.
        """
        try:
            known = self._known_tags()
            for name in bag.TAG_MANIFESTS:
                self.root.unlink(name)
            for one in new:
                self.root.replace(one.waiting, one.path)
                self.vault.forget(self.folder / one.path)
            self.root.sync()
            manifest = {path: digest for path, digest in self.manifest.items() if path not in without}
            manifest |= {one.path: one.digest for one in new}
            self.replace(bag.MANIFEST, bag.sums_text(manifest))
            self.manifest = manifest
            self._write_info()
            if not self.untouched:
                for one in new:
                    self.catalogue.take_file(one.path, one.digest, self.plain(one.path))
                    if stamp := self.root.stamp(one.path):
                        self.catalogue.see_whole(one.path, stamp)
                for path in without:
                    self.catalogue.forget_file(path)
                self.catalogue.commit()
                if self.vault.locked:
                    self._seal_catalogue()
            if without:
                self.root.sync()  # what stands for them is listed before they go
            for path in without:
                self.root.unlink(path)
            # last: until they are there, a file that no list has is one that a killed run has left, not a foreign one
            self._write_tags(known)
            self.root.stage("staged")
            if self.vault.locked:
                shutil.rmtree(self.staged, ignore_errors=True)
                self.staged.mkdir()
            self.root.sync()
        except OSError as error:
            raise self.failed(error) from error

    def _seal_catalogue(self) -> None:
        waiting = self.root.stage("sealing") / bag.SEALED_CATALOGUE
        self.vault.seal(self.catalogue.path, waiting)
        self.root.replace(waiting, bag.SEALED_CATALOGUE)
        self.root.clear(f"{bag.OWN}/sealing")
        self.vault.forget(self.folder / bag.SEALED_CATALOGUE)

    def _known_tags(self) -> dict[str, dict[str, str]]:
        """The digests of the catalogue that the tag manifests have, where it is not touched: it is large."""
        if not self.untouched:
            return {}
        found: dict[str, dict[str, str]] = {}
        for name in bag.TAG_MANIFESTS:
            sums = bag.read_sums(self.folder / name)
            if sums is not None:
                found[name] = {path: sums.digests[path] for path in (bag.CATALOGUE, bag.SEALED_CATALOGUE)
                               if path in sums.digests}  # fmt: skip
        return found

    def _write_info(self) -> None:
        total = 0
        for path in self.manifest:
            total += (self.root.stamp(path) or (0, 0))[0]
        sources = sorted({str(run["source"]) for run in self.all_runs() if run["source"] and not self.vault.locked})
        last = max(self.runs(), default="")
        self.replace(bag.INFO, bag.info_text(sources, total, len(self.manifest), last))

    def _write_tags(self, known: dict[str, dict[str, str]]) -> None:
        with ThreadPoolExecutor(2) as pool:
            for name, lines in zip(bag.TAG_MANIFESTS, pool.map(self._tag_sums, bag.TAG_MANIFESTS.items(), [known] * 2),
                                   strict=True):  # fmt: skip
                self.replace(name, bag.sums_text(lines))

    def _tag_sums(self, kind: tuple[str, str], known: dict[str, dict[str, str]]) -> dict[str, str]:
        name, algorithm = kind
        found = dict(known.get(name, {}))
        for path in bag.TAG_FILES:
            if path not in found:
                digest = self.root.digest(path, algorithm)
                if digest is not None:
                    found[path] = digest
        return found

    # reading

    def all_runs(self) -> list[dict[str, Any]]:
        """All runs, first to last: what the catalogue has of them, and those in which nothing changed."""
        quiet = [
            {"number": 0, "name": run.head["run"], "source": run.head["source"], "state": run.end.get("end", "stopped"),
             **{key: int(run.end.get(key, 0)) for key in ("added", "gone", "changed", "failed", "bytes")}}
            for run in self.quiet
        ]  # fmt: skip
        return sorted([*self.catalogue.runs(), *quiet], key=lambda run: str(run["name"]))

    def read(self, digest: str) -> bytes:
        """The bytes of a message, proved by their digest. Raises MessageError."""
        stored = self.catalogue.stored(digest)
        if stored is None:
            raise MessageError("the backup does not hold its bytes")
        path = self.folder / bag.volume_path(stored.volume, self.vault.suffix)
        try:
            with open_regular(self.vault.plain(path)) as file:
                data = unpacked(*read_packed(file, stored.offset, stored.packed), stored.size)
        except OSError as error:
            raise MessageError(f"{path} can't be read: {error.strerror or error}") from error
        except MessageError as error:
            raise MessageError(f"{path} is damaged: {error}. `wexagraph verify` tells more") from error
        if hashlib.sha256(data).hexdigest() != digest:
            raise MessageError(
                f"{path} is damaged: its bytes are not those that were stored. `wexagraph verify` tells more"
            )
        return data
