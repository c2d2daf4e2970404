"""Giving messages back: into a folder of EML, an mbox, a ZIP, a Maildir or an account, with folders, flags and dates.

A message that is there already is not doubled, so that the same command again goes on where it was.
"""

from __future__ import annotations

import errno
import hashlib
from collections.abc import Callable

from wexagraph.errors import MessageError, TargetError
from wexagraph.naming.patterns import NamePattern
from wexagraph.output.folder import InTheWay
from wexagraph.output.sinks.base import Delivery, Sink
from wexagraph.reports import NEW, Failure, PlannedFile, Report
from wexagraph.selection.choice import Choice
from wexagraph.sources.base import Envelope, Source

_ONLY_THIS_NAME = {errno.ENAMETOOLONG, errno.ENOTDIR, errno.EISDIR, errno.EINVAL, errno.EILSEQ, errno.ELOOP}
"""What a disk says of a name that it can't hold: it is a matter of that message, not of the disk."""


def restore(
    source: Source,
    sink: Sink,
    into: str,
    choice: Choice | None = None,
    *,
    progress: Callable[[int], None] | None = None,
    stopped: Callable[[], bool] | None = None,
    dry: bool = False,
    pattern: NamePattern | None = None,
) -> Report:
    """Give the chosen messages of a backup to a sink; `dry`, only say which ones would be put there, and where.
    `pattern` is that of the names of files.

    Raises SourceError, TargetError, CallError.
    """
    report = Report(into)
    planned: dict[tuple[str, str], PlannedFile] = {}  # by place and digest: what is put once is there
    whole = False
    try:
        for envelope, data in source.read_many((choice or Choice()).settled(source).select(source)):
            if stopped is not None and stopped():
                report.interrupted = True
                break
            report.chosen += 1
            if isinstance(data, MessageError):
                _fail(report, envelope, str(data))
                continue
            delivery = Delivery(envelope, data, hashlib.sha256(data).hexdigest(), pattern or NamePattern())
            try:
                where = sink.where(delivery) if dry else ""
                if sink.has(delivery) or (where, delivery.digest) in planned:
                    report.already_there += 1
                else:
                    if dry:
                        planned[where, delivery.digest] = _planned(envelope, where, len(data))
                    else:
                        sink.put(delivery)
                    report.written += 1
                    report.bytes += len(data)
            except MessageError as error:
                _fail(report, envelope, str(error))
            except InTheWay as error:
                _fail(report, envelope, str(error.strerror))
            except OSError as error:
                if error.errno not in _ONLY_THIS_NAME:
                    raise
                _fail(report, envelope, f"the disk does not take its name: {error.strerror}")
            if progress is not None:
                progress(report.chosen)
        whole = not dry
    except OSError as error:
        raise TargetError(f"{into} can't be written to: {error.strerror or error}. What is there is whole.") from error
    finally:
        sink.close(whole)
    report.planned = list(planned.values()) if dry else None
    return report


def _planned(envelope: Envelope, where: str, size: int) -> PlannedFile:
    return PlannedFile(where, NEW, "message", envelope.id, envelope.folder, envelope.header.subject, size)


def _fail(report: Report, envelope: Envelope, reason: str) -> None:
    report.fail(Failure(envelope.id, envelope.folder, envelope.header.subject, reason))
