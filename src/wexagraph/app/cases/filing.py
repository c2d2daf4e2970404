"""Filing messages into cases: where each belongs, read once, exported into the folders of its cases, and logged."""

from __future__ import annotations

import itertools
import os
import time
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Executor, ThreadPoolExecutor
from contextlib import closing
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Any

from wexagraph.app.cases.records import PATIENCE, Records
from wexagraph.app.locales import office_names
from wexagraph.app.options import EXPORT_DEFAULTS, export_options
from wexagraph.errors import CallError, TargetError
from wexagraph.exports.needs import as_wanted
from wexagraph.exports.options import ATTACHMENTS, ExportOptions
from wexagraph.exports.register import files_by_digest
from wexagraph.exports.run import export
from wexagraph.files import open_regular
from wexagraph.messages.conversations import Thread, thread
from wexagraph.messages.headers import Header, header_end
from wexagraph.naming.office_names import OfficeNames
from wexagraph.naming.patterns import TextPattern, literal
from wexagraph.output.folder import OutputFolder
from wexagraph.records import case_log
from wexagraph.records.fileplan import Case, FilePlan
from wexagraph.records.filing import Filed, Filing, Held, Letter
from wexagraph.records.placing import Placement, Placer
from wexagraph.reports import ExportReport, Failure, Report
from wexagraph.selection.apart import TakenApart
from wexagraph.selection.choice import Choice
from wexagraph.selection.criteria import Subject
from wexagraph.sources.base import Envelope, Source, Stored, bounded
from wexagraph.tables.columns import Column
from wexagraph.text import one_line
from wexagraph.work.pool import ProcessWorkers

FILE_DEFAULTS = {**EXPORT_DEFAULTS, "as": "pdf,eml", "flat": True}
NO_CLERK = "not sent by one who may file"
_AT_ONCE, _AT_ONCE_BYTES = 500, 64 * 1024 * 1024


@dataclass(frozen=True, slots=True)
class Placed:
    """A message and where it goes."""

    envelope: Envelope
    placement: Placement


COLUMNS: list[Column[Placed]] = [
    Column("id", lambda each: each.envelope.id),
    Column("folder", lambda each: one_line(each.envelope.folder)),
    Column("subject", lambda each: one_line(each.envelope.header.subject)),
    Column("cases", lambda each: "; ".join(each.placement.cases)),
    Column("why", lambda each: each.placement.why),
    Column("guess", lambda each: each.placement.guess),
    Column("title", lambda each: one_line(each.placement.title)),
]
"""The columns of what is filed where."""


@dataclass
class FilingReport(Report):
    """What was filed: where each message belongs (`placed`), the report of each case's folder, and the messages that
    could not be read or that no case took (`refused`). The sums are over all cases."""

    placed: list[Placed] = field(default_factory=list)
    reports: dict[str, ExportReport] = field(default_factory=dict)
    refused: list[Failure] = field(default_factory=list)

    @property
    def is_empty(self) -> bool:
        """Whether no message was chosen; those that belong to no case were."""
        return not self.placed

    def as_dict(self) -> dict[str, Any]:
        """Plain values for JSON: where each message belongs, and the report of each case."""
        mine = {"placed", "reports", "refused"}
        values = {name: value for name, value in super().as_dict().items() if name not in mine}
        values["messages"] = [{column.name: column.value(each) for column in COLUMNS} for each in self.placed]
        values["cases"] = {name: one.as_dict() for name, one in self.reports.items()}
        values["unfiled"] = sum(not each.placement.cases for each in self.placed)
        return values

    def add_up(self) -> None:
        """Count over all cases."""
        for one in self.reports.values():
            self.add(one)
        for failure in self.refused:
            self.fail(failure)
        self.chosen = self.written + self.already_there + self.failed


@dataclass
class _Run:
    """A run of filing: what it files from and with, and its report."""

    records: Records
    plan: FilePlan
    index: Filed
    source: Source
    options: dict[str, Any]
    stopped: Callable[[], bool]
    report: FilingReport
    names: OfficeNames
    stored: dict[str, set[str]] | None = None
    """The digests of what was read back whole in each case; None where nobody asks."""


