"""Opening whatever a SOURCE may be: a registry of kinds. The command line and the library open by the same way."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

from wexagraph.app.accounts import Known
from wexagraph.app.configuration import Configuration
from wexagraph.app.secrets import Prompt, passphrase
from wexagraph.backups.bag import is_backup
from wexagraph.errors import CallError
from wexagraph.sources import open_source as open_mailbox
from wexagraph.sources.accounts import Account, Login
from wexagraph.sources.base import Source


@dataclass(frozen=True)
class Way:
    """How a source is to be opened: what is wanted of it, and who can be asked.

    `as_of` is a day, a run or "ever", of a backup; `zone` is where that day ends. `links` follows symbolic links to
    files, `salvage` looks for messages that no folder lists. `login` finds the secret of an account; without one, the
    configuration's ways and `prompt` do.
    """

    as_of: str = ""
    zone: str = "UTC"
    links: bool = False
    salvage: bool = False
    login: Login | None = None
    prompt: Prompt | None = None
    configuration: Configuration = field(default_factory=Configuration)


Location = str | Path | Account | Known
"""What names a source: a path, a URL, an account."""


@dataclass(frozen=True)
class SourceKind:
    """A kind of source: whether a location names one, and how it is opened; one that `has_past`, as of a day."""

    name: str
    meant: Callable[[Location], bool]
    open: Callable[[Location, Way], Source]
    has_past: bool = False


def _open_account(location: Location, way: Way) -> Source:
    if isinstance(location, Account):
        return open_mailbox(location, way.login)
    known = location if isinstance(location, Known) else Known(str(location))
    return open_mailbox(known.account(), way.login or known.login(way.prompt))


def _open_backup(location: Location, way: Way) -> Source:
    from wexagraph.backups.source import BackupSource

    return BackupSource(_path(location), way.as_of, way.zone, passphrase(way.prompt))


def _open_files(location: Location, way: Way) -> Source:
    return open_mailbox(str(location), links=way.links, salvage=way.salvage)


def _path(location: Location) -> Path:
    return Path(str(location)).expanduser()


KINDS: list[SourceKind] = [
    SourceKind("account", lambda place: isinstance(place, Account | Known) or "://" in str(place), _open_account),
    SourceKind("backup", lambda place: is_backup(_path(place)), _open_backup, has_past=True),
    SourceKind("mailbox in files", lambda place: True, _open_files),
]
"""All kinds, in the order in which they are asked. A new kind is a line before the last."""


def open_target(location: str, way: Way) -> tuple[Source, str]:
    """Open what messages are put into: an account as a whole, whatever folder its URL names, and that folder ("" for
    none); else a mailbox in files. Raises SourceError, CallError."""
    place: Location = way.configuration.named(location[1:]) if location.startswith("@") else location
    if not KINDS[0].meant(place):
        return open_source(location, way=way), ""
    known = place if isinstance(place, Known) else Known(str(place))
    account = known.account()
    return open_mailbox(replace(account, folder=""), way.login or known.login(way.prompt)), account.folder


def open_source(
    location: str | Path | Account, login: Login | None = None, links: bool = False, way: Way | None = None
) -> Source:
    """Open a source: a path to a mailbox in files or to a backup, an account or its URL, or an @name.

    `login` finds the secret of an account, `links` follows symbolic links to files. Raises SourceError, CallError.
    """
    way = way or Way(login=login, links=links)
    place: Location = location
    if isinstance(location, str) and location.startswith("@"):
        place = way.configuration.named(location[1:])
    kind = next(kind for kind in KINDS if kind.meant(place))
    if way.as_of and not kind.has_past:
        raise CallError(f"--as-of is for backups; {location} is none, and is only known as it is now.")
    return kind.open(place, way)
