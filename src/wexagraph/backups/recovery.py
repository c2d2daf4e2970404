"""Taking in what a run that was killed has left: its whole messages, and where they lay.

Nothing below data/ is removed that is not stored elsewhere in the backup: what can't be told is set aside.
"""

from __future__ import annotations

import hashlib
import os
from pathlib import Path

from wexagraph.backups import bag, runlists
from wexagraph.backups.indexing import described, repacked
from wexagraph.backups.store import NewFile, Store
from wexagraph.backups.volumes import VolumeWriter, members, salvage
from wexagraph.errors import MessageError
from wexagraph.files import create_private


def complete(store: Store) -> None:
    """Bring a backup that is open for writing into the state that the end of a run leaves. Raises TargetError."""
    unlisted = [
        store.folder / place / name
        for place in (bag.VOLUMES, bag.RUNS)
        for name in store.root.names(place)
        if bag.is_ours(f"{place}/{name}") and f"{place}/{name}" not in store.manifest
    ]
    left = sorted(store.staged.iterdir())
    unfinished = bool(store.manifest) and not all(map(store.root.taken, bag.TAG_MANIFESTS))
    if not unlisted and not left:
        if unfinished:
            store.untouched = False
            store.commit([])
        return
    store.tell("taking in what a run that was stopped has left")
    store.untouched = False
    new: list[NewFile] = []
    fresh: dict[str, str] = {}
    volumes = [p for p in unlisted if p.parent.name == "volumes"] + [p for p in left if p.suffix == ".zip"]
    for path in volumes:
        made = _volume(store, _opened(store, path), fresh, len(new))
        if made is not None:
            new.append(made)
    lists = [p for p in unlisted if p.parent.name == "runs"] + [p for p in left if p.suffix == ".jsonl"]
    for path in lists:
        made = _run(store, _opened(store, path), fresh)
        if made is not None:
            new.append(made)
    for path in left:
        if not any(path == one.waiting for one in new):
            path.unlink(missing_ok=True)
    for path in unlisted:
        if _is_stored(store, path):
            path.unlink()
        else:
            _set_aside(store, path)
    if new or unfinished:
        store.commit(new)


def _opened(store: Store, path: Path) -> Path:
    """A left file as it is; one that was not sealed to its end can't be opened, and is as good as empty."""
    try:
        return store.encryption.plain(path)
    except MessageError:
        return path


def _volume(store: Store, path: Path, fresh: dict[str, str], turn: int) -> NewFile | None:
    """The whole messages of a left volume that are stored nowhere yet, as a volume of their own."""
    number = store.next_volume() + turn
    rescued = store.staged / f"rescued-{number:06d}.zip"
    writer = VolumeWriter(rescued)
    try:
        for member, content in salvage(path):
            packed = repacked(member, content, member.method)
            if packed is None or store.catalogue.has(packed.digest):
                continue
            store.catalogue.add_message(packed, number, writer.add_raw(member, content))
            fresh[packed.digest.hex()] = member.name
    except MessageError:
        pass  # what can't be read is set aside
    if not writer.members:
        writer.abandon()
        rescued.unlink()
        return None
    return store.ready(rescued, bag.volume_path(number), writer.close())


def _run(store: Store, path: Path, fresh: dict[str, str]) -> NewFile | None:
    """A left run list as the list of a run that was stopped, of the messages that are there."""
    left = runlists.read(path, whole=False)
    if not left.head:
        return None
    catalogue = store.catalogue
    known = [[h for h in change.present if catalogue.has(bytes.fromhex(h.digest))] for change in left.folders]
    if not any(known):
        return None
    source = str(left.head.get("source", ""))
    name = store.free_run(left.head["run"] if bag.is_run(left.head["run"]) else "")
    waiting = store.staged / f"rescued-{name}.jsonl"
    added = 0
    with create_private(waiting) as file:
        file.write(runlists.head_line(name, source))
        for change, present in zip(left.folders, known, strict=True):
            # what it did not come to is not known to be gone: what was there before stays
            state = catalogue.folder_state(source, change.name)
            change.stamp, change.base = "", state[1] if state else ""
            file.write(runlists.folder_line(change))
            for holding in present:
                added += holding.digest in fresh
                file.write(runlists.line(holding.line(fresh.get(holding.digest, ""))))
        file.write(runlists.line({"end": "stopped", "added": added}))
        file.flush()
        os.fsync(file.fileno())
    catalogue.take_run(runlists.read(waiting))
    return store.ready(waiting, bag.run_path(name))


def _is_stored(store: Store, path: Path) -> bool:
    """Whether all that an unlisted file holds is in the backup: then the file itself is not needed."""
    plain = _opened(store, path)
    if path.parent.name == "runs":
        return bool(runlists.read(plain, whole=False).head)  # what it says of messages that are here was taken over
    try:
        whole = list(described(plain))
        return len(whole) == len(members(plain)) and all(store.catalogue.has(packed.digest) for _, packed in whole)
    except MessageError:
        return False


def _set_aside(store: Store, path: Path) -> None:
    """Keep a file that can't be told, where no run touches it."""
    place = f"{bag.OWN}/set-aside"
    number = 1
    while store.root.taken(f"{place}/{number} {path.name}"):
        number += 1
    store.root.rename_new(path, f"{place}/{number} {path.name}")
    store.tell(f"{path.name} could not be read to its end; it was set aside in {store.folder / place}")


def look_for_losses(store: Store) -> None:
    """Find the volumes that are missing, or not what they were: what they held has to be stored again. Run lists that
    are missing are written again where the catalogue has them."""
    lost = []
    for path in bag.volumes_of(store.manifest):
        stamp = store.root.stamp(path)
        if stamp is not None and stamp == store.catalogue.seen_whole(path):
            continue
        if stamp is None or store.root.digest(path) != store.manifest[path]:
            lost.append(path)
        else:
            store.untouched = False
            store.catalogue.see_whole(path, stamp)
    store.catalogue.lose(map(bag.volume_number, lost))
    store.lost_quiet = _write_lists_again(store)
    store.lost = tuple(lost)


def _write_lists_again(store: Store) -> tuple[str, ...]:
    """Write run lists that are missing again from the catalogue. Returns those that it never had: nothing changed
    in them, so that they tell no more than that there was a run."""
    known, quiet = store.catalogue.files(), []
    for path in bag.runs_of(store.manifest):
        if store.root.taken(path):
            continue
        copy = store.catalogue.copy_of(path)
        if copy is not None and hashlib.sha256(copy).hexdigest() == store.manifest[path]:
            store.root.write(path, copy)
            store.tell(f"{path} was missing; it was written again from the catalogue")
        elif path not in known:
            quiet.append(path)
            store.tell(f"{path} is missing; it told of a run in which nothing had changed")
    return tuple(quiet)
