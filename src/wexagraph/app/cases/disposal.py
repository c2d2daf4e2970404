"""The end of a case: refused while anything speaks against it, certified, and only then removed."""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass, replace
from pathlib import Path

from wexagraph.app.cases.filing import mend
from wexagraph.app.cases.proving import verified
from wexagraph.app.cases.records import Records
from wexagraph.app.options import page_options
from wexagraph.errors import CallError, Refused, TargetError
from wexagraph.exports.index_page.writing import index_folder
from wexagraph.exports.options import IndexOptions
from wexagraph.exports.register import rows_of
from wexagraph.languages import Language
from wexagraph.naming.paths import CASE_LOG, MANIFEST, component
from wexagraph.output.folder import OWN, OutputFolder
from wexagraph.output.replacing import whole_file
from wexagraph.records import case_log
from wexagraph.records.certificate import Certificate
from wexagraph.records.fileplan import Case
from wexagraph.records.leaving import DISPOSED, Leaving, begun, free_papers, going_to, is_begun, leave
from wexagraph.records.packed import PackedCase, pack
from wexagraph.text import one_line, shortened

_ENDINGS = ("certificate.txt", "certificate.pdf", CASE_LOG)


@dataclass(frozen=True)
class Disposed:
    """What was disposed of, and where its certificate and log lie."""

    reference: str
    messages: int
    certificate: Path
    log: Path


def dispose(records: Records, reference: str, allow: Callable[[Case, int, int], bool]) -> Disposed | None:
    """Dispose of a case whose time is over: prove it, certify it, then remove its folder. `allow` is asked with the
    case, its messages and files. Returns None where that is not allowed.

    Raises CallError where a hold, its time, a log with a gap or a folder that is not whole speaks against it.
    """
    before = _decided(records, reference)
    plan = records.plan()
    if before is not None and before.reference not in plan.cases:
        return _told(records, before)  # a run that was killed has decided it
    case = plan.get(reference)
    _refuse(records, case)
    files, messages = proved(records, case)
    if not allow(case, messages, files):
        return None
    with records.leaving(reference) as (folder, plan, case):
        _refuse(records, case)  # somebody may have put it on hold meanwhile, or filed into it
        if proved(records, case) != (files, messages):
            raise CallError(f"case {case.reference} was changed meanwhile. Look at it, and run the same command again.")
        page = page_options({})
        made = certify(records, case, page.tr)
        text, pdf = made.text(), made.pdf(page)
        digests = {"text": hashlib.sha256(text).hexdigest(), "pdf": hashlib.sha256(pdf).hexdigest()}
        name = component(f"{case.reference} {records.today}", room=20)
        papers = free_papers(folder, name, _ENDINGS)
        disposed = Leaving(
            case.reference,
            case.folder,
            going_to(folder, case.folder, merged=False),
            records.clock().isoformat(),
            records.who,
            papers=papers[:2],
            log=papers[2],
            about={"reference": case.reference, "certificate": digests, "messages": messages},
            messages=messages,
            files=files,
        )
        leave(folder, plan, disposed, dict(zip(papers[:2], (text, pdf), strict=True)))
    return _told(records, disposed)


def _decided(records: Records, reference: str) -> Leaving | None:
    """What a killed run has begun with a case of that reference."""
    if not is_begun(records.folder):
        return None
    with OutputFolder(records.folder, make=False) as folder:
        before = begun(folder)
    wanted = " ".join(reference.split()).casefold()
    return before if before is not None and not before.into and before.reference.casefold() == wanted else None


def _told(records: Records, disposed: Leaving) -> Disposed:
    place = records.folder / DISPOSED
    return Disposed(disposed.reference, disposed.messages, place / disposed.papers[1], place / disposed.log)


def _refuse(records: Records, case: Case) -> None:
    if case.holds:
        why = "; ".join(hold.why for hold in case.holds)
        raise Refused(f"case {case.reference} is on hold ({one_line(why)}). `wexagraph case release` ends a hold.")
    if case.closed is None:
        raise Refused(f"case {case.reference} is open. `wexagraph case close` closes it; its time begins then.")
    due = records.due_on(case)
    if due is None:
        raise Refused(f"case {case.reference} is kept for ever: the plan names no time (keep).")
    if due > records.today:
        raise Refused(f"case {case.reference} is kept until {due}: it is due for disposal that day.")
    if problem := records.broken(case):
        raise Refused(f"the log of case {case.reference} is not whole: {problem}. Find out why before it goes.")


