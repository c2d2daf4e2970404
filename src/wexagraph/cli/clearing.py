"""Clearing an account of what a backup holds: only what a fresh look at the closed volumes has proved."""

from __future__ import annotations

import click

from wexagraph.cli.secrets import passphrase
from wexagraph.errors import CallError
from wexagraph.sources import Source
from wexagraph.sources.imap.changes import Afterwards, Changes
from wexagraph.text import one_line

Seen = tuple[str, str, str, str]


def clear(mailbox: Source, wish: Afterwards, into: str, seen: list[Seen], sure: bool) -> int:
    """Do at the source what was wished, with messages (folder, place, stamp, digest) that are proved in the backup.

    Returns how many were changed. Raises CallError, SourceError.
    """
    from pathlib import Path

    from wexagraph.backups.proving import proved
    from wexagraph.sources.imap import ImapSource

    if not isinstance(mailbox, ImapSource):
        raise CallError(f"--afterwards works on an IMAP account; {mailbox.kind} is only ever read.")
    changes = Changes(mailbox, wish)
    safe = proved(Path(into), {digest for _, _, _, digest in seen}, passphrase)
    folders: dict[tuple[str, str], list[int]] = {}
    count = 0
    for folder, place, stamp, digest in seen:
        if digest in safe:
            folders.setdefault((folder, stamp), []).append(int(place))
            count += 1
    if not count:
        click.echo("Nothing to do at the source: no message is proved in the backup.", err=True)
        return 0
    told = changes.told({folder: len(uids) for (folder, _), uids in folders.items()})
    if sure:
        click.echo(f"At the source: {one_line(told)}.", err=True)
    elif not click.confirm(f"All of them were read back from the backup. Now {one_line(told)}?", err=True):
        return 0
    return sum(changes.apply(folder, stamp, uids) for (folder, stamp), uids in folders.items())