def file_messages(
    records: Records,
    source: Source,
    choice: Choice,
    reference: str | None,
    options: dict[str, Any],
    stopped: Callable[[], bool] = lambda: False,
    dry: bool = False,
    reopen: bool = False,
    clerks: tuple[str, ...] = (),
    afterwards: Callable[[list[Stored]], tuple[int, list[tuple[str, str]]]] | None = None,
) -> FilingReport:
    """File the chosen messages into a case, or (`reference` None) where the plan says. `options` are those of an
    export, by their names on the command line. Closed cases get what is new to them where they are to be opened again
    (`reopen`); else it fails. By plan, what others than `clerks` have sent is left, where there are any. Messages that
    one brings along go with it, as themselves, where that is an option. `afterwards` is given those whose files were
    read back whole in all their cases, and says how many it has changed at the source and which it left.
    Raises CallError, SourceError, TargetError."""
    started = time.monotonic()
    if options.get("as") == ATTACHMENTS:
        choice = choice.with_attachments()
    with closing(Filed(records.folder)) as index:
        report = FilingReport(str(records.folder), planned=[] if dry else None)
        stored: dict[str, set[str]] | None = {} if afterwards is not None else None
        names = office_names(source.location)
        run = _Run(records, records.plan(), index, source, options, stopped, report, names, stored)
        _bring_up(run)
        # what is held of each is small, for there may be many
        envelopes = [
            replace(each, header=each.header.listed(), stamp=each.fingerprint()) for each in choice.select(source)
        ]
        if reference is not None:
            name = run.plan.get(reference).reference
            placements = [Placement([name], "named") for _ in envelopes]
        else:
            placements = _places(run, envelopes, {clerk.strip().lower() for clerk in clerks})
        run.report.placed = [Placed(*pair) for pair in zip(envelopes, placements, strict=True)]
        if dry:
            report.written = sum(len(each.placement.cases) for each in report.placed)
        else:
            apart = TakenApart(source, choice) if options.get("carried") else None
            held = Held(apart or source)
            letters = _letters(run, held, apart)
            _open_cases(run, letters, reopen)
            _file(run, held, letters)
            if afterwards is not None and not report.interrupted:
                kept = _stored(run, letters)
                done = afterwards(list(kept if apart is None else apart.in_mailbox(kept)))
                report.changed_at_the_source, report.left_at_the_source = done
    source.settle()
    report.unreadable = [(trouble.where, trouble.reason) for trouble in source.troubles]
    report.add_up()
    report.seconds = time.monotonic() - started
    return report


def _bring_up(run: _Run) -> None:
    """Make the index again of cases that it does not know, by the originals in their folders."""
    there: dict[str, dict[str, Thread]] = {}
    for case in run.plan.cases.values():
        if case.log and not run.index.knows(case.reference):
            place, letters = run.records.place(case), dict[str, Thread]()
            for digest, files in files_by_digest(place).items():
                original = next((file for file in files if file.endswith(".eml")), None)
                if original is not None:
                    with open_regular(place / original) as file:
                        data = file.read()
                    letters[digest] = thread(Header(data[: header_end(data)]))
            there[case.reference] = letters
    if there:
        run.index.add(there)


def _places(run: _Run, envelopes: list[Envelope], clerks: set[str]) -> list[Placement]:
    """Where each message belongs by the plan; nowhere what is not sent by one of `clerks`, where there are any."""
    cases = run.plan.cases
    if not cases:
        raise CallError(f"{run.records.path} has no case yet. `wexagraph case open` opens one.")
    open_ones = [case for case in cases.values() if case.match and case.closed is None]
    choices = [(case.reference, Choice.from_dict(case.match)) for case in open_ones]

    def matching(envelope: Envelope) -> list[str]:
        if envelope.trouble:
            return []  # what can't be read is told when it is filed
        subject = Subject(run.source, envelope, None)
        return [reference for reference, choice in choices if choice.meets(subject)]

    @lru_cache(10_000)
    def known(id: int) -> list[str]:
        return [name for name in run.index.cases_of(id) if name in cases]  # others were disposed of

    sent = [not clerks or envelope.header.sender.address.lower() in clerks for envelope in envelopes]
    placer = Placer(cases.values(), known)
    placed = iter(placer.place_all([each for each, may in zip(envelopes, sent, strict=True) if may], matching))
    return [next(placed) if may else Placement(why=NO_CLERK) for may in sent]


