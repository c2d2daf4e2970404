"""Proving an export folder whole: every file against the checksums that the export has written, and whether journal,
list of checksums and registers agree.

A file that was taken out together with its line in the list is missed by the journal; a message that was taken out of
the journal too still has its row in the register, and in a case its line in the log (`app/cases/proving.py`).
"""

from __future__ import annotations

import os
import re
import shutil
from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing, suppress
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

from wexagraph.errors import SourceError, TargetError
from wexagraph.naming.paths import ALL_REGISTERS, CASE_LOG, MANIFEST, signs_of_seals
from wexagraph.output.folder import OWN, OutputFolder
from wexagraph.reports import Finding, Verification
from wexagraph.temporary import TemporaryFolder
from wexagraph.text import one_line, shortened

if TYPE_CHECKING:
    from wexagraph.exports.journal.journal import Journal
    from wexagraph.protection.certificates import Known

JOURNAL = f"{OWN}/journal.sqlite"
_SHOWN = 3
_TABLES = (".xlsx", ".csv", ".xlsm")
_REGISTERS = frozenset(ALL_REGISTERS)
_LINE = re.compile(r"\\?([0-9a-f]{64}) [ *](.+)")


def verify(
    folder: str | Path, progress: Callable[[int], None] | None = None, known: Known | None = None
) -> Verification:
    """Compare an export folder with its `manifest-sha256.txt`, and prove its seals by certificates that are `known`.
    Nothing is changed.

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
                    if path.lower().endswith(".pdf") and state == "whole":
                        _for_everyone(root, path, verification)
                        _sealed(root, path, verification)
                    if state == "altered" and path in _REGISTERS and (proved := _about(root, path)) is not None:
                        verification.worked_in.append((path, proved))
                    elif state != "whole":
                        verification.findings.append(Finding(path, state))
                tell(verification.files)
            ours = listed.keys() | {MANIFEST, CASE_LOG} | _seals(root, known, verification)
            foreign = [path for path in root.files() if path not in ours and not path.startswith(f"{OWN}/")]
            for finding in disagreements(root, listed):
                verification.add(finding.path, finding.state, finding.reason)
            registers = [path for path in foreign if "/" not in path and path.endswith(_TABLES)]
            for path in registers:
                if not _is_of(path, _REGISTERS) and (proved := _about(root, path)) is not None:
                    verification.worked_in.append((path, proved))
            tables = _REGISTERS | {path for path, _ in verification.worked_in}
            for path in foreign:
                if path not in tables and not _is_of(path, tables):
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


def _seals(root: OutputFolder, known: Known | None, verification: Verification) -> set[str]:
    """Prove the seals of a folder. Returns the files of them."""
    if not any(map(root.taken, signs_of_seals(MANIFEST))):
        return set()
    from wexagraph.protection.certificates import Known
    from wexagraph.seals.sealing import prove, seal_files

    prove(root, known or Known(), verification)
    return seal_files(root)


def _for_everyone(root: OutputFolder, path: str, verification: Verification) -> None:
    """Look at a PDF: whether it says that it is PDF/UA-1, and whether it is."""
    from wexagraph.pages.tagging.audit import audit, says_universal

    try:
        with root.reader(path) as file:
            verification.pdfs += 1
            if not says_universal(file):
                return
            file.seek(0)
            faults = audit(file)
    except FileNotFoundError:  # taken out after its digest was
        verification.add(path, "missing")
        return
    except ValueError as error:
        faults = [str(error)]
    if faults:
        verification.not_universal.append((path, faults[0]))
    else:
        verification.universal += 1


def _sealed(root: OutputFolder, path: str, verification: Verification) -> None:
    """Look at a PDF that may hold a seal of its own."""
    from wexagraph.protection.signatures import NotSigned
    from wexagraph.seals.documents import END, check_pdf, is_sealed

    with suppress(FileNotFoundError), root.reader(path) as file:
        file.seek(max(0, file.seek(0, os.SEEK_END) - END))
        if not is_sealed(file.read()):
            return
        try:
            check_pdf(file)
            verification.sealed += 1
        except NotSigned as error:
            verification.add(path, "altered", f"its own seal does not hold: {error}")


def _is_of(path: str, registers: Iterable[str]) -> bool:
    """Whether a file belongs to a register: its version before, what was set aside of it, or who has it open."""
    from wexagraph.tables.living.files import is_beside

    return any(is_beside(path, name) for name in registers)


def _about(root: OutputFolder, path: str) -> str | None:
    """What can be proved of a register that people work in; None where its keys can't be read."""
    from wexagraph.exports.register_proof import about

    return about(root, path)


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


def disagreements(root: OutputFolder, listed: Mapping[str, str]) -> Iterator[Finding]:
    """What one of them has and another lacks. `listed` are the digests of the list of checksums by path. A folder
    without a journal that can be read has nothing to compare with."""
    if root.stamp(JOURNAL) is None:
        return
    from wexagraph.exports.journal.journal import Journal

    with TemporaryFolder() as copies:
        for ending in ("", "-journal"):  # a copy is read: a proof changes nothing
            if root.stamp(JOURNAL + ending) is not None:
                with root.reader(JOURNAL + ending) as old, open(copies / f"journal.sqlite{ending}", "xb") as copy:
                    shutil.copyfileobj(old, copy, 1 << 20)
        try:
            with closing(Journal(copies / "journal.sqlite", reading=True)) as journal:
                if not journal.is_empty():
                    recorded = journal.files.listing(MANIFEST)
                    as_written = recorded is not None and recorded.sha256 == root.digest(MANIFEST)
                    if not as_written:
                        yield from _of_list(journal, listed)
                    yield from _of_registers(root, journal, as_written)
        except TargetError:  # of another version, or damaged: the next export makes it again
            return


def _of_list(journal: Journal, listed: Mapping[str, str]) -> Iterator[Finding]:
    known: dict[str, set[str]] = {}
    for path, digest in journal.files.checksums():
        known.setdefault(path, set()).add(digest)
    for path, digests in known.items():
        if path not in listed:
            yield Finding(path, "missing", "the journal knows it, and the list of checksums has no line for it")
        elif listed[path] not in digests and path not in ALL_REGISTERS:
            yield Finding(path, "altered", "its line in the list of checksums is another than the journal knows")
    for path in listed.keys() - known.keys():
        yield Finding(path, "foreign", "the list of checksums has it, and the journal does not know it")


def _of_registers(root: OutputFolder, journal: Journal, as_written: bool) -> Iterator[Finding]:
    """Of registers that nobody has touched, where the list is `as_written`, the digest says enough."""
    from wexagraph.exports.register_proof import keys_of, subjects_in

    for name in ALL_REGISTERS:
        recorded = journal.files.listing(name)
        if recorded is None or (as_written and recorded.sha256 == root.digest(recorded.path)):
            continue
        keys = keys_of(root, recorded.path)
        if keys is None:
            continue
        subjects = subjects_in(journal, name)
        if lacking := [one_line(text) for key, text in subjects.items() if key not in keys]:
            yield Finding(recorded.path, "altered", f"it has no row of {_some(lacking)}")
        if strange := len(keys - subjects.keys()):
            rows = f"{strange:,} row{'s' * (strange != 1)} of messages"
            yield Finding(recorded.path, "altered", f"it has {rows} that the journal does not know")


def _some(subjects: list[str]) -> str:
    shown = ", ".join(repr(shortened(text, 60)) for text in subjects[:_SHOWN])
    more = len(subjects) - _SHOWN
    return f"{shown} and {more:,} more" if more > 0 else shown
