"""The office's own names for those who write to it and are written to."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cached_property

from wexagraph.messages.headers import Address

_LISTED = re.compile(r"(?:(?P<name>.*) <(?P<inside>[^<>]+@[^<>]+)>|(?P<bare>[^<>\s]+@[^<>\s]+))")


@dataclass(frozen=True)
class OfficeNames:
    """Names by addresses: `rows` are an address or a domain in small letters, its name, and a short name ("" where the
    name is short enough). What an address says counts before what its domain says, and the first row before others."""

    rows: tuple[tuple[str, str, str], ...] = ()

    def __bool__(self) -> bool:
        return bool(self.rows)

    @cached_property
    def _named(self) -> dict[str, tuple[str, str]]:
        return {known: (name, short) for known, name, short in reversed(self.rows)}

    def _of(self, address: str) -> tuple[str, str]:
        known = address.lower()
        return self._named.get(known) or self._named.get(known.rpartition("@")[2]) or ("", "")

    def named(self, address: Address) -> Address:
        """The address with the office's name for it; as it is where there is none."""
        name, _ = self._of(address.address)
        return address._replace(name=name) if name else address

    def short(self, address: Address) -> str:
        """What an address is called in a name of a file: by the office, by itself, or by the address."""
        name, short = self._of(address.address)
        return short or name or address.name or address.address

    def listed(self, text: str) -> str:
        """A list of addresses ("; " between), as `str` gives them, with the office's names."""
        return "; ".join(map(self._listed, text.split("; "))) if self.rows else text

    def _listed(self, text: str) -> str:
        match = _LISTED.fullmatch(text)
        return str(self.named(Address(match["name"] or "", match["inside"] or match["bare"]))) if match else text

    def __add__(self, others: OfficeNames) -> OfficeNames:
        """These names, and those of `others` that they do not have."""
        return OfficeNames((*self.rows, *others.rows))


NO_NAMES = OfficeNames()
"""Where the office has no names of its own."""