def _letters(run: _Run, held: Held, apart: TakenApart | None) -> dict[str, list[Letter]]:
    """What has a place, read for its digest, by the references of cases."""
    placed = [each for each in run.report.placed if each.placement.cases]
    wanted: dict[str, Placement] = {}

    def pieces() -> Iterator[Envelope]:
        for each in placed:
            for envelope in [each.envelope] if apart is None else apart.apart(each.envelope):
                wanted[envelope.id] = each.placement
                yield envelope

    letters: dict[str, list[Letter]] = {}
    for batch in bounded(pieces(), _AT_ONCE, _AT_ONCE_BYTES):
        if run.stopped():
            run.report.interrupted = True
            return {}
        for letter in held.letters(batch):
            if isinstance(letter, Letter):
                placement = wanted[letter.envelope.id]
                for name in placement.cases:
                    called = letter._replace(title=placement.title, cases=tuple(placement.cases))
                    letters.setdefault(name, []).append(called)
            else:
                envelope, error = letter
                subject = one_line(envelope.header.subject)
                run.report.refused.append(Failure(envelope.id, envelope.folder, subject, str(error)))
    return letters


def _open_cases(run: _Run, letters: dict[str, list[Letter]], reopen: bool) -> None:
    """See that cases can be filed into, as they are now: what is new to a closed one is refused, or opens it again."""
    if not letters:
        return
    with run.records.changing() as plan:
        for name in list(letters):
            case = plan.cases.get(name)
            if case is None:
                _refuse(run, letters.pop(name), f"case {name} was merged or disposed of meanwhile. File it again")
                continue
            OutputFolder(run.records.place(case)).close()  # one that somebody has written into the plan has none yet
            known = case_log.filed(run.records.place(case)) if case.closed is not None else set()
            new = [letter for letter in letters[name] if case.closed is not None and letter.digest not in known]
            if new and reopen:
                plan.keep(replace(case, closed=None))
                run.records.note(plan, case, "reopened", why="filing")
            elif new:
                _refuse(run, new, f"case {name} was closed on {case.closed}. --reopen opens it again")
                letters[name] = [letter for letter in letters[name] if letter.digest in known]


def _stored(run: _Run, letters: dict[str, list[Letter]]) -> Iterator[Stored]:
    """The messages that were read back whole in all their cases, as they lie in their source."""
    met = set[tuple[str, str]]()
    for letter in itertools.chain(*letters.values()):
        one = letter.envelope
        if (one.folder, one.place) not in met:
            met.add((one.folder, one.place))
            if all(letter.digest in (run.stored or {}).get(name, ()) for name in letter.cases):
                yield Stored(one.folder, one.place, one.fingerprint(), letter.digest)


def _refuse(run: _Run, letters: Iterable[Letter], reason: str) -> None:
    """Letters that do not go into a case."""
    for envelope in (letter.envelope for letter in letters):
        run.report.refused.append(Failure(envelope.id, envelope.folder, one_line(envelope.header.subject), reason))


def _file(run: _Run, held: Held, letters: dict[str, list[Letter]]) -> None:
    """Export letters into the folders of their cases, and log what is new in each."""
    jobs = run.options.get("jobs") or os.cpu_count() or 1
    there: dict[str, dict[str, Thread]] = {}
    # several cases at a time, since each waits for the disk and for its last page
    patience = max((options_of(run.records, run.plan.get(name), run.options).timeout for name in letters), default=1.0)
    with ProcessWorkers(jobs, patience) as workers, ThreadPoolExecutor(jobs + 4) as threads:
        running = [
            threads.submit(_into, run, run.plan.get(name), Filing(name, letters[name], held), workers)
            for name in letters
        ]
        try:
            for name, future in zip(letters, running, strict=True):
                try:
                    done, now = future.result()
                except TargetError:
                    if run.records.place(run.plan.get(name)).exists():
                        raise
                    _refuse(run, letters[name], f"case {name} was merged or disposed of meanwhile. File it again")
                    continue
                if done is None:
                    run.report.interrupted = True
                    continue
                run.report.reports[name] = done
                there[name] = now
        finally:
            for future in running:
                future.cancel()
            run.index.add(there)
            _log(run, there)


