"""Where mail lies, and how it is read without touching it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from wexagraph.errors import SourceError
from wexagraph.sources.base import Source

if TYPE_CHECKING:
    from wexagraph.sources.accounts import Account, Login


def open_source(
    location: str | Path | Account, login: Login | None = None, links: bool = False, salvage: bool = False
) -> Source:
    """Open a source: a path to a mailbox in files, or an account or its URL. Raises SourceError, CallError.

    `login` finds the secret of an account. `links` follows symbolic links to files in a folder, `salvage`
    looks in personal folder files for messages that no folder lists.
    """
    if isinstance(location, Path) or (isinstance(location, str) and "://" not in location):
        from wexagraph.sources.local import open_address

        return open_address(str(location), links, salvage)
    from wexagraph.sources.accounts import parse_url

    return _open_account(parse_url(location) if isinstance(location, str) else location, login)


def _open_account(account: Account, login: Login | None) -> Source:
    if login is None:
        raise SourceError(f"nobody can tell the password of {account.name}. Pass `login` to open_source.")
    if account.scheme.startswith("pop"):
        from wexagraph.sources.pop import PopSource

        return PopSource(account, login)
    from wexagraph.sources.imap import ImapSource

    return ImapSource(account, login)


_opened: dict[str, Source] = {}


def reopen(location: str) -> Source:
    """The source of that address, opened once in this process and kept: for workers that read shares of it."""
    if location not in _opened:
        _opened[location] = open_source(location)
    return _opened[location]


def lend(source: Source) -> None:
    """Let `reopen` in this process give this very source, which is open already and up to date."""
    _opened[source.address] = source
