"""Two cases made one: all of the first is filed into the second, and its folder is kept apart."""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path

from wexagraph.app.cases import Records
from wexagraph.app.disposal import proved
from wexagraph.app.filing import FilingReport, file_messages
from wexagraph.app.opening import open_source
from wexagraph.errors import CallError, TargetError
from wexagraph.exports.register import rows_of
from wexagraph.naming.paths import MANIFEST
from wexagraph.records import case_log
from wexagraph.records.fileplan import Case
from wexagraph.selection import Choice

MERGED = "merged"
"""Below the records folder: folders of cases that were merged into others, as they were."""


def merge(records: Records, reference: str, into: str) -> tuple[Case, FilingReport]:
    """File all of a case into another one. Its holds, tags and references go with it; its folder stays as it was, below
    `merged`. Run again after it was stopped, it goes on. Raises CallError, TargetError."""
    plan = records.plan()
    first, second = plan.get(reference), plan.get(into)
    if first.reference == second.reference:
        raise CallError(f"case {first.reference} can't be merged into itself.")
    place, kept = records.place(first), records.folder / MERGED / first.folder
    report = FilingReport()
    if place.exists():
        if problem := records.broken(first):
            raise CallError(
                f"the log of case {first.reference} is not whole: {problem}. Find out why before it is merged."
            )
        proved(records, first)
        report = _file_all(records, place, first, second)
        if not report.complete:
            raise CallError(
                f"not all of case {first.reference} could be filed into {second.reference}. Nothing is merged."
            )
    with records.changing() as plan:
        first, second = plan.get(reference), plan.get(into)
        tags, also = (
            dict.fromkeys((*second.tags, *first.tags)),
            dict.fromkeys((*second.also, first.reference, *first.also)),
        )
        plan.keep(replace(second, tags=tuple(tags), also=tuple(also), holds=(*second.holds, *first.holds)))
        about = {"of": first.reference, "title": first.title, "match": first.match, "log": first.log}
        records.note(plan, plan.get(second.reference), "merged", **about)
        try:
            if place.exists():
                case_log.append(place, records.clock(), records.who, "merged into", of=second.reference)
                kept.parent.mkdir(exist_ok=True)
                os.rename(place, kept)
        except OSError as error:
            raise TargetError(f"{place} can't be moved to {kept}: {error.strerror or error}.") from error
        plan.drop(first)
        return plan.get(second.reference), report


def _file_all(records: Records, place: Path, first: Case, second: Case) -> FilingReport:
    """File the messages of a case into another by their originals."""
    if not (place / MANIFEST).exists():
        return FilingReport()
    without = [row for row in rows_of(place) if not any(file.endswith(".eml") for file in row.files)]
    if without:
        raise CallError(
            f"{len(without):,} messages of case {first.reference} lie there without their originals. File them again "
            "with --as pdf,eml, then merge."
        )
    with open_source(str(place)) as source:
        return file_messages(records, source, Choice(), second.reference, {})
