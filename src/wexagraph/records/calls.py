"""A command of the program as plain data, so that it can be kept and called again."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

_TELLING = ("attached", "as", "bind")
"""Options that say in short what comes of a call."""


@dataclass(frozen=True)
class Call:
    """A command, what it reads, where its results go, and its choice and options by their names on the command line.

    `afterwards` is what it does at the source with what is stored, "" where that is nothing; `deliver` is the place
    that its results go to at the end.
    """

    command: str
    source: str
    into: str
    choice: dict[str, Any] = field(default_factory=dict)
    options: dict[str, Any] = field(default_factory=dict)
    afterwards: str = ""
    deliver: str = ""

    @property
    def in_words(self) -> str:
        """What it does, in a few plain words."""
        words = [self.command]
        said = self.choice | {name: self.options[name] for name in _TELLING if name in self.options}
        words += [f"{name} {_value(value)}" if value is not True else name for name, value in said.items()]
        ends = [f"into {self.into}", *([f"delivered to {self.deliver}"] if self.deliver else [])]
        return ", ".join([f"{words[0]} of {self.source}", *words[1:], *ends])

    @property
    def changes(self) -> str:
        """What it changes in the mailbox, as a sentence; "" where that is nothing."""
        if not self.afterwards:
            return ""
        kind, _, what = self.afterwards.partition(":")
        done = {
            "seen": "marks as read what is stored",
            "keyword": f"marks with {what} what is stored",
            "move": f"moves what is stored to {what}",
            "delete": "deletes what is stored",
        }[kind]
        return f"It changes the mailbox: it {done}."


def _value(value: Any) -> str:
    return " or ".join(map(str, value)) if isinstance(value, list) else str(value)
