"""A register of a mailbox: what is to be in it, from where, and what has been done."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from wexagraph.app.cases.records import case_of
from wexagraph.app.option_table import REGISTER
from wexagraph.app.rows import defaults
from wexagraph.errors import CallError
from wexagraph.exports.register import filed_beside
from wexagraph.languages import ENGLISH
from wexagraph.languages import language as language_of
from wexagraph.naming.office_names import OfficeNames
from wexagraph.output.target import keep_apart
from wexagraph.pages.options import PageOptions
from wexagraph.reports import AGAIN, NEW, Failure, PlannedFile, Report
from wexagraph.selection.choice import Choice
from wexagraph.sources.base import Source
from wexagraph.tables.columns import Column
from wexagraph.tables.living.files import Register, check_form, top_up
from wexagraph.tables.living.table import STATE, Listing, TopUp
from wexagraph.tables.message_columns import ONLY_FILED, WORKING, Row, column_of, columns_named, listings, own_column
from wexagraph.text import one_line

REGISTER_DEFAULTS = defaults(REGISTER)
_PEOPLE = ("from", "to", "cc", "bcc")


@dataclass
class RegisterReport(Report):
    """The sums of a register: `written` rows are new. `rows` are all that it has, `updated` those of them that were
    changed, `no_longer_chosen` those that the choice has left; `changed_by_hand` counts cells. `deleted_columns` and
    `renamed_columns` are ours as colleagues left them."""

    rows: int = 0
    updated: int = 0
    no_longer_chosen: int = 0
    changed_by_hand: int = 0
    deleted_columns: list[str] = field(default_factory=list)
    renamed_columns: list[tuple[str, str]] = field(default_factory=list)


def register(
    source: Source,
    into: str | Path,
    choice: Choice | None = None,
    *,
    columns: str = "",
    own: Iterable[str] = (),
    zone: str = "sender",
    language: str = ENGLISH,
    names: OfficeNames | None = None,
    stopped: Callable[[], bool] | None = None,
    dry: bool = False,
) -> RegisterReport:
    """Make a table of the chosen messages, .xlsx or .csv, or bring one up to date; what people did in it stays.

    `columns` are names with commas between, `own` columns of the office (`Due date`, `Year={date:%Y}`), `zone` is that
    of the dates. Headings are in a `language`; `names` are the office's own for addresses. Raises CallError,
    SourceError, TargetError.
    """
    path = Path(into).expanduser()
    check_form(path)
    keep_apart(source.location, path, around=True)
    started, report = time.monotonic(), RegisterReport(str(path), planned=[] if dry else None)
    choice = (choice or Choice()).settled(source)
    beside, case = filed_beside(path.parent), case_of(path.parent)
    if case is not None:
        beside = {known: replace(filed, case=case.reference) for known, filed in beside.items()}
    timezone = PageOptions(zone=zone).timezone()

    def things(wanted: list[Column[Any]], known: frozenset[str]) -> Iterator[Listing]:
        filed = beside if any(one.name in ONLY_FILED for one in wanted) else {}
        report.chosen, report.failures, report.failed = 0, [], 0
        # what is known has been told already, but not under these names
        return counted(listings(source, choice, wanted, timezone, filed, known if not names else frozenset(), names))

    def counted(made: Iterator[Listing]) -> Iterator[Listing]:
        for listing in made:
            if stopped is not None and stopped():
                report.interrupted = True
                return
            report.chosen += 1
            row = listing.thing
            if row.trouble:
                report.fail(Failure(row.id, row.folder, row.subject, row.trouble))
            yield listing

    def resolve(name: str) -> Column[Any]:
        column = column_of(name)
        return replace(column, lasts=False) if names and name in _PEOPLE else column

    of = Register(
        resolve,
        tuple(_columns(columns, own)),
        tuple(_columns(WORKING + (",files" if beside else ""), ())),
        f"Messages of {one_line(source.location)}",
        one_line(choice.in_words(language_of(ENGLISH))),
        Row.value,
        language_of(language),
    )
    existed = path.exists()
    result = top_up(path, of, things, lambda: not (source.troubles or report.interrupted), dry)
    _tell(report, result, existed)
    source.settle()
    report.unreadable = [(trouble.where, trouble.reason) for trouble in source.troubles]
    report.seconds = time.monotonic() - started
    return report


def check_register(options: dict[str, Any]) -> None:
    """Raise CallError for options that can't be meant."""
    _columns(options["columns"] or "", options["column"])


def _columns(names: str, own: Iterable[str]) -> list[Column[Any]]:
    """The columns that are asked for; none where nobody asks. Raises CallError."""
    offices = [own_column(one) for one in own]
    headings = [one.heading.casefold() for one in offices]
    for heading in headings:
        if headings.count(heading) > 1:
            raise CallError(f"--column: two columns have the heading {heading!r}. Each needs its own.")
    ours = list(columns_named(names)) if names else list(columns_named(WORKING)) if offices else []
    return [*ours, *offices, *([column_of(STATE)] if ours and not any(one.name == STATE for one in ours) else [])]


def _tell(report: RegisterReport, result: TopUp, existed: bool) -> None:
    """Put what was done into the report; of a dry run, what would be."""
    report.written = max(result.added - report.failed, 0)
    report.already_there = report.chosen - report.written - report.failed
    report.rows, report.updated, report.no_longer_chosen = result.rows, result.updated, result.gone
    report.changed_by_hand = result.by_hand
    report.deleted_columns, report.renamed_columns = result.deleted, result.renamed
    if result.changed or not existed:
        if report.planned is not None:
            report.planned.append(PlannedFile(Path(report.into).name, AGAIN if existed else NEW, "register"))
        else:
            report.bytes = Path(report.into).stat().st_size
