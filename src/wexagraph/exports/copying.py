"""Reading a message of the plan: its digest, what hangs on it, and its bytes as an EML file where that is wanted.

Runs in this process or, for a source that can be opened again, in workers that take many messages at a time.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass

from wexagraph.errors import MessageError
from wexagraph.exports.journal.records import MessageRecord, packed
from wexagraph.messages import Message
from wexagraph.messages.message import is_one_text
from wexagraph.output.staging import Staged, Stager, stager_at
from wexagraph.sources import Source, reopen
from wexagraph.text import one_line


@dataclass(slots=True)
class Copied:
    """A message that was read: the digest of its bytes, the names of its attachments, the EML staged."""

    number: int
    digest: str
    size: int
    attachments: str
    staged: Staged | None = None
    trouble: str = ""


def copy(row: MessageRecord, data: bytes, stager: Stager | None, path: str, replaces: bool) -> Copied:
    """Digest a message and stage it as an EML file for `path`, unless `stager` is None. Raises OSError."""
    digest = hashlib.sha256(data).hexdigest()
    copied = Copied(row.number, digest, len(data), _attachments(data))
    if stager is not None:
        copied.staged = stager.stage(path, data, replaces, digest)
    return copied


def copy_rows(location: str, work: str, rows: list[tuple[MessageRecord, str, bool]]) -> list[Copied]:
    """Copy many messages; runs in a worker. Each row comes with the path of its EML, and whether a file of ours gives
    way there. Raises OSError."""
    source = reopen(location)
    stager = stager_at(work)
    return [_copy_row(source, stager, *row) for row in rows]


def _copy_row(source: Source, stager: Stager, row: MessageRecord, path: str, replaces: bool) -> Copied:
    try:
        data = source.read(row.envelope())
    except MessageError as error:
        return Copied(row.number, "", 0, "", None, str(error))
    return copy(row, data, stager, path, replaces)


def _attachments(data: bytes) -> str:
    if is_one_text(data):
        return ""
    return packed(one_line(attachment.name[:400]) for attachment in Message(data).attachments[:500])
