"""Bringing another disk up to date: a copy of a backup, by files, each proved as it was written."""

from __future__ import annotations

import contextlib
import hashlib
import os
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from wexagraph.backups import bag
from wexagraph.backups.verify import verify
from wexagraph.errors import InUse, SourceError, TargetError
from wexagraph.output.folder import InTheWay, OutputFolder
from wexagraph.output.target import keep_apart
from wexagraph.reports import AGAIN, NEW, REMOVED, PlannedFile, Verification, planned_as_dict

_STAGED = f"{bag.OWN}/staged"


@dataclass
class CopyReport:
    """The files that were copied, how many were there already, those that a join had replaced and that went; and what
    verification found at the end. Of a dry run, `planned` is what would be copied and removed."""

    into: str
    copied: list[str] = field(default_factory=list)
    already_there: int = 0
    removed: list[str] = field(default_factory=list)
    bytes: int = 0
    verification: Verification = field(default_factory=lambda: Verification(""))
    planned: list[PlannedFile] | None = None

    def as_dict(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return {
            "into": self.into,
            "files": {
                "written": len(self.copied),
                "already_there": self.already_there,
                "removed": len(self.removed),
            },
            "bytes": self.bytes,
            **(
                {"verification": self.verification.as_dict()} if self.planned is None else planned_as_dict(self.planned)
            ),
        }


def copy(
    folder: str | Path, into: str | Path, progress: Callable[[int], None] | None = None, dry: bool = False
) -> CopyReport:
    """Make `into` a copy of the backup in `folder`, or bring it up to date. Only files that differ are copied; `dry`,
    only say which ones.

    Raises CallError, SourceError, TargetError; whatever fails, both are whole.
    """
    source, target = Path(folder), Path(into)
    keep_apart(source, target)
    if target.exists() and not target.is_dir():
        raise TargetError(f"{target} is a file. A copy needs a folder, or a name that is still free.")
    if target.is_dir() and any(target.iterdir()) and not (target / bag.OWN).is_dir() and not bag.is_backup(target):
        raise TargetError(f"{target} holds something else. Choose an empty folder, or one that holds a copy.")
    if not bag.is_backup(source):
        raise SourceError(f"{source} is not a backup.")
    if not all((source / name).exists() for name in bag.TAG_MANIFESTS):
        raise SourceError(f"{source} holds a run that was stopped. Run its backup again, then copy it.")
    report = CopyReport(str(target))
    if dry:
        report.planned = _plan(source, target, report)
        return report
    try:
        with OutputFolder(source, make=False) as original, OutputFolder(target, private=True) as twin:
            if twin.take_lock() is not None:
                raise InUse(f"{target} is in use: another run is writing to it. Wait for it to end.")
            _copy(original, twin, report, progress or (lambda _: None))
    except InTheWay as error:
        raise TargetError(f"{error.strerror}.") from error
    except OSError as error:
        raise TargetError(f"{target} can't be written to: {error.strerror or error}. Check the disk.") from error
    report.verification = verify(target)
    return report


def _plan(source: Path, target: Path, report: CopyReport) -> list[PlannedFile]:
    """What would be copied and removed."""
    with OutputFolder(source, make=False) as original, contextlib.ExitStack() as opened:
        ours, theirs = _sums(source), _sums(target)
        _refuse_another(source, target, ours, theirs)
        twin = opened.enter_context(OutputFolder(target, make=False)) if target.is_dir() else None
        planned: list[PlannedFile] = []
        for path, digest in sorted(ours.items()):
            if twin is not None and twin.digest(path) == digest:
                report.already_there += 1
                continue
            size = (original.stamp(path) or (0, 0))[0]
            report.bytes += size
            report.copied.append(path)
            planned.append(
                PlannedFile(path, AGAIN if twin is not None and twin.taken(path) else NEW, "file", size=size)
            )
        if twin is not None:
            report.removed = _replaced(ours, theirs, twin)
            sizes = ((twin.stamp(path) or (0, 0))[0] for path in report.removed)
            planned += map(lambda path, size: PlannedFile(path, REMOVED, "file", size=size), report.removed, sizes)
        return planned


def _refuse_another(source: Path, target: Path, ours: dict[str, str], theirs: dict[str, str]) -> None:
    """Raise TargetError where the target has runs that the backup has not."""
    strange = [path for path in bag.runs_of(theirs) if ours.get(path) != theirs[path]]
    if strange:
        raise TargetError(
            f"{target} holds runs that {source} has not ({len(strange)}; the first is {bag.run_of(strange[0])}): it is "
            "not a copy of it. Choose another folder."
        )


def _replaced(ours: dict[str, str], theirs: dict[str, str], target: OutputFolder) -> list[str]:
    """What was joined meanwhile, also where a copy that was killed had put it and not yet listed it."""
    there = {f"{bag.VOLUMES}/{name}" for name in target.names(bag.VOLUMES)}
    return sorted(set(filter(bag.is_ours, theirs.keys() | there)) - ours.keys())


def _copy(source: OutputFolder, target: OutputFolder, report: CopyReport, tell: Callable[[int], None]) -> None:
    ours, theirs = _sums(source.path), _sums(target.path)
    _refuse_another(source.path, target.path, ours, theirs)
    target.stage("staged")
    for place in (bag.VOLUMES, bag.RUNS):
        target.make_folder(place)
    waiting: list[tuple[str, str]] = []
    for path, digest in sorted(ours.items()):
        if target.digest(path) == digest:
            report.already_there += 1
            continue
        place = f"{_STAGED}/{path.replace('/', ' ')}"
        report.bytes += _copy_file(source, path, target, place, digest)
        waiting.append((place, path))
        report.copied.append(path)
        tell(report.bytes)
    tags = [name for name in bag.TAG_FILES if source.taken(name)]
    for name in tags:
        _copy_file(source, name, target, f"{_STAGED}/{name}", source.digest(name) or "")
    for name in bag.TAG_MANIFESTS:
        target.unlink(name)
    for place, path in waiting:
        target.replace(place, path)
    target.sync()
    for name in tags:
        target.replace(f"{_STAGED}/{name}", name)
    for path in _replaced(ours, theirs, target):
        target.unlink(path)
        report.removed.append(path)
    # last, as of a backup itself: while they are not there, what is not listed is left by a run that was stopped
    for name in bag.TAG_MANIFESTS:
        _copy_file(source, name, target, f"{_STAGED}/{name}", source.digest(name) or "")
        target.replace(f"{_STAGED}/{name}", name)
    seals = bag.seals_in(source)
    for path in bag.seals_in(target) - seals:
        target.unlink(path)
    for path in sorted(seals):
        digest = source.digest(path) or ""
        if target.digest(path) != digest:
            _copy_file(source, path, target, f"{_STAGED}/seal", digest)
            target.replace(f"{_STAGED}/seal", path)
    target.clear(_STAGED)
    target.sync()


def _sums(folder: Path) -> dict[str, str]:
    """What a manifest lists of a backup's own files; whatever else it names is none of a copy's business."""
    sums = bag.read_sums(folder / bag.MANIFEST)
    return {path: digest for path, digest in sums.digests.items() if bag.is_ours(path)} if sums is not None else {}


def _copy_file(source: OutputFolder, path: str, target: OutputFolder, place: str, digest: str) -> int:
    """Copy a file, proving what was read. Returns its size. Raises SourceError, OSError."""
    with contextlib.ExitStack() as opened:
        try:
            reading = opened.enter_context(source.reader(path))
        except OSError as error:
            raise SourceError(f"{source.path / path} can't be read: {error.strerror or error}.") from error
        writing = opened.enter_context(target.create(place))
        seen, size = hashlib.sha256(), 0
        while block := reading.read(1 << 20):
            seen.update(block)
            writing.write(block)
            size += len(block)
        writing.flush()
        os.fsync(writing.fileno())
    if seen.hexdigest() != digest:
        target.unlink(place)
        raise SourceError(f"{source.path / path} is damaged: `wexagraph verify` tells more. Nothing of it was copied.")
    return size
