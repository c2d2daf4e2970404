"""Where mail lies, and how it is read without touching it."""

from pathlib import Path

from wexagraph.errors import SourceError
from wexagraph.sources.accounts import SCHEMES, Account, Login, Secret, parse_url
from wexagraph.sources.base import WHOLE, Envelope, Leaf, Original, Partition, Source, Stored, Trouble, Wanted, listed


def open_source(
    location: str | Path | Account, login: Login | None = None, links: bool = False, salvage: bool = False
) -> Source:
    """Open a source: a path to a mailbox in files, or an account or its URL. Raises SourceError, CallError.

    `login` finds the secret of an account. `links` follows symbolic links to files in a folder, `salvage`
    looks in personal folder files for messages that no folder lists.
    """
    if isinstance(location, Account) or "://" in str(location):
        return _open_account(location if isinstance(location, Account) else parse_url(str(location)), login)
    from wexagraph.sources.local import open_address

    return open_address(str(location), links, salvage)


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


__all__ = [
    "SCHEMES",
    "WHOLE",
    "Account",
    "Envelope",
    "Leaf",
    "Login",
    "Original",
    "Partition",
    "Secret",
    "Source",
    "Stored",
    "Trouble",
    "Wanted",
    "lend",
    "listed",
    "open_source",
    "parse_url",
    "reopen",
]
