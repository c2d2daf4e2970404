"""New messages going into volumes, one after the other, each of bounded size."""

from __future__ import annotations

from collections.abc import Callable

from wexagraph.backups import bag
from wexagraph.backups.packing import Packed
from wexagraph.backups.store import NewFile, Store
from wexagraph.backups.volumes import VolumeWriter
from wexagraph.naming.paths import folder_path

_FLUSH_BYTES = 64 * 1024 * 1024


class Volumes:
    """The volumes that a run fills, of `limit` bytes at most. `flushed` is called when what was added is lasting."""

    def __init__(self, store: Store, limit: int, flushed: Callable[[], None]) -> None:
        self.made: list[NewFile] = []
        self._store, self._limit, self._flushed = store, limit, flushed
        self._number = store.next_volume()
        self._volume: VolumeWriter | None = None
        self._unflushed = 0

    def add(self, folder: str, packed: Packed) -> str:
        """Put a message into a volume, and tell the catalogue. Returns its name there."""
        self._store.untouched = False
        if self._volume is not None and not self._volume.takes(packed, self._limit):
            self.close()
        if self._volume is None:
            self._volume = VolumeWriter(self._store.staged / f"volume-{self._number:06d}.zip")
        place = folder_path(folder)
        own = f"{packed.stem} {packed.digest.hex()[:12]}.eml"
        name = f"{place}/{own}" if place else own
        member = self._volume.add(name, packed)
        self._store.catalogue.add_message(packed, self._number, member)
        self._unflushed += len(packed.content)
        if self._unflushed > _FLUSH_BYTES:
            # a run that is killed later loses no more than this
            self._volume.flush()
            self._flushed()
            self._unflushed = 0
        return f"{bag.volume_path(self._number)}:{name}"

    def close(self) -> None:
        """End the volume in hand."""
        if self._volume is None:
            return
        digest = self._volume.close()
        self.made.append(self._store.ready(self._volume.path, bag.volume_path(self._number), digest))
        self._volume = None
        self._number += 1

    def abandon(self) -> None:
        """The source has gone: what is in the volume so far waits below `.wexagraph`, and the next run takes it in."""
        if self._volume is not None:
            self._volume.flush()
            self._volume.abandon()