def proved(records: Records, case: Case) -> tuple[int, int]:
    """How many files and messages a case has. Raises Refused where it is not whole."""
    place = records.place(case)
    if not (place / MANIFEST).exists():
        return 0, 0  # nothing was ever filed
    verification = verified(place, case.log)
    if not verification.whole:
        wrong = verification.findings[0]
        why = f" ({wrong.reason})" if wrong.reason else ""
        raise Refused(
            f"the folder of case {case.reference} is not whole: {one_line(wrong.path)} is {wrong.state}{why}. "
            f"`wexagraph verify` says all; file its messages again, or take out what is not of it."
        )
    return verification.files, len(rows_of(place))


def certify(records: Records, case: Case, tr: Language) -> Certificate:
    """The certificate of a case as it now is, in a language."""
    said = tr("The case named here was proved whole, and then removed from the records with all its files.")
    rule = "kept {time} after it was closed: due for disposal on {day}"
    facts = (
        *facts_of(records, case, tr),
        (tr("Rule"), tr(rule, time=case.keep, day=records.due_on(case))),
        (tr("Disposed of on"), f"{records.clock():%Y-%m-%d %H:%M %z}"),
        (tr("By"), records.who or tr("somebody")),
    )
    title = tr("Certificate of disposal: {case}", case=one_line(case.reference))
    return Certificate(title, said, facts, messages_of(records, case))


def facts_of(records: Records, case: Case, tr: Language) -> tuple[tuple[str, str], ...]:
    """What there is to say of a case as a whole: labels and texts."""
    place = records.place(case)
    manifest = place / MANIFEST
    rows = rows_of(place) if manifest.exists() else []
    filed = [event for event in case_log.read(place) if event.what == "filed"]
    digest = hashlib.sha256(manifest.read_bytes()).hexdigest() if manifest.exists() else tr("none")
    files, steps = tr.number(sum(len(row.files) for row in rows)), tr.number(len(filed))
    return (
        (tr("Reference"), case.reference),
        (tr("Title"), one_line(case.title)),
        (tr("Opened"), str(case.opened)),
        (tr("Closed"), str(case.closed or tr("not yet"))),
        (tr("Holds"), one_line("; ".join(hold.why for hold in case.holds)) or tr("none")),
        (tr("Messages"), tr("{count}, filed in steps: {steps}", count=tr.number(len(rows)), steps=steps)),
        (tr("Files"), tr("{count}, each proved by its SHA-256 before", count=files)),
        (tr("List of checksums"), digest),
        (tr("Last line of the log"), case.log),
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


def pack_case(records: Records, reference: str, into: Path, index: IndexOptions | None = None) -> int:
    """Write a case into a ZIP, with a page to browse where one is asked for. Returns how many files it has. Raises
    Refused where the case is not whole, TargetError where its page can't be written."""
    with records.changing() as plan:
        case = plan.get(reference)
        place = records.place(case)
        if problem := records.broken(case):
            raise Refused(
                f"the log of case {case.reference} is not whole: {problem}. Find out why before it is packed."
            )
        if index is not None:  # before the proof: a run that was killed may have left half a page
            index_folder(place, replace(index, title=f"{case.reference} {case.title}"))
        proved(records, case)
        records.note(plan, case, "packed", into=into.name)
        page = page_options({})
        tr = page.tr
        said = tr("What this file holds, as it lay in the records. manifest-sha256.txt has the digest of each file.")
        facts, title = facts_of(records, case, tr), f"{tr('Case')} {one_line(case.reference)}"
        contents = Certificate(title, said, facts, messages_of(records, case))
        pages = {"contents.txt": contents.text(), "contents.pdf": contents.pdf(page)}
        with whole_file(into) as file:
            return pack(case, place, file, records.today, pages)


def unpack_case(records: Records, path: Path) -> Case:
    """Take a packed case in. Raises CallError where it is not whole, or there is a case of its reference."""
    with closing(PackedCase(path)) as packed:
        verification = packed.verify()
        if not verification.whole:
            wrong = verification.findings[0]
            raise CallError(f"{path} is not whole: {one_line(wrong.path)} is {wrong.state}. Have it sent again.")
        with records.changing() as plan:
            case = plan.add(packed.case())
            place, waiting = records.place(case), records.folder / OWN / "unpacking"
            try:
                if place.exists():
                    raise CallError(f"{place} is there already, and no case of the plan. Move it away.")
                shutil.rmtree(waiting, ignore_errors=True)
                waiting.mkdir(parents=True)
                packed.unpack(waiting)
                with OutputFolder(waiting) as folder:
                    folder.sync()
                os.rename(waiting, place)
            except OSError as error:
                raise TargetError(f"{place} can't be written to: {error.strerror or error}. Check the disk.") from error
            if problem := case_log.broken(place):
                plan.keep(replace(case, log=""))
                problem = f"; its log was not whole before: {problem}"
            records.note(plan, case, "unpacked", **({"trouble": problem} if problem else {}), of=path.name)
    mend(records, case)
    return case
