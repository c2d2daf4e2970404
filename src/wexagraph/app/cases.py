"""The cases of a records folder: the plan changed by one at a time, messages filed, each step in the case's log."""

from __future__ import annotations

import getpass
import os
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Executor
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from datetime import date, datetime
from pathlib import Path
from typing import Any

from wexagraph.app.options import EXPORT_DEFAULTS, export_options
from wexagraph.errors import CallError, InUse, MessageError, TargetError
from wexagraph.exports.formats import FORMATS
from wexagraph.exports.options import ExportOptions
from wexagraph.exports.register import files_by_digest
from wexagraph.exports.report import ExportReport
from wexagraph.exports.run import export
from wexagraph.messages.conversations import thread
from wexagraph.messages.headers import Header, header_end
from wexagraph.naming import TextPattern
from wexagraph.output.folder import OutputFolder
from wexagraph.records import case_log
from wexagraph.records.filed import Filed
from wexagraph.records.fileplan import FILE_PLAN, Case, FilePlan, Hold, after, checked_reference, read_plan
from wexagraph.records.filing import Filing, Held, Letter
from wexagraph.records.placing import Placement, Placer
from wexagraph.reports import Failure
from wexagraph.selection import Choice
from wexagraph.sources import Envelope, Source
from wexagraph.sources.base import bounded
from wexagraph.text import one_line
from wexagraph.work.pool import ProcessWorkers

FILE_DEFAULTS = {**EXPORT_DEFAULTS, "as": "pdf,eml", "flat": True}
_PATIENCE, _PAGE_PATIENCE = 600.0, 30.0
_AT_ONCE, _AT_ONCE_BYTES = 500, 64 * 1024 * 1024


def records_folder(given: str | None, configured: str = "") -> Path:
    """The folder of the records: as given, from WEXAGRAPH_RECORDS, or as configured. Raises CallError."""
    place = given or os.environ.get("WEXAGRAPH_RECORDS") or configured
    if not place:
        raise CallError(
            "no records folder is named. Give --records DIR, or set WEXAGRAPH_RECORDS, or write records = 'DIR' "
            "below [options] in your wexagraph.toml."
        )
    return Path(place).expanduser().absolute()


def user_name() -> str:
    """Who does something: the user of the system; "" where it has no name."""
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return ""


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


