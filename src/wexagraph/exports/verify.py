"""Proving an export folder whole: every file against the checksums that the export has written."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from itertools import islice
from pathlib import Path
from typing import BinaryIO

from wexagraph.errors import SourceError
from wexagraph.exports.agreement import disagreements
from wexagraph.exports.register import about
from wexagraph.naming.paths import CASE_LOG, MANIFEST, REGISTERS
from wexagraph.output.folder import OWN, OutputFolder
from wexagraph.reports import Finding, Verification
from wexagraph.tables.living.files import FORMS, is_beside

_REGISTERS = frozenset(REGISTERS.values())
_LINE = re.compile(r"\\?([0-9a-f]{64}) [ *](.+)")


def verify(folder: str | Path, progress: Callable[[int], None] | None = None) -> Verification:
    """Compare an export folder with its `manifest-sha256.txt`. Nothing is changed.

    Raises SourceError where there is no manifest, or the folder can't be read.
    """
    verification, unreadable = Verification(str(folder)), list[str]()
    listed: dict[str, str] = {}
    tell = progress or (lambda _: None)
    try:
        with (
            OutputFolder(Path(folder), make=False) as root,
            root.reader(MANIFEST) as manifest,
            ThreadPoolExecutor(os.cpu_count() or 1) as pool,
        ):
            entries = manifest_entries(manifest, unreadable)
            while batch := list(islice(entries, 512)):  # a bounded number at a time, however long the manifest
                for (digest, path), state in zip(
                    batch, pool.map(lambda entry: _state(root, *entry), batch), strict=True
                ):
                    listed[path] = digest
                    verification.files += 1
                    if state == "altered" and path in _REGISTERS and (proved := about(root, path)) is not None:
                        verification.worked_in.append((path, proved))
                    elif state != "whole":
                        verification.findings.append(Finding(path, state))
                tell(verification.files)
            ours = listed.keys() | {MANIFEST, CASE_LOG}
            foreign = [path for path in root.files() if path not in ours and not path.startswith(f"{OWN}/")]
            for finding in disagreements(root, listed):
                verification.add(finding.path, finding.state, finding.reason)
            registers = [path for path in foreign if "/" not in path and path.endswith((*FORMS, ".xlsm"))]
            for path in registers:
                if not _is_of(path, _REGISTERS) and (proved := about(root, path)) is not None:
                    verification.worked_in.append((path, proved))
            known = _REGISTERS | {path for path, _ in verification.worked_in}
            for path in foreign:
                if path not in known and not _is_of(path, known):
                    verification.add(path, "foreign")
            verification.findings += [Finding(line, "unreadable") for line in unreadable]
    except FileNotFoundError as error:
        if not os.path.exists(folder):
            raise SourceError(f"{folder} does not exist.") from error
        raise SourceError(
            f"{folder} holds no {MANIFEST}, so there is nothing to prove it by. An export folder has one."
        ) from error
    except OSError as error:
        raise SourceError(f"{folder}/{MANIFEST} can't be read: {error.strerror or error}.") from error
    return verification


def _is_of(path: str, registers: Iterable[str]) -> bool:
    """Whether a file belongs to a register: its version before, what was set aside of it, or who has it open."""
    return any(is_beside(path, name) for name in registers)


def manifest_entries(manifest: BinaryIO, unreadable: list[str] | None = None) -> Iterator[tuple[str, str]]:
    """Digest and path of each line of a manifest; lines that can't be read, or lead out of the folder, go to a list."""
    for raw in manifest:
        line = raw.decode("utf-8", "surrogateescape").rstrip("\r\n")
        match = _LINE.fullmatch(line)
        if match and not any(level in ("", ".", "..") for level in match[2].split("/")):
            yield match[1], match[2]
        elif unreadable is not None:
            unreadable.append(line[:200])


def _state(root: OutputFolder, digest: str, path: str) -> str:
    """ "whole", "missing" or "altered". A link or a folder in the place of a file is no file."""
    if not root.taken(path):
        return "missing"
    return "whole" if root.digest(path) == digest else "altered"
