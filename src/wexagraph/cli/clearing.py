"""Clearing an account of what a backup holds: only what a fresh look at the closed volumes has proved."""

from __future__ import annotations

from pathlib import Path

from wexagraph.backups.proving import proved
from wexagraph.cli.export import apply_changes, make_changes
from wexagraph.cli.secrets import passphrase
from wexagraph.sources import Source, Stored
from wexagraph.sources.imap.changes import Afterwards


def clear(
    mailbox: Source, wish: Afterwards, into: str, seen: list[Stored], sure: bool
) -> tuple[int, list[tuple[str, str]]]:
    """Do at the source what was wished, with messages that are proved in the backup.

    Returns how many were changed, and those that were left alone. Raises CallError, SourceError.
    """
    changes = make_changes(mailbox, wish)
    safe = proved(Path(into), {message.digest for message in seen}, passphrase)
    return apply_changes(changes, [m for m in seen if m.digest in safe], sure, "read back from the backup")
