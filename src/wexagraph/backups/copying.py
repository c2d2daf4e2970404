"""Bringing another disk up to date: a copy of a backup, by files, each proved as it was written."""

from __future__ import annotations

import contextlib
import hashlib
import os
import shutil
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from wexagraph.backups import bag
from wexagraph.backups.verify import verify
from wexagraph.errors import SourceError, TargetError
from wexagraph.exports.target import keep_apart, lock_file, sync_files


@dataclass
class CopyReport:
    """What was copied, how many files were there already, and what verification found wrong at the end."""

    into: str
    copied: list[str] = field(default_factory=list)
    already: int = 0
    removed: list[str] = field(default_factory=list)
    bytes: int = 0
    wrong: list[str] = field(default_factory=list)


def copy(folder: str | Path, into: str | Path, progress: Callable[[int], None] | None = None) -> CopyReport:
    """Make `into` a copy of the backup in `folder`, or bring it up to date. Only files that differ are copied.

    Raises CallError, SourceError, TargetError; whatever fails, both are whole.
    """
    source, target = Path(folder), Path(into)
    keep_apart(source, target)
    if target.exists() and not target.is_dir():
        raise TargetError(f"{target} is a file. A copy needs a folder, or a name that is still free.")
    if target.is_dir() and any(target.iterdir()) and not (target / bag.OWN).is_dir() and not bag.is_backup(target):
        raise TargetError(f"{target} holds something else. Choose an empty folder, or one that holds a copy.")
    if not bag.is_backup(source):
        raise SourceError(f"{source} is no backup.")
    if not all((source / name).exists() for name in bag.TAG_MANIFESTS):
        raise SourceError(f"{source} holds a run that was stopped. Run its backup again, then copy it.")
    report = CopyReport(str(target))
    try:
        (target / bag.OWN).mkdir(parents=True, exist_ok=True)
        with open(target / bag.OWN / "lock", "a+b") as lock:
            try:
                lock_file(lock)
            except OSError as error:
                raise TargetError(f"{target} is in use: another run is writing to it. Wait for it to end.") from error
            _copy(source, target, report, progress or (lambda _: None))
    except OSError as error:
        raise TargetError(f"{target} can't be written to: {error.strerror or error}. Check the disk.") from error
    found = verify(target)
    report.wrong = [finding.path for finding in found.findings]
    return report


def _copy(source: Path, target: Path, report: CopyReport, tell: Callable[[int], None]) -> None:
    ours, theirs = (_sums(place) for place in (source, target))
    strange = [path for path in theirs if path.startswith(bag.RUNS) and ours.get(path) != theirs[path]]
    if strange:
        raise TargetError(
            f"{target} holds runs that {source} has not ({len(strange)}; the first is {bag.run_of(strange[0])}): it is "
            "no copy of it. Choose another folder."
        )
    staged = target / bag.OWN / "staged"
    shutil.rmtree(staged, ignore_errors=True)
    for place in (staged, target / bag.VOLUMES, target / bag.RUNS):
        place.mkdir(parents=True, exist_ok=True)
    waiting: list[tuple[Path, str]] = []
    for path, digest in sorted(ours.items()):
        if bag.digest_of(target / path) == digest:
            report.already += 1
            continue
        place = staged / path.replace("/", " ")
        report.bytes += _copy_file(source / path, place, digest)
        waiting.append((place, path))
        report.copied.append(path)
        tell(report.bytes)
    for name in bag.TAG_FILES:
        if (source / name).exists():
            _copy_file(source / name, staged / name, bag.digest_of(source / name) or "")
    for name in bag.TAG_MANIFESTS:
        (target / name).unlink(missing_ok=True)
    for place, path in waiting:
        os.replace(place, target / path)
    sync_files(target, [])
    for name in bag.TAG_FILES:
        if (staged / name).exists():
            os.replace(staged / name, target / name)
    for name in bag.TAG_MANIFESTS:
        shutil.copyfile(source / name, staged / name)
        os.replace(staged / name, target / name)
    # what was joined meanwhile, also where a copy that was killed had put it and not yet listed it
    there = {f"{bag.VOLUMES}/{path.name}" for path in (target / bag.VOLUMES).iterdir()}
    for path in sorted((theirs.keys() | set(filter(bag.is_ours, there))) - ours.keys()):
        (target / path).unlink(missing_ok=True)
        report.removed.append(path)
    shutil.rmtree(staged, ignore_errors=True)
    sync_files(target, [])


def _sums(folder: Path) -> dict[str, str]:
    sums = bag.read_sums(folder / bag.MANIFEST)
    return sums.digests if sums is not None else {}


def _copy_file(source: Path, target: Path, digest: str) -> int:
    """Copy a file, and read back what was written. Returns its size. Raises SourceError, OSError."""
    with contextlib.ExitStack() as opened:
        try:
            reading = opened.enter_context(open(source, "rb"))
        except OSError as error:
            raise SourceError(f"{source} can't be read: {error.strerror or error}.") from error
        writing = opened.enter_context(open(target, "wb"))
        seen, size = hashlib.sha256(), 0
        while block := reading.read(1 << 20):
            seen.update(block)
            writing.write(block)
            size += len(block)
        writing.flush()
        os.fsync(writing.fileno())
    if seen.hexdigest() != digest:
        target.unlink()
        raise SourceError(f"{source} is damaged: `wexagraph verify` tells more. Nothing of it was copied.")
    return size
