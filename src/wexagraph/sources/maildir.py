"""Maildir, with Maildir++ folders below it."""

from __future__ import annotations

from collections.abc import Iterator

from wexagraph.sources.base import Envelope
from wexagraph.sources.eml import EmlFolder
from wexagraph.sources.kinds import Head, Kind, Store
from wexagraph.sources.trees import DiskTree, File, OneFile, Tree
from wexagraph.sources.utf7 import decode_utf7

_MAILDIR_FLAGS = {
    "S": "seen",
    "R": "answered",
    "F": "flagged",
    "T": "deleted",
    "D": "draft",
    "P": "$forwarded",
}


class Maildir(EmlFolder):
    """One Maildir folder: `cur` and `new`. A message's place is its unique name, the same when flags change."""

    def __init__(self, tree: Tree, files: list[File]) -> None:
        super().__init__(tree, sorted(files, key=lambda file: file.path.rpartition("/")[2]))
        self._paths: dict[str, str] = {}
        for file in files:
            self._paths.setdefault(_unique_name(file), file.path)

    def _place(self, file: File) -> str:
        name = _unique_name(file)
        return name if self._paths[name] == file.path else file.path  # a name that is not unique after all

    def _flags(self, file: File) -> frozenset[str]:
        letters = file.path.rpartition(":2,")[2] if ":2," in file.path.rpartition("/")[2] else ""
        return frozenset(_MAILDIR_FLAGS[letter] for letter in letters if letter in _MAILDIR_FLAGS)

    def _path(self, envelope: Envelope) -> str:
        return self._paths.get(envelope.place, envelope.place)


def _unique_name(file: File) -> str:
    return file.path.rpartition("/")[2].partition(":2,")[0]


def maildir_name(place: str) -> str:
    """A Maildir's folder name: INBOX for the root, Maildir++ names (".Berths.East") with `/` between levels."""
    if not place:
        return "INBOX"
    above, _, last = place.rpartition("/")
    if last.startswith("."):
        last = "/".join(decode_utf7(level) for level in last[1:].split("."))
    return f"{above}/{last}" if above else last


def _claims(path: str, head: Head) -> bool:
    """Told by its folder; `tmp` holds deliveries under way, which nothing else may take for mail."""
    return path.rpartition("/")[0].rpartition("/")[2] in ("cur", "new", "tmp")


def _stores(tree: Tree, files: list[File], own: str) -> Iterator[tuple[str, Store]]:
    places: dict[str, list[File]] = {place: [] for place in _places(tree)}
    for file in files:
        above, _, last = file.path.rpartition("/")[0].rpartition("/")
        if last != "tmp":
            places.setdefault(above, []).append(file)
    for place, its in sorted(places.items()):
        yield maildir_name(place), Maildir(tree, its)


def _places(tree: Tree) -> set[str]:
    """Maildir folders on a disk, also those without a message, which the walk over files can't see."""
    if not isinstance(tree, DiskTree) or isinstance(tree, OneFile):
        return set()
    places = [tree.root, *(path for path in tree.root.glob(".*") if path.is_dir())]
    maildirs = {path for path in places if (path / "cur").is_dir() and (path / "new").is_dir()}
    return {"" if path == tree.root else path.name for path in maildirs}


MAILDIR = Kind("Maildir", "a Maildir", _claims, _stores)