class Records:
    """A records folder. `clock` gives the moment, in the office's zone; `who` is who does it."""

    def __init__(self, folder: Path, clock: Callable[[], datetime], who: str) -> None:
        self.folder, self.clock, self.who = folder, clock, who
        self.path = folder / FILE_PLAN

    @property
    def today(self) -> date:
        """The day of the office."""
        return self.clock().date()

    def plan(self) -> FilePlan:
        """The file plan as it lies there. Raises CallError."""
        return read_plan(self.path)

    def place(self, case: Case) -> Path:
        """The folder of a case."""
        return self.folder / case.folder

    @contextmanager
    def changing(self) -> Iterator[FilePlan]:
        """The plan, for a change: read when nobody else changes it, and written whole. Raises CallError,
        TargetError."""
        try:
            with OutputFolder(self.folder) as folder:
                holder = folder.take_lock(_PATIENCE)
                if holder is not None:
                    raise InUse(f"{self.folder} is in use by process {holder or 'of somebody'}. Wait for it.")
                plan = self.plan()
                yield plan
                text = plan.to_toml()
                if text != plan.text:
                    folder.write(FILE_PLAN, text.encode("utf-8"))
        except OSError as error:
            raise TargetError(f"{self.folder} can't be written to: {error.strerror or error}.") from error

    def note(self, plan: FilePlan, case: Case, what: str, **about: Any) -> None:
        """Write into a case's log, and the digest of its last line into the plan."""
        digest = case_log.append(self.place(case), self.clock(), self.who, what, **about)
        plan.keep(replace(plan.get(case.reference), log=digest))

    # cases

    def open(
        self,
        reference: str,
        title: str,
        match: dict[str, Any],
        keep: str = "",
        tags: Iterable[str] = (),
        folder: str = "",
    ) -> Case:
        """Open a case. Raises CallError."""
        reference, title = checked_reference(reference), one_line(title).strip()
        if not title or len(title) > 300:
            raise CallError("a case has a title of one line, at most 300 letters.")
        if keep:
            after(self.today, keep)
        Choice.from_dict(match)
        with self.changing() as plan:
            case = plan.add(Case(reference, title, folder, self.today, match, tuple(tags), keep=keep))
            self.note(plan, case, "opened", title=title)
        return case

    def close(self, reference: str, on: date | None = None) -> Case:
        """Close a case. Raises CallError."""
        with self.changing() as plan:
            case, day = plan.get(reference), on or self.today
            if case.closed is not None:
                raise CallError(f"case {case.reference} was closed on {case.closed} already.")
            if day < case.opened:
                raise CallError(f"case {case.reference} was opened on {case.opened}: it can't be closed before.")
            case = replace(case, closed=day)
            plan.keep(case)
            self.note(plan, case, "closed", on=day.isoformat())
        return case

    def reopen(self, reference: str) -> Case:
        """Open a closed case again. Raises CallError."""
        with self.changing() as plan:
            case = plan.get(reference)
            if case.closed is None:
                raise CallError(f"case {case.reference} is open.")
            case = replace(case, closed=None)
            plan.keep(case)
            self.note(plan, case, "reopened")
        return case

    def rename(self, reference: str, title: str) -> Case:
        """Give a case another title; its folder keeps its name, so that links into it hold. Raises CallError."""
        title = one_line(title).strip()
        if not title:
            raise CallError("a case has a title of one line.")
        with self.changing() as plan:
            old = plan.get(reference)
            case = replace(old, title=title)
            plan.keep(case)
            self.note(plan, case, "renamed", title=title, before_it=old.title)
        return case

    def hold(self, reference: str, why: str) -> Case:
        """Stop the disposal of a case. Raises CallError."""
        why = one_line(why).strip()
        if not why:
            raise CallError("--why says what the hold is for; it is empty.")
        with self.changing() as plan:
            case = plan.get(reference)
            case = replace(case, holds=(*case.holds, Hold(why, self.today, self.who)))
            plan.keep(case)
            self.note(plan, case, "held", why=why)
        return case

    def release(self, reference: str) -> Case:
        """End all holds of a case. Raises CallError."""
        with self.changing() as plan:
            case = plan.get(reference)
            if not case.holds:
                raise CallError(f"case {case.reference} is not on hold.")
            ended = [hold.why for hold in case.holds]
            case = replace(case, holds=())
            plan.keep(case)
            self.note(plan, case, "released", ended=ended)
        return case

    def due(self) -> list[Case]:
        """The cases whose time is over and that nothing holds."""
        return [case for case in self.plan().cases.values() if case.state(self.today) == "due"]

    # filing

    def file(
        self,
        source: Source,
        choice: Choice,
        reference: str | None,
        options: dict[str, Any],
        stopped: Callable[[], bool] | None = None,
        dry: bool = False,
    ) -> FilingReport:
        """File the chosen messages into a case, or (`reference` None) where the plan says. `options` are those of an
        export, by their names on the command line. Raises CallError, SourceError, TargetError."""
        stopped = stopped or (lambda: False)
        plan, report, held = self.plan(), FilingReport(), Held(source)
        index = Filed(self.folder)
        try:
            self._bring_up(plan, index)
            envelopes = list(choice.select(source))
            if reference is not None:
                name = plan.get(reference).reference
                placements = [Placement([name], "named") for _ in envelopes]
            else:
                placements = self._places(plan, index, source, envelopes)
            report.placed = [Placed(*pair) for pair in zip(envelopes, placements, strict=True)]
            if not dry:
                self._file(plan, index, source, held, report, options, stopped)
        finally:
            index.close()
        source.settle()
        report.unreadable = [(trouble.where, trouble.reason) for trouble in source.troubles]
        return report

    def _bring_up(self, plan: FilePlan, index: Filed) -> None:
        """Make the index again of cases that it does not know, by the originals in their folders."""
        for case in plan.cases.values():
            if case.log and not index.knows(case.reference):
                place = self.place(case)
                found = []
                for digest, files in files_by_digest(place).items():
                    original = next((file for file in files if file.endswith(".eml")), None)
                    if original is not None:
                        data = (place / original).read_bytes()
                        found.append((digest, thread(Header(data[: header_end(data)]))))
                index.add(case.reference, found)

    def _places(self, plan: FilePlan, index: Filed, source: Source, envelopes: list[Envelope]) -> list[Placement]:
        if not plan.cases:
            raise CallError(f"{self.path} has no case yet. `wexagraph case open` opens one.")
        choices = {case.reference: Choice.from_dict(case.match) for case in plan.cases.values() if case.match}

        def matches(case: Case, envelope: Envelope) -> bool:
            try:
                return choices[case.reference].matches(source, envelope)
            except MessageError:
                return False  # what can't be read is told when it is filed

        def known(id: int) -> list[str]:
            return [name for name in index.cases_of(id) if name in plan.cases]  # others were disposed of

        return Placer(plan.cases.values(), known).place_all(envelopes, matches)

    def _file(
        self,
        plan: FilePlan,
        index: Filed,
        source: Source,
        held: Held,
        report: FilingReport,
        options: dict[str, Any],
        stopped: Callable[[], bool],
    ) -> None:
        """Read what has a place, and export it into the folder of each of its cases."""
        wanted = {id(each.envelope): each.placement.cases for each in report.placed if each.placement.cases}
        letters: dict[str, list[Letter]] = {}
        for batch in bounded(
            (each.envelope for each in report.placed if each.placement.cases), _AT_ONCE, _AT_ONCE_BYTES
        ):
            if stopped():
                report.interrupted = True
                return
            for found in held.letters(batch):
                if isinstance(found, Letter):
                    for name in wanted[id(found.envelope)]:
                        letters.setdefault(name, []).append(found)
                else:
                    envelope, error = found
                    report.failures.append(_failure(envelope, error))
        with ProcessWorkers(options.get("jobs") or os.cpu_count() or 1, _PAGE_PATIENCE) as workers:
            new: dict[str, list[str]] = {}
            try:
                for name in letters:
                    if stopped():
                        report.interrupted = True
                        return
                    filing = Filing(name, letters[name], held)
                    new[name] = self._into(plan.get(name), index, filing, report, options, stopped, workers)
            finally:
                self._note_filed(source, {name: digests for name, digests in new.items() if digests})

    def _note_filed(self, source: Source, new: dict[str, list[str]]) -> None:
        """Write what was filed into the logs of its cases."""
        if new:
            with self.changing() as plan:
                for name, digests in new.items():
                    about = {"messages": len(digests), "from": one_line(source.location), "sha256": digests}
                    self.note(plan, plan.get(name), "filed", **about)

    def _into(
        self,
        case: Case,
        index: Filed,
        filing: Filing,
        report: FilingReport,
        options: dict[str, Any],
        stopped: Callable[[], bool],
        workers: Executor,
    ) -> list[str]:
        """Export messages into a case's folder. Returns the digests of those that are new in it."""
        place, made = self.place(case), self.options_of(case, options)
        known = case_log.filed(place)
        there = self._there(place, known, made) if known else set()
        chosen = [letter for letter in filing.letters if letter.digest not in there]
        rest = Filing(case.reference, chosen, filing.held)
        done = ExportReport(str(place))
        if chosen:
            done = export(rest, place, Choice(), made, stopped=stopped, executor=workers, patience=_PATIENCE)
        done.chosen += len(there & filing.digests)
        done.already_there += len(there & filing.digests)
        report.reports[case.reference] = done
        if done.interrupted:
            return []
        failed = {failure.id for failure in done.failures}
        threads = rest.threads()
        now = {one.stamp for one in rest.envelopes("") if one.id not in failed}
        index.add(case.reference, ((digest, threads[digest]) for digest in sorted(now)))
        return sorted(now - known)

    def _there(self, place: Path, known: set[str], options: ExportOptions) -> set[str]:
        """Of messages that were filed, those whose files are there in all formats that are wanted."""
        wanted = [FORMATS[name].suffix for name in options.message_formats]
        found = files_by_digest(place)
        return {
            digest
            for digest in known
            if digest in found and all(any(file.endswith(suffix) for file in found[digest]) for suffix in wanted)
        }

    def options_of(self, case: Case, options: dict[str, Any]) -> ExportOptions:
        """The options of an export into a case: ours, those of the case, those of the call. Raises CallError."""
        tags = [*case.tags, *options.get("tag", ()), case.reference]
        plain = {**FILE_DEFAULTS, **case.options, **options, "tag": ()}
        made = export_options(plain, None, self.clock(), (case.reference, case.title))
        texts = tuple(TextPattern(tag.replace("{", "{{").replace("}", "}}"), "tag") for tag in dict.fromkeys(tags))
        return replace(made, tags=texts)

    def mend(self, case: Case) -> None:
        """Make the journal of a case's folder again, from its register and its checksums."""
        nothing = Filing(case.reference, [], None)
        export(nothing, self.place(case), Choice(), self.options_of(case, {}), patience=_PATIENCE)

    def broken(self, case: Case) -> str:
        """Why the log of a case is not whole; "" where it is."""
        return case_log.broken(self.place(case), case.log)


def _failure(envelope: Envelope, error: MessageError) -> Failure:
    return Failure(envelope.id, envelope.folder, one_line(envelope.header.subject), str(error))


def on_hold() -> dict[str, str]:
    """The messages of cases on hold in the records that WEXAGRAPH_RECORDS names: references by digests. Raises
    CallError where the plan can't be read."""
    place = os.environ.get("WEXAGRAPH_RECORDS")
    if not place:
        return {}
    records = Path(place).expanduser().absolute()
    held = [case for case in read_plan(records / FILE_PLAN).cases.values() if case.holds]
    return {digest: case.reference for case in held for digest in case_log.filed(records / case.folder)}


def case_of(folder: Path) -> Case | None:
    """The case whose folder this is; None where it is of none."""
    with suppress(CallError):  # a plan that can't be read is told by the commands that need it
        plan = read_plan(folder.absolute().parent / FILE_PLAN)
        return next((case for case in plan.cases.values() if case.folder == folder.absolute().name), None)
    return None


def log_problem(folder: Path) -> str:
    """Why the log of the case that a folder belongs to is not whole; "" where it is, or there is none."""
    case = case_of(folder)
    return case_log.broken(folder, case.log if case else "")
