"""Who wrote and was written to: a row an address, or a row a domain, from headers alone."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import UTC, datetime

from wexagraph.messages.headers import Address
from wexagraph.sources.base import Envelope
from wexagraph.tables.columns import Column
from wexagraph.text import one_line, shortened

_MOST_NAMES, _MOST_FOLDERS, _MOST_NAME = 20, 50, 200
_NEVER = datetime.min.replace(tzinfo=UTC)


@dataclass
class Correspondent:
    """An address (in lower case, an international domain as it is meant), or a domain; and what was met of it.

    `wrote`, `received` and `copied` count messages by From, by To, and by Cc or Bcc. Where our own addresses are
    known, `incoming` are those that it wrote to one of them, `outgoing` those of theirs to it. `names` have the moment
    when each was met last.
    """

    address: str
    names: dict[str, datetime] = field(default_factory=dict)
    wrote: int = 0
    received: int = 0
    copied: int = 0
    incoming: int = 0
    outgoing: int = 0
    first: datetime | None = None
    last: datetime | None = None
    folders: dict[str, None] = field(default_factory=dict)
    addresses: set[str] = field(default_factory=set)

    @property
    def name(self) -> str:
        """The newest name that is not an address; "" where it has none."""
        return max(self.names, key=lambda name: self.names[name], default="")

    @property
    def count(self) -> int:
        """How often it was met."""
        return self.wrote + self.received + self.copied

    def meet(self, address: Address, moment: datetime | None, folder: str) -> None:
        """A message in which it stands."""
        name = shortened(one_line(address.name).strip(" '\""), _MOST_NAME)
        if name and "@" not in name and (name in self.names or len(self.names) < _MOST_NAMES):
            self.names[name] = max(self.names.get(name, _NEVER), moment or _NEVER)
        if moment is not None:
            self.first = moment if self.first is None else min(self.first, moment)
            self.last = moment if self.last is None else max(self.last, moment)
        if len(self.folders) < _MOST_FOLDERS:
            self.folders[folder] = None


COLUMNS: list[Column[Correspondent]] = [
    Column("address", lambda one: one.address),
    Column("name", lambda one: one.name),
    Column("names", lambda one: "; ".join(sorted(one.names))),
    Column("wrote", lambda one: one.wrote),
    Column("received", lambda one: one.received),
    Column("copied", lambda one: one.copied),
    Column("incoming", lambda one: one.incoming),
    Column("outgoing", lambda one: one.outgoing),
    Column("first", lambda one: one.first.isoformat() if one.first else None),
    Column("last", lambda one: one.last.isoformat() if one.last else None),
    Column("folders", lambda one: "; ".join(one.folders)),
]
"""The columns of a list of addresses."""


def correspondents(
    envelopes: Iterable[Envelope], mine: Iterable[str] = (), domains: bool = False
) -> list[Correspondent]:
    """Those who stand in messages, the most met first. `mine` are the office's own addresses, which are left out."""
    own = {as_read(address) for address in mine}
    met: dict[str, Correspondent] = {}
    for envelope in envelopes:
        header, moment = envelope.header, envelope.date()[0]
        authors, to = header.authors, header.addresses(b"to")
        copied = [*header.addresses(b"cc"), *header.addresses(b"bcc")]
        ours = any(as_read(each.address) in own for each in authors)
        for_us = any(as_read(each.address) in own for each in (*to, *copied))
        counted: set[tuple[str, str]] = set()  # who stands twice in a field was written to once
        for role, addresses in (("wrote", authors), ("received", to), ("copied", copied)):
            for each in addresses:
                address = as_read(each.address)
                if "@" not in address or address in own:
                    continue
                key = address.rpartition("@")[2] if domains else address
                one = met.setdefault(key, Correspondent(key))
                one.meet(each, moment, envelope.folder)
                if domains and len(one.addresses) < 100_000:
                    one.addresses.add(address)
                if (role, key) not in counted:
                    counted.add((role, key))
                    setattr(one, role, getattr(one, role) + 1)
                    one.incoming += role == "wrote" and for_us
                    one.outgoing += role != "wrote" and ours and ("outgoing", key) not in counted
                    counted.add(("outgoing", key) if role != "wrote" else (role, key))
    return sorted(met.values(), key=lambda one: (-one.count, one.address))


def as_read(address: str) -> str:
    """An address in lower case, its domain in the letters that are meant (RFC 5891)."""
    local, at, domain = one_line(address).strip().lower().rpartition("@")
    if "xn--" in domain:
        with contextlib.suppress(UnicodeError):
            domain = domain.encode("ascii").decode("idna")
    return f"{local}{at}{domain}"


def vcards(people: Iterable[Correspondent]) -> bytes:
    """The people as vCards (RFC 6350), in UTF-8."""
    lines: list[str] = []
    for one in people:
        lines += ["BEGIN:VCARD", "VERSION:4.0", f"FN:{_escaped(one.name or one.address)}"]
        lines.append(f"EMAIL:{_escaped(one.address)}")
        lines += [f"NICKNAME:{_escaped(name)}" for name in sorted(one.names) if name != one.name]
        lines.append("END:VCARD")
    return "".join(map(_folded, lines)).encode("utf-8", "replace")


def _escaped(text: str) -> str:
    """A text value (RFC 6350, section 3.4)."""
    return text.replace("\\", "\\\\").replace(",", "\\,").replace(";", "\\;").replace("\n", "\\n")


def _folded(line: str) -> str:
    """A line with its end, folded at 75 bytes (section 3.2) where that parts no letter."""
    out, held = [], 0
    for letter in line:
        size = len(letter.encode("utf-8", "replace"))
        if held + size > 75:
            out.append("\r\n ")
            held = 1
        out.append(letter)
        held += size
    return "".join(out) + "\r\n"
