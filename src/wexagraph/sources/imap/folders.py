"""The folders of an IMAP account: their names for people, and as the server writes them (RFC 9051 section 5.1)."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

from wexagraph.naming.paths import with_number
from wexagraph.sources.accounts import steers_no_line
from wexagraph.sources.imap.responses import parse
from wexagraph.sources.utf7 import decode_utf7, encode_utf7

INBOX = "INBOX"
_SLASH = "\N{DIVISION SLASH}"
"""Stands for a `/` within a level of a name, where the server has another separator."""
_TRASH = frozenset(
    name.casefold()
    for name in (
        *("Trash", "Bin", "Rubbish", "Deleted Items", "Deleted Messages"),
        *("Papierkorb", "Gelöschte Elemente", "Gelöschte Objekte"),
        *("Papelera", "Elementos eliminados", "Mensajes eliminados"),
        *("Corbeille", "Éléments supprimés", "Messages supprimés"),
        *("Cestino", "Posta eliminata", "Elementi eliminati"),
        *("Prullenbak", "Prullenmand", "Verwijderde items"),
        *("Kosz", "Elementy usunięte"),
        *("Lixo", "Lixeira", "Itens eliminados", "Itens excluídos", "Reciclagem"),
    )
)
"""What programs call the folder of deleted messages, in the languages of our pages."""


_DRAFTS = frozenset(
    name.casefold()
    for name in (
        "Drafts",
        "Draft",
        "Entwürfe",
        "Borradores",
        "Brouillons",
        "Bozze",
        "Concepten",
        "Kopie robocze",
        "Szkice",
        "Rascunhos",
    )
)
"""What programs call the folder of drafts, in the same languages."""


class Namespace(NamedTuple):
    """Where folders of one kind lie (RFC 9051 section 6.3.10): what their names begin with on the server, and what
    stands between levels."""

    prefix: str
    separator: str


@dataclass(frozen=True)
class Folder:
    """A folder: its name for people, as the server writes it, and what the server says of it (RFC 6154)."""

    name: str
    raw: str
    separator: str
    flags: frozenset[str]

    @property
    def exists(self) -> bool:
        """Whether there is such a folder on the server."""
        return "nonexistent" not in self.flags


class Folders:
    """The folders of an account, by their names for people: without the prefix of the account's own namespace, `/`
    between levels, and the first one called INBOX. So the names of one account are those of a copy at any other server.
    """

    def __init__(self, personal: Namespace | None = None) -> None:
        self._personal = personal or Namespace("", "")
        self._by_name: dict[str, Folder] = {}
        self._by_raw: dict[str, Folder] = {}

    def add_all(self, items: Iterable[Any]) -> list[str]:
        """Add the folders of LIST responses. Two that the server tells apart and a reader does not get numbers. Returns
        the names that would end the line that they stand on; they are left out."""
        listed = [folder for item in items if (folder := self._listed(item)) is not None]
        folders = [folder for folder in listed if steers_no_line(folder.raw)]
        # the account's own names stay as they are
        prefix, numbers = self._personal.prefix, dict[str, int]()
        for folder in sorted(folders, key=lambda one: (one.raw != INBOX, not one.raw.startswith(prefix))):
            if folder.raw in self._by_raw:
                continue
            number = numbers.get(folder.name, 1)
            while (name := with_number(folder.name, "", number)) in self._by_name:
                number += 1
            numbers[folder.name] = number + 1
            self.add(replace(folder, name=name))
        return [folder.name for folder in listed if not steers_no_line(folder.raw)]

    def add(self, folder: Folder) -> Folder:
        """Add a folder, or what is known of it anew."""
        self._by_name[folder.name] = self._by_raw[folder.raw] = folder
        return folder

    def __iter__(self) -> Iterator[Folder]:
        return iter(self._by_name.values())

    def get(self, name: str) -> Folder | None:
        """The folder of that name, where the server has it."""
        return self._by_name.get(name)

    def narrow(self, name: str) -> bool:
        """Keep a folder and what lies below it. Returns whether there is any."""
        wanted = name.casefold()
        kept = [one for one in self if one.name.casefold() == wanted or one.name.casefold().startswith(f"{wanted}/")]
        self._by_name = {folder.name: folder for folder in kept}
        return bool(kept)

    def named(self, name: str) -> Folder:
        """The folder that a person names, there or not: in the server's hierarchy, in its alphabet."""
        if name in self._by_name:
            return self._by_name[name]
        raws = self.spellings(name)
        known = next((self._by_raw[raw] for raw in raws if raw in self._by_raw), None)
        return known or Folder(name, raws[0], self._separator, frozenset({"nonexistent"}))

    def spellings(self, name: str) -> list[str]:
        """How the server may write a name: with a `/` of its own within a level, which some servers refuse, or not."""
        if name.casefold() == INBOX.casefold():
            return [INBOX]
        separator, plain = self._separator, name
        if separator != "/":
            name = separator.join(level.replace(separator, _stand_in(separator)) for level in name.split("/"))
            plain = name.replace(_SLASH, "/")
        return [self._personal.prefix + encode_utf7(each) for each in dict.fromkeys((plain, name))]

    def trash(self) -> Folder | None:
        """Where deleted messages go: the folder that the server says it is (RFC 6154), else one with a usual name."""
        return self._special("trash", _TRASH)

    def drafts(self) -> Folder | None:
        """Where mails lie that are still to be sent, by the same."""
        return self._special("drafts", _DRAFTS)

    def _special(self, use: str, names: frozenset[str]) -> Folder | None:
        for folder in self:
            if use in folder.flags:
                return folder
        return next((one for one in self if one.name.removeprefix(f"{INBOX}/").casefold() in names), None)

    @property
    def _separator(self) -> str:
        return self._personal.separator or next((folder.separator for folder in self if folder.separator), "/")

    def _listed(self, item: Any) -> Folder | None:
        """A LIST response (RFC 9051 section 7.3.1): flags, separator, name."""
        parsed = parse([item]) if item else []
        if len(parsed) < 3 or not isinstance(parsed[0], list) or not isinstance(parsed[2], bytes):
            return None
        flags = frozenset(flag.decode("latin-1").lower().lstrip("\\") for flag in parsed[0] if isinstance(flag, bytes))
        separator = (parsed[1] or b"").decode("latin-1")
        raw = parsed[2].decode("latin-1")  # the bytes as they came, so that the server knows its folder again
        own = self._personal.prefix
        bare = parsed[2][len(own) :] if own and raw.startswith(own) and raw != own else parsed[2]
        name = decode_utf7(bare.decode("ascii")) if bare.isascii() else bare.decode("utf-8", "replace")
        if separator and separator != "/":
            levels = name.split(separator)
            name = "/".join(level.replace("/", _SLASH).replace(_stand_in(separator), separator) for level in levels)
        name = re.sub(r"^inbox(?=/|$)", INBOX, name, flags=re.IGNORECASE)
        return Folder(name, INBOX if raw.upper() == INBOX else raw, separator, flags)


def _stand_in(separator: str) -> str:
    """What stands for a server's separator within a level of a name."""
    return "\N{ONE DOT LEADER}" if separator == "." else chr(ord(separator[0]) + 0xFEE0)  # its full width


def namespaces(items: Iterable[Any]) -> tuple[Namespace | None, list[str]]:
    """The account's own namespace, and the prefixes of other people's and shared folders, of NAMESPACE responses."""
    parsed = parse(items)
    groups = [
        [_namespace(space) for space in group if isinstance(space, list) and space and isinstance(space[0], bytes)]
        if isinstance(group, list)
        else []
        for group in (parsed + [None] * 3)[:3]
    ]
    others = [space.prefix for group in groups[1:] for space in group if space.prefix]
    return (groups[0][0] if groups[0] else None), others


def _namespace(space: list[Any]) -> Namespace:
    separator = space[1] if len(space) > 1 and isinstance(space[1], bytes) else b""
    return Namespace(space[0].decode("latin-1"), separator.decode("latin-1"))
