"""What was sent, to whom, and what became of it, so that nothing goes twice and nothing is forgotten."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path

from wexagraph.output.databases import Database, Form
from wexagraph.sending.mails import Enclosed, Letter

PLANNED, HANDED_OVER, DRAFT, UNKNOWN = "planned", "handed over", "draft", "unknown"
"""A mail that is to go; that a server has taken over (which is not yet its arrival); that lies among the drafts of an
account; whose server was gone before it said whether it has taken it."""
_OUTBOX = Form(
    "the list of what was sent",
    """
CREATE TABLE mail (
    id TEXT PRIMARY KEY, moment TEXT NOT NULL, state TEXT NOT NULL, sender TEXT NOT NULL, recipients TEXT NOT NULL,
    subject TEXT NOT NULL, size INTEGER NOT NULL, files TEXT NOT NULL, by TEXT NOT NULL
) WITHOUT ROWID;
""",
    settings=("synchronous = FULL",),
)


@dataclass(frozen=True)
class Sent:
    """A mail: its Message-ID, when it was made and what became of it, to whom, with which files (name and SHA-256),
    and `by` which server or account."""

    id: str
    moment: datetime
    state: str
    sender: str
    recipients: tuple[str, ...]
    subject: str
    size: int
    files: list[dict[str, str]] = field(default_factory=list)
    by: str = ""


class Outbox(Database):
    """The list of mails that were sent from here. All methods raise TargetError where the disk fails."""

    def __init__(self, path: Path) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        super().__init__(path, _OUTBOX)

    def state(self, id: str) -> str:
        """What became of a mail; "" where none of that identity was ever to go."""
        row = self.ask("SELECT state FROM mail WHERE id=?", (id,)).fetchone()
        return str(row[0]) if row else ""

    def plan(
        self, id: str, letter: Letter, files: Sequence[Enclosed], size: int, by: str, moment: datetime, again: bool
    ) -> bool:
        """A mail is to go. False where it is in the list already, perhaps since just now from another window; `again`
        takes it out first."""
        held = json.dumps([{"name": file.name, "sha256": file.sha256} for file in files])
        people = json.dumps(letter.recipients)
        values = (id, moment.isoformat(), PLANNED, letter.sender.address, people, letter.subject, size, held, by)
        way = "REPLACE" if again else "IGNORE"
        return self.ask(f"INSERT OR {way} INTO mail VALUES (?,?,?,?,?,?,?,?,?)", values).rowcount == 1

    def note(self, id: str, state: str) -> None:
        """What became of a mail."""
        self.ask("UPDATE mail SET state=? WHERE id=?", (state, id))

    def forget(self, id: str) -> None:
        """A mail did not go, and nobody has it."""
        self.ask("DELETE FROM mail WHERE id=?", (id,))

    def mails(self) -> list[Sent]:
        """All of them, the newest last."""
        return [
            Sent(
                id,
                datetime.fromisoformat(moment),
                state,
                sender,
                tuple(json.loads(to)),
                subject,
                size,
                json.loads(files),
                by,
            )
            for id, moment, state, sender, to, subject, size, files, by in self.ask(
                "SELECT * FROM mail ORDER BY moment, id"
            )
        ]
