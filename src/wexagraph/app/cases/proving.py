"""Folders proved: an export, a case with its log, all cases of a records folder."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from wexagraph.exports.verify import JOURNAL, verify
from wexagraph.naming.paths import CASE_LOG, FILE_PLAN, MANIFEST
from wexagraph.reports import Verification

if TYPE_CHECKING:
    from wexagraph.protection.certificates import Known


def verified(folder: Path, head: str | None = None, known: Known | None = None) -> Verification:
    """An export folder proved, and where it is a case's, its log: that nothing was taken out of that, and that each
    letter that it says was filed is there. `head` is the digest of a line that must be in the log, where the plan is
    not to be asked; `known` are certificates by which seals are proved. Raises SourceError."""
    verification = verify(folder, known=known)
    if head is None and not is_records(folder.absolute().parent) and not (folder / CASE_LOG).exists():
        return verification  # of no case: nothing of what cases need is loaded
    from wexagraph.app.cases.records import case_of
    from wexagraph.exports.register import rows_of
    from wexagraph.records import case_log

    if head is None:
        case = case_of(folder)
        head = case.log if case is not None else ""
    if not head and not (folder / CASE_LOG).exists():
        return verification
    if problem := case_log.broken(folder, head):
        verification.add(CASE_LOG, "altered", problem)
    rows = rows_of(folder) if (folder / JOURNAL).is_file() else []
    there, filed = {row.digest for row in rows if row.digest and row.files}, case_log.filed(folder)
    for digest in sorted(filed - there) if rows else ():
        verification.add(
            f"message {digest[:12]}", "missing", "the log says that it was filed, and nothing knows its files"
        )
    for row in rows:
        if row.files and row.digest not in filed:
            verification.add(row.files[0], "foreign", "the log does not say that its message was filed")
    return verification


def is_records(folder: Path) -> bool:
    """Whether a folder holds a file plan."""
    return (folder / FILE_PLAN).is_file()


def verified_records(folder: Path, known: Known | None = None) -> Verification:
    """All cases of a records folder proved, each path with the folder of its case in front. Raises CallError,
    SourceError."""
    from wexagraph.app.cases.records import settled_plan
    from wexagraph.records import case_log

    whole = Verification(str(folder))
    for case in settled_plan(folder).cases.values():
        place = folder / case.folder
        if not (place / MANIFEST).exists():  # nothing was ever filed
            if problem := case_log.broken(place, case.log):
                whole.add(f"{case.folder}/{CASE_LOG}", "altered", problem)
            continue
        proved = verified(place, case.log, known)
        whole.seals += [replace(one, list=f"{case.folder}/{one.list}") for one in proved.seals]
        whole.files += proved.files
        whole.pdfs += proved.pdfs
        whole.universal += proved.universal
        whole.sealed += proved.sealed
        whole.not_universal += [(f"{case.folder}/{path}", reason) for path, reason in proved.not_universal]
        whole.worked_in += [(f"{case.folder}/{path}", said) for path, said in proved.worked_in]
        for finding in proved.findings:
            whole.findings.append(replace(finding, path=f"{case.folder}/{finding.path}"))
    return whole
