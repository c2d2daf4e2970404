"""A seal in each PDF of an export, for those that are handed out alone. Their list of checksums is sealed besides."""

from __future__ import annotations

import io
from collections import deque
from concurrent.futures import Future, ThreadPoolExecutor
from datetime import datetime

from wexagraph.errors import PageError
from wexagraph.exports.context import Context
from wexagraph.exports.journal.records import FileRecord
from wexagraph.protection.signatures import NotSigned
from wexagraph.reports import Sealing
from wexagraph.seals import stamps
from wexagraph.seals.documents import END, check_pdf, is_sealed, sealed
from wexagraph.seals.signatures import read_key

_AT_ONCE = 4
"""So many wait for their stamps."""


def seal_documents(run: Context, sealing: Sealing, moment: datetime) -> None:
    """Seal the PDFs of this run that are not sealed yet, and count them in its report. Where no stamp is to be had,
    they stay without a seal, and the next run seals them. Raises CallError, TargetError."""
    key, lock = read_key(sealing.key, sealing.password), run.options.lock
    password = lock.user if lock is not None else ""
    stamp = (lambda digest: stamps.token(sealing.stamp, digest)) if sealing.stamp else None
    waiting = deque[tuple[list[FileRecord], Future[bytes]]]()
    try:
        with ThreadPoolExecutor(_AT_ONCE) as threads:
            for records in run.journal.files.pdfs_of_run(run.journal.run, run.options.naming):
                if run.stopped():
                    run.report.interrupted = True
                if run.report.interrupted or run.report.unstamped:
                    break
                with run.target.root.reader(records[0].path) as file:
                    pdf = file.read()
                if not _holds(pdf):
                    waiting.append((records, threads.submit(sealed, pdf, key, moment, stamp, password)))
                if len(waiting) > _AT_ONCE:
                    _put(run, *waiting.popleft())
            while waiting:
                _put(run, *waiting.popleft())
        run.target.settle()
    except OSError as error:
        raise run.target.failed(error) from error
    finally:
        run.journal.commit()


def _holds(pdf: bytes) -> bool:
    try:
        return is_sealed(pdf[-END:]) and check_pdf(io.BytesIO(pdf)) is not None
    except NotSigned:
        return False


def _put(run: Context, records: list[FileRecord], made: Future[bytes]) -> None:
    """Put a PDF with its seal under its name, in place of the one without."""
    record, numbers, prefix = records[0], run.journal.numbers, run.options.numbered
    try:
        content = made.result()
    except stamps.NoStamp as error:
        run.report.unstamped = str(error)
        return
    except PageError as error:
        run.report.unreadable.append((record.path, f"it has no seal of its own: {error}"))
        return
    number = numbers.of(prefix, record.message) if prefix else None
    staged = run.target.stage(record.path, content, True)
    if run.publisher.put_anew(records, staged, (prefix, number.first) if number is not None else None):
        run.report.sealed_each += 1
