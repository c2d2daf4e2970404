"""Which messages a backup surely has: checksums of volumes are right, and bytes were unpacked and digested."""

from __future__ import annotations

from pathlib import Path

from wexagraph.backups import bag
from wexagraph.backups.encryption import Ask
from wexagraph.backups.opening import open_backup
from wexagraph.errors import MessageError


def proved(folder: Path, digests: set[str], ask: Ask | None = None) -> set[str]:
    """Those of the digests whose messages were read back whole from closed volumes. Raises SourceError."""
    safe: set[str] = set()
    with open_backup(folder, ask=ask) as store:
        whole: dict[int, bool] = {}
        for digest in digests:
            stored = store.catalogue.stored(digest)
            if stored is None:
                continue
            if stored.volume not in whole:
                path = bag.volume_path(stored.volume, store.encryption.suffix)
                whole[stored.volume] = bag.digest_of(folder / path) == store.manifest.get(path)
            if whole[stored.volume]:
                try:
                    store.read(digest)
                except MessageError:
                    continue
                safe.add(digest)
    return safe
