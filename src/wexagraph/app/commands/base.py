"""What a command is that can be repeated, and what it is run with."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING, Any

from wexagraph.app.afterwards import Allow, apply, changes_of
from wexagraph.app.locales import language_code, zone_name
from wexagraph.app.secrets import NamedKey, Prompt
from wexagraph.records.calls import Call
from wexagraph.reports import Report
from wexagraph.selection.choice import Choice
from wexagraph.sources.base import Source, Stored
from wexagraph.sources.imap.changes import Afterwards

if TYPE_CHECKING:
    from wexagraph.backups.encryption import Ask
    from wexagraph.protection.keys import Keys

ZONE = ("zone", lambda: zone_name(None))
LANGUAGE = ("language", lambda: language_code(None))


@dataclass(frozen=True)
class Work:
    """What a call is run with: its open `mailbox`, of which an order gives the `fresh` part alone, with what is chosen
    of that; who is told and asked, and when to stop.

    `options` are those of the call as `options_of` makes them, where that is done. `progress` is told how far it is, as
    the command's own function tells it, and `say` what there is to say on the way. `allow` is asked before anything is
    changed at the source, and `stored` is told before that of messages that are safely stored. `ask` gives the
    passphrase of a locked backup, `keys` are those that have names, and `unlocked` is what opens protected messages:
    the `fresh` part is read with it already. `generation` counts how often all was made again, `moment` is when the
    run is.
    """

    mailbox: Source
    moment: datetime
    stopped: Callable[[], bool]
    dry: bool = False
    options: Any = None
    fresh: tuple[Source, Choice] | None = None
    progress: Callable[..., None] | None = None
    say: Callable[[str], None] | None = None
    allow: Allow = lambda what, kept: bool(what)
    stored: Callable[[list[Stored]], None] | None = None
    ask: Ask | None = None
    keys: Mapping[str, NamedKey] = field(default_factory=dict)
    unlocked: Keys | None = None
    generation: int = 0


@dataclass(frozen=True)
class Job:
    """A call that is under way: what it reads, chooses and does, and how."""

    call: Call
    options: Any
    source: Source
    choice: Choice
    wish: Afterwards | None
    work: Work

    def then(
        self, kept: str, keeps_messages: bool = True
    ) -> Callable[[list[Stored]], tuple[int, list[tuple[str, str]]]] | None:
        """What is done with messages that are stored, and so `kept`: they are noted, and only then changed at the
        source. Without `keeps_messages`, parts of them alone are stored. Raises CallError where they can't be."""
        work = self.work
        if self.wish is None and work.stored is None:
            return None
        changes = changes_of(work.mailbox, self.wish, keeps_messages) if self.wish is not None else None

        def then(stored: list[Stored]) -> tuple[int, list[tuple[str, str]]]:
            if work.stored is not None:
                work.stored(stored)
            return apply(changes, stored, kept, work.allow) if changes is not None else (0, [])

        return then


@dataclass(frozen=True)
class Command:
    """A command that can be repeated: its options with their defaults, what is made of them (raises CallError), and its
    run.

    One that `keeps_account` knows by itself what it has; of one that `is_whole`, what is new alone would not do; one
    that `may_leave_nothing` makes no file of some messages. One that `clears` can change at the source what it has
    stored. `settled` are options whose default is the system's at the time, and hold from then on.
    """

    defaults: dict[str, Any]
    options: Callable[[dict[str, Any], Prompt | None, datetime], Any]
    run: Callable[[Job], Report]
    keeps_account: bool = False
    may_leave_nothing: bool = False
    is_whole: bool = False
    clears: bool = False
    settled: tuple[tuple[str, Callable[[], str]], ...] = ()
