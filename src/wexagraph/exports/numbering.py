"""Running numbers through all PDFs of an export: on each page, and as the names of files.

A number is given once. It stays with its message while the PDF has as many pages; one that has others gets new numbers,
and the old ones are a gap.
"""

from __future__ import annotations

import posixpath
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future
from contextlib import suppress
from typing import NamedTuple

from wexagraph.errors import PageError
from wexagraph.exports.context import Context
from wexagraph.exports.journal.records import FileRecord
from wexagraph.exports.needs import move
from wexagraph.exports.options import suffix
from wexagraph.pages.pdf.numbers import NumberJob, number_pages, page_count
from wexagraph.work.batches import WorkerLost

_DIGITS = 6


class _Numbered(NamedTuple):
    """A PDF of this run: its records (of a bound one, a message each), and its first and last number."""

    records: list[FileRecord]
    first: int
    last: int


def label(prefix: str, number: int) -> str:
    """A number as it stands on a page and in a name."""
    return f"{prefix}{number:0{_DIGITS}}"


def number_files(run: Context, engine: str) -> None:
    """Number the PDFs of this run that are not numbered yet, in the order of their messages, name the other files of
    these messages alike, and say which numbers are in use. Raises TargetError."""
    options, waiting = run.options, deque[tuple[_Numbered, Future[bytes]]]()
    try:
        for one in _unnumbered(run):
            if run.stopped():
                run.report.interrupted = True
                break
            numbers = tuple(label(options.numbered, number) for number in range(one.first, one.last + 1))
            job = NumberJob(_bytes(run, one.records[0].path), numbers, options.page, engine, options.lock)
            waiting.append((one, run.workers().submit(number_pages, job)))
            if len(waiting) > options.jobs:
                _put(run, *waiting.popleft())
        while waiting:
            _put(run, *waiting.popleft())
        _name_others(run)
        run.target.settle()
    except OSError as error:
        raise run.target.failed(error) from error
    finally:
        run.drop_workers(wait=not waiting)
        run.journal.commit()
    _say(run)


def _unnumbered(run: Context) -> Iterator[_Numbered]:
    """The PDFs of this run without their numbers; which these are is noted before they stand on a page."""
    prefix, numbers = run.options.numbered, run.journal.numbers
    following = (numbers.last(prefix) or _last_in_names(run, prefix)) + 1
    for records in run.journal.files.pdfs_of_run(run.journal.run, run.options.naming):
        message = records[0].message
        known = numbers.of(prefix, message)
        if known is not None and known.sha256 == records[0].sha256:
            continue
        try:
            count = page_count(_bytes(run, records[0].path), run.options.lock)
        except PageError as error:
            _fail(run, records[0].path, error)
            continue
        if known is not None and known.last - known.first + 1 == count:
            first = known.first
        else:
            first, following = following, following + count
            numbers.give(prefix, message, first, first + count - 1)
            run.journal.commit()
        yield _Numbered(records, first, first + count - 1)


def _last_in_names(run: Context, prefix: str) -> int:
    """The last number of a folder whose journal was lost, by the names of files and their pages."""
    last = 0
    for path, _ in run.journal.files.checksums():
        stem, ending = posixpath.splitext(posixpath.basename(path))
        digits = stem.removeprefix(prefix)
        if ending == ".pdf" and stem.startswith(prefix) and len(digits) >= _DIGITS and digits.isdecimal():
            with suppress(PageError, OSError):
                last = max(last, int(digits) + page_count(_bytes(run, path), run.options.lock) - 1)
    return last


def _put(run: Context, one: _Numbered, numbered: Future[bytes]) -> None:
    """Put a PDF with its numbers under its name, in place of the one without them."""
    target, journal, record = run.target, run.journal, one.records[0]
    path = _named(record.path, label(run.options.numbered, one.first), "pdf")
    try:
        content = numbered.result()
    except (PageError, WorkerLost) as error:
        _fail(run, record.path, error)
        return
    ours = path == record.path or any(journal.files.has(each.message, path) for each in one.records)
    staged = target.stage(path, content, ours)
    journal.numbers.note(run.options.numbered, one.first, staged.sha256)
    run.publisher.put_anew(one.records, staged)


def _name_others(run: Context) -> None:
    """Give the other files of a message the number of its PDF."""
    journal, prefix, naming = run.journal, run.options.numbered, run.options.naming
    moves = []
    for record in journal.files.beside_pdfs(journal.run, naming):
        known = journal.numbers.of(prefix, record.message)
        path = _named(record.path, label(prefix, known.first), record.format) if known else record.path
        if path != record.path:
            moves.append((record, path))
    move(journal, run.target, moves, naming)


def _named(path: str, stem: str, format: str) -> str:
    return posixpath.join(posixpath.dirname(path), stem + suffix(format))


def _say(run: Context) -> None:
    """Which numbers of the folder are in use, and which were given and are not."""
    prefix, ranges = run.options.numbered, run.journal.numbers.in_use(run.options.numbered)
    following = 1
    for first, last in ranges:
        if first > following:
            run.report.gaps.append(_span(prefix, following, first - 1))
        following = last + 1
    if (end := run.journal.numbers.last(prefix)) >= following:
        run.report.gaps.append(_span(prefix, following, end))
    if ranges:
        run.report.numbered = _span(prefix, ranges[0][0], ranges[-1][1])


def _span(prefix: str, first: int, last: int) -> str:
    return label(prefix, first) if first == last else f"{label(prefix, first)} to {label(prefix, last)}"


def _fail(run: Context, path: str, reason: Exception | str) -> None:
    run.report.unreadable.append((path, f"it has no numbers: {reason}"))


def _bytes(run: Context, path: str) -> bytes:
    with run.target.root.reader(path) as file:
        return file.read()
