"""Filing messages into cases: where each belongs, read once, exported into the folders of its cases, and logged."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from concurrent.futures import Executor, ThreadPoolExecutor
from contextlib import closing
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from wexagraph.app.cases import PATIENCE, Records
from wexagraph.app.options import EXPORT_DEFAULTS, export_options
from wexagraph.errors import CallError, MessageError
from wexagraph.exports.formats import ATTACHMENTS, FORMATS
from wexagraph.exports.options import ExportOptions
from wexagraph.exports.register import files_by_digest
from wexagraph.exports.report import ExportReport
from wexagraph.exports.run import export
from wexagraph.files import open_regular
from wexagraph.messages.conversations import Thread, thread
from wexagraph.messages.headers import Header, header_end
from wexagraph.naming import TextPattern
from wexagraph.records import case_log
from wexagraph.records.filed import Filed
from wexagraph.records.fileplan import Case, FilePlan
from wexagraph.records.filing import Filing, Held, Letter
from wexagraph.records.placing import Placement, Placer
from wexagraph.reports import Failure
from wexagraph.selection import Choice
from wexagraph.sources import Envelope, Source
from wexagraph.sources.base import bounded
from wexagraph.text import one_line
from wexagraph.work.pool import ProcessWorkers

FILE_DEFAULTS = {**EXPORT_DEFAULTS, "as": "pdf,eml", "flat": True}
_PAGE_PATIENCE = 30.0
_AT_ONCE, _AT_ONCE_BYTES = 500, 64 * 1024 * 1024


@dataclass(frozen=True)
class Placed:
    """A message and where it goes."""

    envelope: Envelope
    placement: Placement


@dataclass
class FilingReport:
    """What was filed: the placements, the report of each case's folder, and messages that could not be read."""

    placed: list[Placed] = field(default_factory=list)
    reports: dict[str, ExportReport] = field(default_factory=dict)
    failures: list[Failure] = field(default_factory=list)
    interrupted: bool = False
    unreadable: list[tuple[str, str]] = field(default_factory=list)

    @property
    def complete(self) -> bool:
        """Whether all that was to be filed is filed."""
        return not (self.failures or self.interrupted or self.unreadable) and all(
            report.complete for report in self.reports.values()
        )


@dataclass
class _Run:
    """A run of filing: what it files from and with, and its report."""

    records: Records
    plan: FilePlan
    index: Filed
    source: Source
    options: dict[str, Any]
    stopped: Callable[[], bool]
    report: FilingReport = field(default_factory=FilingReport)


def file_messages(
    records: Records,
    source: Source,
    choice: Choice,
    reference: str | None,
    options: dict[str, Any],
    stopped: Callable[[], bool] = lambda: False,
    dry: bool = False,
) -> FilingReport:
    """File the chosen messages into a case, or (`reference` None) where the plan says. `options` are those of an
    export, by their names on the command line. Raises CallError, SourceError, TargetError."""
    if options.get("as") == ATTACHMENTS:
        choice = choice.with_attachments()
    with closing(Filed(records.folder)) as index:
        run = _Run(records, records.plan(), index, source, options, stopped)
        _bring_up(run)
        envelopes = list(choice.select(source))
        if reference is not None:
            name = run.plan.get(reference).reference
            placements = [Placement([name], "named") for _ in envelopes]
        else:
            placements = _places(run, envelopes)
        run.report.placed = [Placed(*pair) for pair in zip(envelopes, placements, strict=True)]
        if not dry:
            held = Held(source)
            _file(run, held, _letters(run, held))
    source.settle()
    run.report.unreadable = [(trouble.where, trouble.reason) for trouble in source.troubles]
    return run.report


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


def _places(run: _Run, envelopes: list[Envelope]) -> list[Placement]:
    """Where each message belongs by the plan."""
    cases = run.plan.cases
    if not cases:
        raise CallError(f"{run.records.path} has no case yet. `wexagraph case open` opens one.")
    choices = {case.reference: Choice.from_dict(case.match) for case in cases.values() if case.match}

    def matches(case: Case, envelope: Envelope) -> bool:
        try:
            return choices[case.reference].matches(run.source, envelope)
        except MessageError:
            return False  # what can't be read is told when it is filed

    def known(id: int) -> list[str]:
        return [name for name in run.index.cases_of(id) if name in cases]  # others were disposed of

    return Placer(cases.values(), known).place_all(envelopes, matches)


