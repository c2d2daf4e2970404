"""What is done at a source afterwards, with messages that are safely stored: asked for, said, and only then done."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from wexagraph.errors import CallError
from wexagraph.selection.choice import Choice
from wexagraph.sources.base import Source, Stored
from wexagraph.sources.imap import ImapSource
from wexagraph.sources.imap.changes import Afterwards, Changes

if TYPE_CHECKING:
    from wexagraph.backups.encryption import Ask

Allow = Callable[[str, str], bool]
"""Says what will be done, and how the messages are kept; returns whether that is allowed."""
Result = tuple[int, list[tuple[str, str]]]
"""How many messages were changed at the source; and those that were left alone, with the reason."""


def changes_of(mailbox: Source, wish: Afterwards, keeps_messages: bool) -> Changes:
    """What can change messages of an account, of which the messages or their attachments alone are stored. Raises
    CallError for a source that is only ever read, and where messages would be deleted that nobody keeps."""
    wish.checked(keeps_messages)
    if not isinstance(mailbox, ImapSource):
        raise CallError(f"--afterwards works on an IMAP account; {mailbox.kind} is only ever read.")
    return Changes(mailbox, wish)


def apart(choice: Choice, mailbox: Source, wish: Afterwards | None) -> Choice:
    """The choice without the folder to which messages go afterwards: what lies there went there before, and is not
    chosen again. Raises CallError where messages would be moved to the folder that they are chosen from."""
    if wish is None or wish.kind not in ("move", "delete") or not isinstance(mailbox, ImapSource):
        return choice
    target = mailbox.all_folders.named(wish.value) if wish.kind == "move" else mailbox.all_folders.trash()
    if target is None:
        return choice
    if target.name.casefold() in (name.strip("/").casefold() for name in choice.folders):
        if wish.kind == "delete":
            return choice  # said by name: from there they go for good
        raise CallError(f"--folder {target.name}: messages can't be moved to the folder that they are chosen from.")
    return replace(choice, apart=target.name)


def apply(changes: Changes, stored: list[Stored], kept: str, allow: Allow) -> Result:
    """Do it, with messages that are stored, if that is allowed. `kept` says how they are kept. What a case on hold has
    is not deleted. Raises SourceError, CallError."""
    from wexagraph.app.cases.records import on_hold

    held = on_hold() if changes.wish.kind == "delete" else {}
    free = [message for message in stored if message.digest not in held]
    left = [
        (f"{message.folder}, message {message.place}", f"case {held[message.digest]} is on hold")
        for message in stored
        if message.digest in held
    ]
    what = changes.description(Counter(message.folder for message in free)) if free else ""
    if not allow(what, kept):
        return 0, left
    done, more = changes.apply(free)
    return done, [*left, *more]


def clear(mailbox: Source, wish: Afterwards, into: str, seen: list[Stored], ask: Ask, allow: Allow) -> Result:
    """Do it with messages that a fresh look at the closed volumes of a backup has proved. Raises CallError,
    SourceError."""
    from wexagraph.backups.proving import proved

    changes = changes_of(mailbox, wish, keeps_messages=True)
    safe = proved(Path(into), {message.digest for message in seen}, ask)
    return apply(changes, [m for m in seen if m.digest in safe], "read back from the backup", allow)
