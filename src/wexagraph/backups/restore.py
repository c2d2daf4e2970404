"""Giving messages back: into a folder of EML, an mbox, a ZIP, a Maildir or an account, with folders, flags and dates.

A message that is there already is not doubled, so that the same command again goes on where it was.
"""

from __future__ import annotations

import errno
import hashlib
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from typing import Any

from wexagraph.errors import MessageError, TargetError
from wexagraph.output.folder import InTheWay
from wexagraph.output.sinks.base import Delivery, Sink
from wexagraph.selection import Choice
from wexagraph.sources import Envelope, Source

_MOST_FAILURES = 1000
_ONLY_THIS_NAME = {errno.ENAMETOOLONG, errno.ENOTDIR, errno.EISDIR, errno.EINVAL, errno.EILSEQ, errno.ELOOP}
"""What a disk says of a name that it can't hold: it is a matter of that message, not of the disk."""


@dataclass
class RestoreReport:
    """The sums of a restore: `read` is `written` + `already` + `failed`."""

    into: str
    read: int = 0
    written: int = 0
    already: int = 0
    failed: int = 0
    bytes: int = 0
    interrupted: bool = False
    failures: list[tuple[str, str, str]] = field(default_factory=list)

    @property
    def complete(self) -> bool:
        return not (self.failed or self.interrupted)

    def as_dict(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return asdict(self)


def restore(
    source: Source,
    sink: Sink,
    into: str,
    choice: Choice | None = None,
    *,
    progress: Callable[[int], None] | None = None,
    stopped: Callable[[], bool] | None = None,
) -> RestoreReport:
    """Give the chosen messages of a backup to a sink. Raises SourceError, TargetError, CallError."""
    report = RestoreReport(into)
    whole = False
    try:
        for envelope, data in source.read_many((choice or Choice()).select(source)):
            if stopped is not None and stopped():
                report.interrupted = True
                break
            report.read += 1
            if isinstance(data, MessageError):
                _fail(report, envelope, str(data))
                continue
            delivery = Delivery(envelope, data, hashlib.sha256(data).hexdigest())
            try:
                if sink.has(delivery):
                    report.already += 1
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
                progress(report.read)
        whole = True
    except OSError as error:
        raise TargetError(f"{into} can't be written to: {error.strerror or error}. What is there is whole.") from error
    finally:
        sink.close(whole)
    return report


def _fail(report: RestoreReport, envelope: Envelope, reason: str) -> None:
    report.failed += 1
    if len(report.failures) < _MOST_FAILURES:
        report.failures.append((envelope.id, envelope.folder, reason))