def _letters(run: _Run, held: Held) -> dict[str, list[Letter]]:
    """What has a place, read for its digest, by the references of cases."""
    placed = [each for each in run.report.placed if each.placement.cases]
    wanted = {id(each.envelope): each.placement.cases for each in placed}
    letters: dict[str, list[Letter]] = {}
    for batch in bounded((each.envelope for each in placed), _AT_ONCE, _AT_ONCE_BYTES):
        if run.stopped():
            run.report.interrupted = True
            return {}
        for letter in held.letters(batch):
            if isinstance(letter, Letter):
                for name in wanted[id(letter.envelope)]:
                    letters.setdefault(name, []).append(letter)
            else:
                envelope, error = letter
                subject = one_line(envelope.header.subject)
                run.report.failures.append(Failure(envelope.id, envelope.folder, subject, str(error)))
    return letters


def _file(run: _Run, held: Held, letters: dict[str, list[Letter]]) -> None:
    """Export letters into the folders of their cases, and log what is new in each."""
    jobs = run.options.get("jobs") or os.cpu_count() or 1
    there: dict[str, dict[str, Thread]] = {}
    new: dict[str, list[str]] = {}
    # several cases at a time, since each waits for the disk and for its last page
    with ProcessWorkers(jobs, _PAGE_PATIENCE) as workers, ThreadPoolExecutor(jobs + 4) as threads:
        running = [
            threads.submit(_into, run, run.plan.get(name), Filing(name, letters[name], held), workers)
            for name in letters
        ]
        try:
            for name, future in zip(letters, running, strict=True):
                done, now, known = future.result()
                if done is None:
                    run.report.interrupted = True
                    continue
                run.report.reports[name] = done
                there[name] = now
                new[name] = sorted(now.keys() - known)
        finally:
            for future in running:
                future.cancel()
            run.index.add(there)
            _log(run, {name: digests for name, digests in new.items() if digests})


def _log(run: _Run, new: dict[str, list[str]]) -> None:
    """Write what was filed into the logs of its cases."""
    if new:
        with run.records.changing() as plan:
            for name, digests in new.items():
                about = {"messages": len(digests), "from": one_line(run.source.location), "sha256": digests}
                run.records.note(plan, plan.get(name), "filed", **about)


def _into(
    run: _Run, case: Case, filing: Filing, workers: Executor
) -> tuple[ExportReport | None, dict[str, Thread], set[str]]:
    """Export messages into a case's folder. Returns the report (None: it was stopped before), how those that are there
    now hang together with others, by their digests, and those that were filed before."""
    if run.stopped():
        return None, {}, set()
    place, made = run.records.place(case), options_of(run.records, case, run.options)
    known = case_log.filed(place)
    there = _there(place, known, made) & filing.digests if known else set()
    letters = [letter for letter in filing.letters if letter.digest not in there]
    if made.attachments_alone:
        whole = Filing(case.reference, letters, filing.held)
        having = {envelope.stamp for envelope in Choice().with_attachments().select(whole)}
        letters = [letter for letter in letters if letter.digest in having]
    rest = Filing(case.reference, letters, filing.held)
    done = ExportReport(str(place))
    if rest.letters:
        done = export(rest, place, Choice(), made, stopped=run.stopped, executor=workers, patience=PATIENCE)
    done.chosen += len(there)
    done.already_there += len(there)
    if done.interrupted:
        return None, {}, known
    failed = {failure.id for failure in done.failures}
    threads = rest.threads()
    return done, {one.stamp: threads[one.stamp] for one in rest.envelopes("") if one.id not in failed}, known


def _there(place: Path, known: Iterable[str], options: ExportOptions) -> set[str]:
    """Of messages that were filed, those whose files are there in all formats that are wanted."""
    if ATTACHMENTS in options.formats:
        return set()  # only the journal of the folder knows which files they are
    suffixes = [FORMATS[name].suffix for name in options.message_formats]
    files = files_by_digest(place)
    return {
        digest
        for digest in known
        if all(any(file.endswith(suffix) for file in files.get(digest, ())) for suffix in suffixes)
    }


def options_of(records: Records, case: Case, options: dict[str, Any]) -> ExportOptions:
    """The options of an export into a case: ours, those of the case, those of the call. Raises CallError."""
    tags = dict.fromkeys([*case.tags, *options.get("tag", ()), case.reference])
    plain = {**FILE_DEFAULTS, **case.options, **options, "tag": ()}
    made = export_options(plain, None, records.clock(), (case.reference, case.title))
    return replace(made, tags=tuple(TextPattern(tag.replace("{", "{{").replace("}", "}}"), "tag") for tag in tags))


def mend(records: Records, case: Case) -> None:
    """Make the journal of a case's folder again, from its register and its checksums."""
    nothing = Filing(case.reference, [], None)
    export(nothing, records.place(case), Choice(), options_of(records, case, {}), patience=PATIENCE)
