"""A case as one ZIP that proves itself: a bag (RFC 8493) with its files, register, log and a page of contents."""

from __future__ import annotations

import hashlib
import io
import json
import zipfile
from collections.abc import Iterator
from dataclasses import replace
from datetime import date
from pathlib import Path
from typing import Any, BinaryIO

import wexagraph
from wexagraph.backups.bag import BAGIT, DECLARATION, INFO, MANIFEST, sums_text
from wexagraph.errors import CallError, SourceError
from wexagraph.naming.paths import ALL_REGISTERS, component
from wexagraph.output.folder import OWN
from wexagraph.records.fileplan import MOST_TITLE, Case, Hold, after, checked_reference
from wexagraph.reports import Verification
from wexagraph.selection.choice import Choice
from wexagraph.tables.living.files import is_beside
from wexagraph.text import one_line
from wexagraph.zips import UNREADABLE, out_of_proportion

_TAGS = "tagmanifest-sha256.txt"
_CASE = "Case-As-JSON"
_MOMENT = (1980, 1, 1, 0, 0, 0)  # a ZIP of the same files is the same ZIP


def payload(place: Path) -> Iterator[tuple[str, Path]]:
    """The files of a case by their paths in it; not ours, and not what only lies beside a register."""
    for path in sorted(place.rglob("*")):
        inner = path.relative_to(place).as_posix()
        beside = any(is_beside(inner, name) for name in ALL_REGISTERS)
        if path.is_file() and not path.is_symlink() and not inner.startswith(f"{OWN}/") and not beside:
            yield inner, path


def pack(case: Case, place: Path, file: BinaryIO, day: date, contents: dict[str, bytes]) -> int:
    """Write a case as a ZIP. `contents` are pages that say what is in it, by their names. Returns how many files it
    has. Raises OSError.
    """
    top, sums, total = component(case.folder, room=20), dict[str, str](), 0
    with zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED) as out:
        for inner, path in payload(place):
            digest = hashlib.sha256()
            with open(path, "rb") as old, out.open(_item(f"{top}/data/{inner}"), "w", force_zip64=True) as new:
                while block := old.read(1 << 20):
                    digest.update(block)
                    total += len(block)
                    new.write(block)
            sums[f"data/{inner}"] = digest.hexdigest()
        tags = {
            BAGIT: DECLARATION,
            INFO: _info(case, day, total, len(sums)),
            MANIFEST: sums_text(sums),
            **contents,
        }
        tags[_TAGS] = sums_text({name: hashlib.sha256(content).hexdigest() for name, content in tags.items()})
        for name, content in tags.items():
            out.writestr(_item(f"{top}/{name}"), content, zipfile.ZIP_DEFLATED)
    return len(sums)


def _item(name: str) -> zipfile.ZipInfo:
    item = zipfile.ZipInfo(name, _MOMENT)
    item.compress_type, item.external_attr = zipfile.ZIP_DEFLATED, 0o644 << 16
    return item


def _info(case: Case, day: date, total: int, count: int) -> bytes:
    plain = {
        "reference": case.reference,
        "title": case.title,
        "opened": case.opened.isoformat(),
        "closed": case.closed.isoformat() if case.closed else "",
        "keep": case.keep,
        "tags": list(case.tags),
        "match": case.match,
        "also": list(case.also),
        "holds": [{"why": hold.why, "since": hold.since.isoformat(), "by": hold.by} for hold in case.holds],
    }
    lines = [
        f"Bag-Software-Agent: Wexagraph {wexagraph.__version__}",
        f"Bagging-Date: {day}",
        f"External-Identifier: {one_line(case.reference)}",
        f"External-Description: {one_line(case.title)}",
        f"Payload-Oxum: {total}.{count}",
        f"{_CASE}: {json.dumps(plain)}",
    ]
    return ("\n".join(lines) + "\n").encode("utf-8")


