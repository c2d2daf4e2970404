"""Two cases made one: all of the first is filed into the second, and its folder is kept apart."""

from __future__ import annotations

from wexagraph.app.cases.disposal import proved
from wexagraph.app.cases.filing import FilingReport, file_messages
from wexagraph.app.cases.records import Records
from wexagraph.errors import CallError
from wexagraph.exports.register import rows_of
from wexagraph.naming.paths import MANIFEST
from wexagraph.records.fileplan import Case
from wexagraph.records.leaving import Leaving, going_to, leave
from wexagraph.selection.choice import Choice
from wexagraph.sources.local import open_files


def merge(records: Records, reference: str, into: str) -> tuple[Case, FilingReport]:
    """File all of a case into another one. Its holds, tags and references go with it; its folder stays as it was, below
    `merged`. Run again after it was stopped, it goes on. Raises CallError, TargetError."""
    plan = records.plan()
    second = plan.get(into)
    if reference.casefold() in (other.casefold() for other in second.also):
        return second, FilingReport()  # it is part of it already: a run that was killed has decided it
    first = plan.get(reference)
    if first.reference == second.reference:
        raise CallError(f"case {first.reference} can't be merged into itself.")
    there = _digests(records, first)
    report = _file_all(records, first, second)
    with records.leaving(reference) as (folder, plan, first):
        second = plan.get(into)
        if _digests(records, first) != there:  # others have filed meanwhile; from here on nobody can
            report.reports |= _file_all(records, first, second).reports
        about = {"of": second.reference}
        moment, going = records.clock().isoformat(), going_to(folder, first.folder, merged=True)
        leaving = Leaving(first.reference, first.folder, going, moment, records.who, into=second.reference, about=about)
        leave(folder, plan, leaving, {})
        return plan.get(second.reference), report


def _digests(records: Records, case: Case) -> set[str | None]:
    """The messages of a case, by their SHA-256."""
    place = records.place(case)
    return {row.digest for row in rows_of(place)} if (place / MANIFEST).exists() else set()


def _file_all(records: Records, first: Case, second: Case) -> FilingReport:
    """File the messages of a case into another by their originals. Raises CallError where one of them can't be."""
    place = records.place(first)
    if not (place / MANIFEST).exists():
        return FilingReport()
    if problem := records.broken(first):
        raise CallError(f"the log of case {first.reference} is not whole: {problem}. Find out why before it is merged.")
    proved(records, first)
    originals = [next((file for file in row.files if file.endswith(".eml")), "") for row in rows_of(place)]
    if without := originals.count(""):
        raise CallError(
            f"{without:,} messages of case {first.reference} lie there without their originals. File them again "
            "with --as pdf,eml, then merge."
        )
    with open_files(place, originals) as source:
        report = file_messages(records, source, Choice(), second.reference, {})
    if not report.complete:
        reasons = "; ".join(failure.reason for failure in report.failures[:3]) or "it was stopped"
        raise CallError(
            f"not all of case {first.reference} could be filed into {second.reference}: {reasons}. "
            f"Case {first.reference} is as it was; `wexagraph case merge` goes on."
        )
    return report
