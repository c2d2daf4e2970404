"""A backup, read and changed in one order only.

What a run has made waits below `.wexagraph`. To end, it is moved below `data/`, the manifest is replaced, the catalogue
is committed, and the tag manifests, which were taken away before, are written: at every instant the bag is whole, or
holds files that no list has yet, which the next run takes in.
"""

from __future__ import annotations

import hashlib
import shutil
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path
from typing import Any

from wexagraph.backups import bag
from wexagraph.backups.indexing import Index
from wexagraph.backups.place import BackupFolder
from wexagraph.backups.volumes import read_packed, unpacked
from wexagraph.errors import MessageError
from wexagraph.files import open_regular


@dataclass(frozen=True)
class NewFile:
    """A file that is ready to become a part of the backup: where it waits, where it goes, its digest and size."""

    waiting: Path
    path: str
    digest: str
    size: int


class Store:
    """A backup whose folder and catalogue are open. Use it as a context manager; `backups/opening.py` makes one.

    `lost` are volumes that are missing or damaged, `lost_quiet` lists of runs in which nothing had changed.
    """

    def __init__(self, place: BackupFolder, index: Index) -> None:
        self.folder, self.root, self.staged = place.path, place.root, place.staged
        self.encryption, self.manifest, self.tell = place.encryption, place.manifest, place.tell
        self.catalogue, self.quiet, self.untouched = index.catalogue, index.quiet, index.untouched
        self.failed, self.plain = place.failed, place.plain
        self.lost: tuple[str, ...] = ()
        self.lost_quiet: tuple[str, ...] = ()
        self._place, self._index = place, index

    def __enter__(self) -> Store:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Give the backup free; what was not committed waits for the next run."""
        self._index.close()
        self._place.close()

    # names

    def ready(self, waiting: Path, path: str, digest: str = "") -> NewFile:
        """A file that is written, as it goes into the backup: sealed, where that is locked. Raises OSError."""
        if self.encryption.locked:
            place = self.folder / bag.OWN / "staged"
            self.root.make_folder(f"{bag.OWN}/staged")
            sealed = place / path.replace("/", " ")
            self.encryption.seal(waiting, sealed)
            waiting.unlink()
            waiting, digest = sealed, ""
        return NewFile(
            waiting, path + self.encryption.suffix, digest or bag.digest_of(waiting) or "", waiting.stat().st_size
        )

    def next_volume(self) -> int:
        """The number of the next volume."""
        return max(map(bag.volume_number, bag.volumes_of(self.manifest)), default=0) + 1

    def runs(self) -> list[str]:
        """The names of all runs, first to last."""
        return [bag.run_of(path) for path in bag.runs_of(self.manifest)]

    def free_run(self, wanted: str) -> str:
        """A name for a run, later than all others even where the clock was set back."""
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
            bag.keep_seals(self.root)
            for name in bag.TAG_MANIFESTS:
                self.root.unlink(name)
            for one in new:
                self.root.replace(one.waiting, one.path)
                self.encryption.forget(self.folder / one.path)
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
                if self.encryption.locked:
                    self._seal_catalogue()
            if without:
                self.root.sync()  # what stands for them is listed before they go
            for path in without:
                self.root.unlink(path)
            # last: until they are there, a file that no list has is one that a killed run has left, not a foreign one
            self._write_tags(known)
            self.root.stage("staged")
            if self.encryption.locked:
                shutil.rmtree(self.staged, ignore_errors=True)
                self.staged.mkdir()
            self.root.sync()
        except OSError as error:
            raise self.failed(error) from error

    def _seal_catalogue(self) -> None:
        waiting = self.root.stage("sealing") / bag.SEALED_CATALOGUE
        self.encryption.seal(self.catalogue.path, waiting)
        self.root.replace(waiting, bag.SEALED_CATALOGUE)
        self.root.clear(f"{bag.OWN}/sealing")
        self.encryption.forget(self.folder / bag.SEALED_CATALOGUE)

    def _known_tags(self) -> dict[str, dict[str, str]]:
        """The digests of the catalogue that the tag manifests have, where it is not touched: it is large."""
        if not self.untouched:
            return {}
        known: dict[str, dict[str, str]] = {}
        for name in bag.TAG_MANIFESTS:
            sums = bag.read_sums(self.folder / name)
            if sums is not None:
                known[name] = {
                    path: sums.digests[path] for path in (bag.CATALOGUE, bag.SEALED_CATALOGUE) if path in sums.digests
                }
        return known

    def _write_info(self) -> None:
        total = 0
        for path in self.manifest:
            total += (self.root.stamp(path) or (0, 0))[0]
        sources = sorted(
            {str(run["source"]) for run in self.all_runs() if run["source"] and not self.encryption.locked}
        )
        last = max(self.runs(), default="")
        self.replace(bag.INFO, bag.info_text(sources, total, len(self.manifest), last))

    def _write_tags(self, known: dict[str, dict[str, str]]) -> None:
        with ThreadPoolExecutor(2) as pool:
            for name, lines in zip(
                bag.TAG_MANIFESTS, pool.map(self._tag_sums, bag.TAG_MANIFESTS.items(), [known] * 2), strict=True
            ):
                self.replace(name, bag.sums_text(lines))

    def _tag_sums(self, kind: tuple[str, str], known: dict[str, dict[str, str]]) -> dict[str, str]:
        name, algorithm = kind
        digests = dict(known.get(name, {}))
        for path in bag.TAG_FILES:
            if path not in digests:
                digest = self.root.digest(path, algorithm)
                if digest is not None:
                    digests[path] = digest
        return digests

    # reading

    def all_runs(self) -> list[dict[str, Any]]:
        """All runs, first to last: what the catalogue has of them, and those in which nothing changed."""
        quiet = [
            {
                "number": 0,
                "name": run.head["run"],
                "source": run.head["source"],
                "moment": run.head.get("moment", run.head["run"]),
                "state": run.end.get("end", "stopped"),
                **{key: int(run.end.get(key, 0)) for key in ("added", "gone", "changed", "failed", "bytes")},
            }
            for run in self.quiet
        ]
        return sorted([*self.catalogue.runs(), *quiet], key=lambda run: str(run["name"]))

    def read(self, digest: str) -> bytes:
        """The bytes of a message, proved by their digest. Raises MessageError."""
        stored = self.catalogue.stored(digest)
        if stored is None:
            raise MessageError("the backup does not hold its bytes")
        path = self.folder / bag.volume_path(stored.volume, self.encryption.suffix)
        try:
            with open_regular(self.encryption.plain(path)) as file:
                content, method, _ = read_packed(file, stored.offset, stored.packed)
                data = unpacked(content, method, stored.size)
        except OSError as error:
            raise MessageError(f"{path} can't be read: {error.strerror or error}") from error
        except MessageError as error:
            raise MessageError(f"{path} is damaged: {error}. `wexagraph verify` tells more") from error
        if hashlib.sha256(data).hexdigest() != digest:
            raise MessageError(
                f"{path} is damaged: its bytes are not those that were stored. `wexagraph verify` tells more"
            )
        return data