class PackedCase:
    """A packed case, open for reading. Raises SourceError where it is none."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            self._zip = zipfile.ZipFile(path)
            names = [item.filename for item in self._zip.infolist() if not item.is_dir()]
            self._top = next(name for name in names if name.endswith(f"/{BAGIT}")).rpartition("/")[0]
        except (*UNREADABLE, StopIteration) as error:
            raise SourceError(
                f"{path} is no case that was packed: it holds no bag ({type(error).__name__})."
            ) from error
        self._names = names

    def close(self) -> None:
        """Close the file."""
        self._zip.close()

    def read(self, name: str) -> bytes:
        """A file of the bag. Raises one of UNREADABLE, KeyError."""
        return self._zip.read(f"{self._top}/{name}")

    def open(self, name: str) -> Any:
        """A file of the bag as a stream."""
        return self._zip.open(f"{self._top}/{name}")

    def files(self) -> list[str]:
        """The paths of the case's own files."""
        start = f"{self._top}/data/"
        return [name[len(start) :] for name in self._names if name.startswith(start)]

    def verify(self) -> Verification:
        """Prove each file by the checksums of the bag."""
        result = Verification(str(self.path))
        wanted: dict[str, str] = {}
        for listing in (MANIFEST, _TAGS):
            try:
                wanted |= _sums(self.read(listing))
            except (*UNREADABLE, KeyError):
                result.add(listing, "missing")
        inside = {name[len(self._top) + 1 :] for name in self._names if name.startswith(f"{self._top}/")}
        twice = {name for name in self._names if self._names.count(name) > 1}
        for name in sorted(wanted.keys() | inside):
            if name == _TAGS:
                continue
            result.files += name in inside
            if name not in inside:
                result.add(name, "missing")
            elif name not in wanted:
                result.add(name, "foreign")
            elif f"{self._top}/{name}" in twice or self._digest(name) != wanted[name]:
                result.add(name, "altered")
        for name in self._names:
            if not name.startswith(f"{self._top}/"):
                result.add(name, "foreign")
        return result

    def _digest(self, name: str) -> str | None:
        try:
            with self.open(name) as file:
                return hashlib.file_digest(file, "sha256").hexdigest()
        except (*UNREADABLE, KeyError):
            return None

    def case(self) -> Case:
        """The case as it was. Raises CallError where that can't be read."""
        try:
            line = next(line for line in io.StringIO(self.read(INFO).decode("utf-8")) if line.startswith(f"{_CASE}: "))
            plain = json.loads(line.partition(": ")[2])
            closed = plain.get("closed")
            case = Case(
                checked_reference(plain["reference"]),
                one_line(plain["title"])[:MOST_TITLE] or "no title",
                "",
                date.fromisoformat(plain["opened"]),
                plain.get("match", {}),
                tuple(map(str, plain.get("tags", ()))),
                date.fromisoformat(closed) if closed else None,
                plain.get("keep", ""),
                tuple(
                    Hold(one_line(hold["why"]), date.fromisoformat(hold["since"]), one_line(hold.get("by", "")))
                    for hold in plain.get("holds", ())
                ),
                also=tuple(map(str, plain.get("also", ()))),
            )
            Choice.from_dict(case.match)
            if case.keep:
                after(case.opened, case.keep)
        except (*UNREADABLE, CallError, KeyError, StopIteration, TypeError, AttributeError) as error:
            raise CallError(f"{self.path} does not say which case it is of ({error}).") from error
        return replace(case, folder=self._top)

    def unpack(self, into: Path) -> None:
        """Write the case's files below a new folder. Raises CallError for a name that leads elsewhere, OSError."""
        for inner in self.files():
            if any(component(level, room=0) != level for level in inner.split("/")):
                raise CallError(
                    f"{self.path} holds {one_line(inner)!r}, a name that no case has. Nothing was taken in."
                )
        for item in self._zip.infolist():
            if out_of_proportion(item.file_size, item.compress_size):
                raise CallError(
                    f"{self.path} holds {one_line(item.filename)!r}, out of proportion. Nothing was taken in."
                )
        for inner in self.files():
            path = into / inner
            path.parent.mkdir(parents=True, exist_ok=True)
            with self.open(f"data/{inner}") as old, open(path, "xb") as new:
                while block := old.read(1 << 20):
                    new.write(block)


def _sums(text: bytes) -> dict[str, str]:
    pairs = (line.split("  ", 1) for line in text.decode("utf-8").splitlines())
    return {pair[1]: pair[0] for pair in pairs if len(pair) == 2}