def _log(run: _Run, there: dict[str, dict[str, Thread]]) -> None:
    """Write what was filed into the logs of its cases: what is not in them yet, for another clerk may have filed the
    same."""
    places = {name: run.records.place(run.plan.get(name)) for name in there}
    if all(there[name].keys() <= case_log.filed(place) for name, place in places.items()):
        return
    with run.records.changing() as plan:
        for name, place in places.items():
            # what was filed before it was merged was taken along
            digests = sorted(there[name].keys() - case_log.filed(place)) if name in plan.cases else []
            if digests:
                about = {"messages": len(digests), "from": one_line(run.source.location), "sha256": digests}
                run.records.note(plan, plan.get(name), "filed", **about)


def _into(run: _Run, case: Case, filing: Filing, workers: Executor) -> tuple[ExportReport | None, dict[str, Thread]]:
    """Export messages into a case's folder, those of each title by themselves. Returns the report (None: it was
    stopped before), and how those that are there now hang together with others, by their digests."""
    titled: dict[str, list[Letter]] = {}
    for letter in filing.letters:
        titled.setdefault(letter.title, []).append(letter)
    done, there = ExportReport(str(run.records.place(case))), dict[str, Thread]()
    for title, letters in titled.items():
        if run.stopped():
            return None, {}
        called = {"title": literal(title)} if title and run.options.get("title") is None else {}
        made = options_of(run.records, case, run.options | called).with_names(run.names)
        one, now = _export(run, case, Filing(case.reference, letters, filing.held), made, workers)
        done.add(one)
        there |= now
        if one.interrupted:
            return None, {}
    return done, there


def _export(
    run: _Run, case: Case, filing: Filing, made: ExportOptions, workers: Executor
) -> tuple[ExportReport, dict[str, Thread]]:
    """Export messages into a case's folder. Returns the report, and how those that are there now hang together."""
    place = run.records.place(case)
    there = set[str]()
    if run.stored is None:  # else an export reads all of it back
        there = as_wanted(place, made) & filing.digests & case_log.filed(place)
    letters = [letter for letter in filing.letters if letter.digest not in there]
    if made.attachments_alone:
        whole = Filing(case.reference, letters, filing.held)
        having = {envelope.stamp for envelope in Choice().with_attachments().select(whole)}
        letters = [letter for letter in letters if letter.digest in having]
    rest = Filing(case.reference, letters, filing.held)

    def note(kept: list[Stored]) -> tuple[int, list[tuple[str, str]]]:
        if run.stored is not None:
            run.stored.setdefault(case.reference, set()).update(one.digest for one in kept)
        return 0, []

    done = ExportReport(str(place))
    if rest.letters:
        done = export(
            *(rest, place, Choice(), made),
            stopped=run.stopped,
            executor=workers,
            afterwards=None if run.stored is None else note,
            patience=PATIENCE,
            make=False,
        )
        done.changed_at_the_source = None
    done.chosen += len(there)
    done.already_there += len(there)
    failed = {failure.id for failure in done.failures}
    threads = rest.threads()
    return done, {one.stamp: threads[one.stamp] for one in rest.envelopes("") if one.id not in failed}


def options_of(records: Records, case: Case, options: dict[str, Any]) -> ExportOptions:
    """The options of an export into a case: ours, those of the case, those of the call. Raises CallError."""
    tags = dict.fromkeys([*case.tags, *options.get("tag", ()), case.reference])
    plain = {**FILE_DEFAULTS, **case.options, **options, "tag": ()}
    made = replace(export_options(plain, None, records.clock(), (case.reference, case.title)), carried=False)
    return replace(made, tags=tuple(TextPattern(literal(tag), "tag") for tag in tags))


def mend(records: Records, case: Case) -> None:
    """Make the journal of a case's folder again, from its register and its checksums."""
    nothing = Filing(case.reference, [], None)
    export(nothing, records.place(case), Choice(), options_of(records, case, {}), patience=PATIENCE)
