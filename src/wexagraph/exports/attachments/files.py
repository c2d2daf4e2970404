"""Attachments and PDFs of them on their way into the folder: named, bound by type, put, and noted in the journal."""

from __future__ import annotations

import os
import re
import time
from collections import Counter
from dataclasses import asdict, dataclass, field, replace
from typing import Any

from wexagraph.errors import PageError
from wexagraph.exports.attachments.documents import Paged, Part, bind_type, sort_key, type_stem
from wexagraph.exports.attachments.options import ExtractOptions
from wexagraph.exports.attachments.pulling import Pulled
from wexagraph.exports.journal.attachments import Attachments, Document, Entry, Origin
from wexagraph.output.staging import Staged
from wexagraph.output.target import Target
from wexagraph.reports import AGAIN, NEW, Failure, PlannedFile, Report
from wexagraph.work.batches import WorkerLost
from wexagraph.work.pool import ProcessWorkers

_BATCH, _BATCH_SECONDS = 512, 2.0
_NUMBER = re.compile(r" \(\d+\)\.pdf$")


class AttachmentFiles:
    """What was taken out of messages, put into the folder in batches; the report counts it."""

    def __init__(
        self, target: Target, attachments: Attachments, options: ExtractOptions, report: AttachmentReport
    ) -> None:
        self.target, self.attachments, self.options, self.report = target, attachments, options, report
        self.batch: list[tuple[list[Entry], Staged]] = []  # files to be put, with the attachments that are in each
        self.parts: list[tuple[Entry, Part]] = []  # of PDFs that are bound by type
        self.met: list[Origin] = []
        self.claimed: set[str] = set()  # paths of PDFs of an earlier run that this run has made otherwise
        self.since = time.monotonic()

    def take(self, pulled: Pulled) -> list[str]:
        """Name what was taken out of a message, and put it when the batch is full. Returns a line for each attachment
        that was to be a PDF: what became of it."""
        before = len(self.report.documents or ())
        for entry, staged in zip(pulled.entries, pulled.staged, strict=True):
            self._name(entry, staged)
            self.attachments.add(entry)
        for paged in pulled.paged:
            self._name_pdf([pulled.entries[number] for number in paged.states], paged)
        self.parts += [(pulled.entries[part.number], part) for part in pulled.parts]
        self.met.append(pulled.origin)
        if len(self.batch) >= _BATCH or time.monotonic() - self.since > _BATCH_SECONDS:
            self.put()
        return [f"{each.name}: {each.state}" for each in (self.report.documents or [])[before:]]

    def _name(self, entry: Entry, staged: Staged | None) -> None:
        """Give an attachment its path: the one it had, that of an identical one, or the first that is free."""
        report, before = self.report, self.attachments.before(entry)
        report.types[entry.type] += 1
        report.folders[entry.origin.folder] += 1
        if entry.note:
            report.notes[entry.note] += 1
        if before is not None:
            entry.document = before.document
        if staged is None:
            if before is not None:
                entry.path, entry.modified, entry.recipe = before.path, before.modified, before.recipe
            return
        entry.recipe = self.options.recipes[0]
        before = before if before is not None and before.path else None
        if before is not None and not self.options.once and self.attachments.is_of_another(before):
            before = None  # an earlier run wrote identical files once
        if before is not None and before.sha256 == entry.sha256:
            entry.path = before.path
            if self.target.is_intact(before.path, before.size, before.modified, before.sha256):
                entry.modified = before.modified
                self._is_there(staged)
                return
            staged.replaces = True
        elif self.options.once and (same := self.attachments.path_of(entry.sha256)):
            entry.path = same
            entry.modified = (self.target.stamp(same) or (0, staged.modified))[1]
            os.unlink(staged.waiting)
            report.same += 1
            return
        else:
            entry.path, there = self.attachments.free(entry.wish, entry.sha256, self.target)
            if there:
                entry.modified = (self.target.stamp(entry.path) or (0, 0))[1]
                self._is_there(staged)
                return
        staged.path, entry.modified = entry.path, staged.modified
        self.batch.append(([entry], staged))

    def _is_there(self, staged: Staged) -> None:
        os.unlink(staged.waiting)
        self.report.already_there += self.options.native

    def _name_pdf(self, entries: list[Entry], paged: Paged) -> None:
        """Give a PDF its path: the one it had, that of the PDF of identical bytes, or the first that is free."""
        new, staged = Document("", recipe=self.options.recipes[1]), paged.staged
        old = next((e.document for e in entries if self._is_old(e.document, paged.wish)), None)
        same = self.attachments.document_of(entries[0].sha256) if self.options.once and len(entries) == 1 else None
        if staged is None:
            self.report.unmade += len(entries)
        elif old is None and same is not None and same.path:
            os.unlink(staged.waiting)
            self.report.same += not self.options.native
            new = same
        else:
            new.size, new.sha256, new.modified = staged.size, staged.sha256, staged.modified
            if old is not None:
                new.path, staged.replaces = old.path, True
                there = old.sha256 == staged.sha256 and self.target.stamp(old.path) is not None
                self.claimed.add(old.path)
            else:
                new.path, there = self.attachments.free(paged.wish, staged.sha256, self.target)
            if there:
                new.modified = (self.target.stamp(new.path) or (0, staged.modified))[1]
                os.unlink(staged.waiting)
                self.report.already_there += 0 if self.options.native else len(entries)
            else:
                staged.path = new.path
                self.batch.append((entries, staged))
        for entry, state in zip(entries, paged.states.values(), strict=True):
            self._settle_document(entry, replace(new, state=state), paged.words, paged.confidence)

    def _is_old(self, document: Document | None, wish: str) -> bool:
        """Whether a PDF of an earlier run is what is made anew now: of this name, and as that run has left it."""
        if document is None or not document.path or document.path in self.claimed:
            return False
        named = _NUMBER.sub(".pdf", document.path) == wish or document.path == wish
        return named and self.target.sha256(document.path) in (document.sha256, None)

    def _settle_document(self, entry: Entry, document: Document, words: int, confidence: float) -> None:
        entry.document, origin = document, entry.origin
        self.attachments.add(entry)
        path, state = document.path, document.state
        if self.report.documents is not None:
            self.report.documents.append(
                AttachmentDocument(
                    origin.id, origin.folder, entry.name, entry.type, path, state, words, round(confidence, 1)
                )
            )

    def bind_types(self) -> None:
        """Bind what waits of each type, in workers; only then the messages count as met with what they are bound into.

        Raises OSError."""
        options = self.options.document
        assert options is not None
        by_type: dict[str, list[tuple[Entry, Part]]] = {}
        for entry, part in self.parts:
            by_type.setdefault(part.type, []).append((entry, part))
        with ProcessWorkers(self.options.jobs, 0) as pool:
            running = []
            for kind, members in sorted(by_type.items()):
                members.sort(key=lambda m: sort_key(options.order, m[1].name, m[1].date, m[1].type))
                parts = [part for _, part in members]
                bound = pool.submit_lasting(bind_type, str(self.target.work), kind, parts, options)
                running.append((kind, members, bound))
            for kind, members, bound in running:
                staged, more = None, ""
                try:
                    staged, more = bound.result()
                except (PageError, WorkerLost) as error:
                    more = f"; not bound: {error}"
                states = {number: part.state + more for number, (_, part) in enumerate(members)}
                self._name_pdf([entry for entry, _ in members], Paged(states, f"{type_stem(kind)}.pdf", staged))
                for part in (part for _, part in members):
                    os.unlink(part.waiting)

    def put(self, last: bool = False) -> None:
        """Put what waits. Only with the `last` batch messages count as met by PDFs that are bound by type."""
        batch, self.batch = self.batch, []
        self.since = time.monotonic()
        short: set[int] = set()
        wished = [staged.path for _, staged in batch]
        results = self.target.put([staged for _, staged in batch])
        for (entries, staged), path, (_, refused) in zip(batch, wished, results, strict=True):
            if staged.path != path:  # somebody else's file has taken the name meanwhile
                self._renamed(entries, path, staged.path)
            first, native = entries[0], staged.path == entries[0].path
            if refused:
                self.report.fail(Failure(first.origin.id, first.origin.folder, first.name, refused))
                for entry in entries:
                    self.attachments.drop(entry)
                    short.add(id(entry.origin))
            else:
                if native or not self.options.native:
                    self.report.written += len(entries)
                self.report.pdfs += not native
                self.report.bytes += staged.size
                self._plan(first, staged, AGAIN if staged.replaces else NEW)
        # the next run tries again what could not be put
        done = [origin for origin in self.met if id(origin) not in short]
        of_native, of_pdf = self.options.recipes
        if self.options.binds_types and not last:
            self.attachments.meet(done, [of_native])
            self.met = done
        else:
            self.attachments.meet(done, [of_native, of_pdf])
            self.met = []

    def _renamed(self, entries: list[Entry], old: str, new: str) -> None:
        for entry in entries:
            if entry.path == old:
                entry.path = new
            elif entry.document is not None:
                entry.document = replace(entry.document, path=new)
            self.attachments.add(entry)

    def _plan(self, entry: Entry, staged: Staged, state: str) -> None:
        if self.report.planned is not None:
            origin, kind = entry.origin, entry.type if staged.path == entry.path else "application/pdf"
            file = PlannedFile(staged.path, state, kind, origin.id, origin.folder, origin.subject, staged.size)
            self.report.planned.append(file)


@dataclass(frozen=True, slots=True)
class AttachmentDocument:
    """What became of an attachment that was to be a PDF: the path of that ("" where none could be made), what happened
    in words, and how many words were recognised, of which the program is sure to `confidence` percent."""

    id: str
    folder: str
    name: str
    type: str
    pdf: str
    state: str
    words: int = 0
    confidence: float = 0.0


@dataclass
class AttachmentReport(Report):
    """The sums of attachments alone: `chosen` and `failed` count messages; `written`, `already_there` and `same` (as
    another, which was written once) count attachments, `types` all of them by media type, `folders` by folder. `pdfs`
    counts the PDFs that were written, `unmade` the attachments that no PDF could be made of; `documents` says what
    became of each that this run was at (None: no PDFs were asked for)."""

    same: int = 0
    types: Counter[str] = field(default_factory=Counter)
    folders: Counter[str] = field(default_factory=Counter)
    pdfs: int = 0
    unmade: int = 0
    documents: list[AttachmentDocument] | None = None

    def as_dict(self) -> dict[str, Any]:
        values = super().as_dict()
        if self.documents is None:
            for name in ("pdfs", "unmade", "documents"):
                del values[name]
        else:
            values["documents"] = [asdict(each) for each in self.documents]
        return values
