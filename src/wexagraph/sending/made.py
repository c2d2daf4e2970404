"""What lies in a folder that this program made, so that it can be delivered: files, registers, logs, seals, lists."""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from wexagraph.backups.bag import TAG_FILES, TAG_MANIFESTS, is_backup
from wexagraph.errors import CallError
from wexagraph.exports.verify import manifest_entries
from wexagraph.files import open_regular
from wexagraph.naming.paths import ALL_REGISTERS, CASE_LOG, FILE_PLAN, MANIFEST, signs_of_seals
from wexagraph.output.folder import OutputFolder

_DEEPEST = 2
_LIVING = frozenset({*ALL_REGISTERS, CASE_LOG, FILE_PLAN, MANIFEST, *TAG_FILES, *TAG_MANIFESTS})
"""Files that change from run to run, and registers that people work in: they are as they are now."""


@dataclass(frozen=True)
class Made:
    """A file that this program made: its path below the folder, where it lies, its size (None: it is not there), and
    the SHA-256 that the folder's list has of it ("" where none has)."""

    path: str
    file: str
    size: int | None
    sha256: str = ""


def _made(above: str, folder: Path, path: str, sha256: str = "") -> Made:
    file = os.path.join(folder, path)  # of 50,000, none is worth a Path
    try:
        about = os.lstat(file)
    except OSError:
        return Made(above + path, file, None, sha256)
    return Made(above + path, file, about.st_size if stat.S_ISREG(about.st_mode) else None, sha256)


def made(root: Path) -> list[Made]:
    """What lies in a folder that this program made (or the one file that `root` is), the lists that prove it last.
    Raises CallError where there is nothing of it, OSError."""
    if root.is_file():
        return [_made("", root.parent, root.name)]
    files: list[Made] = []
    lists: list[Made] = []
    for folder in folders_in(root):
        above = "" if folder == root else f"{folder.relative_to(root).as_posix()}/"
        if (folder / MANIFEST).is_file():  # a case that nothing is filed in yet has none
            with open_regular(folder / MANIFEST) as manifest:
                as_read = hashlib.file_digest(manifest, "sha256").hexdigest()  # a later one may list what is not sent
                manifest.seek(0)
                entries = [entry for entry in manifest_entries(manifest) if entry[1] not in _LIVING]
            files += [_made(above, folder, path, digest) for digest, path in entries]
            lists.append(_made(above, folder, MANIFEST, as_read))
        names = {*ALL_REGISTERS, CASE_LOG, *(TAG_FILES if is_backup(folder) else ())}
        files += [each for name in sorted(names - {MANIFEST}) if (each := _made(above, folder, name)).size is not None]
        files += [_made(above, folder, path) for path in _seals(folder)]
        tags = (_made(above, folder, name) for name in TAG_MANIFESTS)
        lists += [each for each in tags if each.size is not None]
    if not (files or lists):
        raise CallError(
            f"{root} holds nothing that this program made: no {MANIFEST} lies there or in its folders. Name an export, "
            "a case, the records folder or a backup."
        )
    if (root / FILE_PLAN).is_file():
        files.append(_made("", root, FILE_PLAN))
    return [*files, *lists]


def _seals(folder: Path) -> list[str]:
    """The files of seals in a folder."""
    with OutputFolder(folder, make=False) as root:
        listed = next(iter(TAG_MANIFESTS)) if is_backup(folder) else MANIFEST
        if not any(map(root.taken, signs_of_seals(listed))):
            return []
        from wexagraph.seals.sealing import seal_files

        return sorted(seal_files(root))


def folders_in(root: Path, deep: int = _DEEPEST) -> Iterator[Path]:
    """The folders of exports and cases in a folder, or itself where it is one."""
    if (root / MANIFEST).is_file() or (root / CASE_LOG).is_file():
        yield root
    elif deep:
        for each in sorted(root.iterdir()):
            if each.is_dir() and not each.is_symlink():
                yield from folders_in(each, deep - 1)
