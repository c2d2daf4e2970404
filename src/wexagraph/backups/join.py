"""Joining many small volumes into few: the old ones go when the new ones are proved."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from wexagraph.backups import bag, runlists
from wexagraph.backups.encryption import Ask
from wexagraph.backups.opening import open_backup
from wexagraph.backups.store import NewFile, Store
from wexagraph.backups.volumes import MOST_MEMBERS, Member, VolumeWriter, members, read_packed, unpacked
from wexagraph.errors import MessageError, TargetError
from wexagraph.files import create_private, open_regular
from wexagraph.reports import NEW, REMOVED, PlannedFile, planned_as_dict


@dataclass
class JoinReport:
    """The volumes that were joined, by the new one's path, and how many there are now. Of a dry run, what would be."""

    into: str
    joined: dict[str, list[str]] = field(default_factory=dict)
    volumes: int = 0
    planned: list[PlannedFile] | None = None

    def as_dict(self) -> dict[str, Any]:
        """Plain values for JSON."""
        values = asdict(self)
        del values["planned"]
        return values | planned_as_dict(self.planned)


def join(
    folder: str | Path,
    volume_size: int,
    tell: Callable[[str], None] | None = None,
    now: datetime | None = None,
    ask: Ask | None = None,
    dry: bool = False,
) -> JoinReport:
    """Join volumes that are smaller than half of `volume_size`; `dry`, only say which.

    Raises SourceError, TargetError.
    """
    root = Path(folder)
    if not bag.is_backup(root):
        raise TargetError(f"{root} is not a backup. `wexagraph backup SOURCE --into {root}` makes one.")
    with open_backup(root, writing=not dry, tell=tell, ask=ask) as store:
        try:
            report = _plan(store, volume_size) if dry else _join(store, volume_size, now or datetime.now(UTC))
        except MessageError as error:
            raise TargetError(f"{error}. Nothing was joined; `wexagraph verify {root}` tells more.") from error
        except OSError as error:
            raise store.failed(error) from error
    return report


def _plan(store: Store, limit: int) -> JoinReport:
    """What would be joined."""
    report, planned = JoinReport(str(store.folder)), list[PlannedFile]()
    groups = _groups(store, limit)
    for number, group in enumerate(groups, store.next_volume()):
        sizes = {path: (store.root.stamp(path) or (0, 0))[0] for path in group}
        made = bag.volume_path(number)
        report.joined[made] = group
        planned.append(PlannedFile(made, NEW, "volume", size=sum(sizes.values())))
        planned += [PlannedFile(path, REMOVED, "volume", size=size) for path, size in sizes.items()]
    report.volumes = len(bag.volumes_of(store.manifest)) - sum(map(len, groups)) + len(groups)
    report.planned = planned
    return report


def _join(store: Store, limit: int, now: datetime) -> JoinReport:
    report = JoinReport(str(store.folder))
    groups = _groups(store, limit)
    new: list[NewFile] = []
    number = store.next_volume()
    for group in groups:
        made = _joined(store, group, number)
        new.append(made)
        report.joined[made.path] = group
        number += 1
    volumes = len(bag.volumes_of(store.manifest))
    report.volumes = volumes - sum(map(len, groups)) + len(groups)
    if new:
        old = tuple(path for group in groups for path in group)
        store.commit([*new, _told(store, report, now)], without=old)
    return report


def _groups(store: Store, limit: int) -> list[list[str]]:
    """Small volumes that follow one another, as many as go into one."""
    groups: list[list[str]] = []
    held, count = limit, MOST_MEMBERS
    for path in bag.volumes_of(store.manifest):
        if path in store.lost:
            raise MessageError(f"{store.folder / path} is missing or damaged")
        size = (store.root.stamp(path) or (0, 0))[0]
        if size * 2 > limit:
            held = limit
            continue
        inside = len(members(store.plain(path)))
        if held + size > limit or count + inside > MOST_MEMBERS:
            groups.append([])
            held, count = 0, 0
        groups[-1].append(path)
        held, count = held + size, count + inside
    return [group for group in groups if len(group) > 1]


def _joined(store: Store, group: list[str], number: int) -> NewFile:
    """One volume of several: each message is unpacked and proved before, and again from the new file."""
    waiting = store.staged / f"joined-{number:06d}.zip"
    writer = VolumeWriter(waiting)
    store.untouched = False
    moved: list[tuple[bytes, Member]] = []
    for path in group:
        with open_regular(store.plain(path)) as file:
            for member in members(store.plain(path)):
                content, method, _ = read_packed(file, member.offset, member.packed)
                digest = _proved(store.folder / path, member, content, method)
                moved.append((digest, writer.add_raw(member, content)))
    made = writer.close()
    with open(waiting, "rb") as file:
        for digest, member in moved:
            content, method, _ = read_packed(file, member.offset, member.packed)
            if _proved(waiting, member, content, method) != digest:
                raise MessageError(f"{waiting}: {member.name} was not written as it should be")
            store.catalogue.move_message(digest, number, member)
    return store.ready(waiting, bag.volume_path(number), made)


def _proved(path: Path, member: Member, content: bytes, method: int) -> bytes:
    data = unpacked(content, method, member.size)
    digest = hashlib.sha256(data)
    if len(data) != member.size or digest.hexdigest()[:12] not in member.name:
        raise MessageError(f"{path}: {member.name} is damaged")
    return digest.digest()


def _told(store: Store, report: JoinReport, now: datetime) -> NewFile:
    """A list that says which volume has taken over which others."""
    name = store.free_run(bag.run_name(now.astimezone(UTC)))
    waiting = store.staged / "joined.jsonl"
    with create_private(waiting) as file:
        file.write(runlists.line({"run": name, "form": runlists.FORM, "source": "", "joined": report.joined}))
        file.write(runlists.line({"end": "joined"}))
        file.flush()
        os.fsync(file.fileno())
    store.catalogue.take_run(runlists.read(waiting))
    return store.ready(waiting, bag.run_path(name))
