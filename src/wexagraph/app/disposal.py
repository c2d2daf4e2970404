"""The end of a case: refused while anything speaks against it, certified, and only then removed."""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from wexagraph.app.cases import Records
from wexagraph.errors import CallError, TargetError
from wexagraph.exports.register import rows_of
from wexagraph.exports.verify import verify
from wexagraph.naming.paths import CASE_LOG, MANIFEST
from wexagraph.naming.safe import component
from wexagraph.output.folder import OWN, OutputFolder
from wexagraph.pages.options import PageOptions
from wexagraph.records import case_log
from wexagraph.records.certificate import Certificate
from wexagraph.records.fileplan import Case, FilePlan
from wexagraph.text import one_line, shortened

DISPOSED = "disposed"
"""Below the records folder: certificates and logs of cases that are gone."""


@dataclass(frozen=True)
class Disposed:
    """What was disposed of, and where its certificate and log lie."""

    case: Case
    messages: int
    files: int
    certificate: Path
    log: Path


def dispose(records: Records, reference: str, allow: Callable[[Case, int, int], bool]) -> Disposed | None:
    """Dispose of a case whose time is over: prove it, certify it, then remove its folder. `allow` is asked with the
    case, its messages and files. Returns None where that is not allowed.

    Raises CallError where a hold, its time, a log with a gap or a folder that is not whole speaks against it.
    """
    case = records.plan().get(reference)
    _refuse(records, case)
    if not _is_going(records, case):
        files, messages = proved(records, case)
        if not allow(case, messages, files):
            return None
    with records.changing() as plan:
        case = plan.get(reference)  # somebody may have put it on hold meanwhile
        _refuse(records, case)
        disposed = _dispose(records, plan, case)
    # only now that the plan is written; what a kill has left of others goes too
    kept = {case.folder for case in records.plan().cases.values()}
    for path in (records.folder / OWN / "going").iterdir():
        if path.name not in kept:
            shutil.rmtree(path, ignore_errors=True)
    return disposed


def _refuse(records: Records, case: Case) -> None:
    if case.holds:
        why = "; ".join(hold.why for hold in case.holds)
        raise CallError(f"case {case.reference} is on hold ({one_line(why)}). `wexagraph case release` ends a hold.")
    if case.closed is None:
        raise CallError(f"case {case.reference} is open. `wexagraph case close` closes it; its time begins then.")
    if case.due is None:
        raise CallError(f"case {case.reference} is kept for ever: the plan names no time (keep).")
    if case.due > records.today:
        raise CallError(f"case {case.reference} is kept until {case.due}: it may go on that day.")
    if problem := records.broken(case) if not _is_going(records, case) else "":
        raise CallError(f"the log of case {case.reference} is not whole: {problem}. Find out why before it goes.")


def _going(records: Records, case: Case) -> Path:
    """Where the folder lies between being certified and being gone."""
    return records.folder / OWN / "going" / case.folder


def _is_going(records: Records, case: Case) -> bool:
    return _going(records, case).exists() and not records.place(case).exists()


def proved(records: Records, case: Case) -> tuple[int, int]:
    """How many files and messages a case has. Raises CallError where it is not whole."""
    place = records.place(case)
    if not (place / MANIFEST).exists():
        return 0, 0  # nothing was ever filed
    verification = verify(place)
    if not verification.whole:
        wrong = verification.findings[0]
        raise CallError(
            f"the folder of case {case.reference} is not whole: {one_line(wrong.path)} is {wrong.state}. "
            f"`wexagraph verify` says all; file its messages again, or take out what is not of it."
        )
    return verification.files, len(rows_of(place))


def _dispose(records: Records, plan: FilePlan, case: Case) -> Disposed:
    """In this order: certificate, log, the folder out of sight in one step, the plan. The files go last."""
    place, going = records.place(case), _going(records, case)
    name = component(f"{case.reference} {records.today}", room=20)
    certificate = records.folder / DISPOSED / f"{name} certificate.pdf"
    log = records.folder / DISPOSED / f"{name} {CASE_LOG}"
    try:
        messages = files = 0
        if not _is_going(records, case):
            made = certify(records, case)
            messages, files = len(made.messages), proved(records, case)[0]
            text, pdf = made.text(), made.pdf(PageOptions())
            with OutputFolder(records.folder) as folder:
                folder.write(f"{DISPOSED}/{name} certificate.txt", text)
                folder.write(f"{DISPOSED}/{name} certificate.pdf", pdf)
                digests = {"text": hashlib.sha256(text).hexdigest(), "pdf": hashlib.sha256(pdf).hexdigest()}
                case_log.append(place, records.clock(), records.who, "disposed", certificate=digests, messages=messages)
                folder.write(f"{DISPOSED}/{name} {CASE_LOG}", (place / CASE_LOG).read_bytes())
            going.parent.mkdir(parents=True, exist_ok=True)
            os.rename(place, going)
        plan.drop(case)
    except OSError as error:
        raise TargetError(f"case {case.reference} can't be disposed of: {error.strerror or error}.") from error
    return Disposed(case, messages, files, certificate, log)


def certify(records: Records, case: Case) -> Certificate:
    """The certificate of a case as it now is."""
    said = "The case named here was proved whole, and then removed from the records with all its files."
    facts = (
        *facts_of(records, case),
        ("Rule", f"kept {case.keep} after it was closed: it may go from {case.due} on"),
        ("Disposed of on", f"{records.clock():%Y-%m-%d %H:%M %z}"),
        ("By", records.who or "somebody"),
    )
    title = f"Certificate of disposal: {one_line(case.reference)}"
    return Certificate(title, said, facts, messages_of(records, case))


def facts_of(records: Records, case: Case) -> tuple[tuple[str, str], ...]:
    """What there is to say of a case as a whole: labels and texts."""
    place = records.place(case)
    manifest = place / MANIFEST
    rows = rows_of(place) if manifest.exists() else []
    filed = [event for event in case_log.read(place) if event.what == "filed"]
    digest = hashlib.sha256(manifest.read_bytes()).hexdigest() if manifest.exists() else "none"
    return (
        ("Reference", case.reference),
        ("Title", one_line(case.title)),
        ("Opened", str(case.opened)),
        ("Closed", str(case.closed or "not yet")),
        ("Holds", one_line("; ".join(hold.why for hold in case.holds)) or "none"),
        ("Messages", f"{len(rows):,}, filed in {len(filed):,} step{'s' * (len(filed) != 1)}"),
        ("Files", f"{sum(len(row.files) for row in rows):,}, each proved by its SHA-256 before"),
        ("List of checksums", digest),
        ("Last line of the log", case.log),
    )


def messages_of(records: Records, case: Case) -> tuple[tuple[str, str, str, str], ...]:
    """The messages of a case: date, sender, subject, SHA-256; in the order of their dates."""
    place = records.place(case)
    rows = rows_of(place) if (place / MANIFEST).exists() else []
    return tuple(
        (
            row.facts[0][:16].replace("T", " "),
            shortened(row.facts[1], 200),
            shortened(row.facts[4], 300),
            row.digest or "",
        )
        for row in sorted(rows, key=lambda row: row.facts[0])
    )
