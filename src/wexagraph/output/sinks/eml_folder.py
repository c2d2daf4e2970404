"""A folder of EML files."""

from __future__ import annotations

from datetime import UTC
from pathlib import Path

from wexagraph.errors import TargetError
from wexagraph.naming import Fields, NamePattern, clean, component
from wexagraph.naming.paths import folder_path
from wexagraph.output.folder import OutputFolder
from wexagraph.output.sinks.base import Delivery, Sink, write_whole


class EmlFolderSink(Sink):
    """A folder of EML files below folders; a file's time is when its message arrived."""

    def __init__(self, path: Path) -> None:
        if path.exists() and not path.is_dir():
            raise TargetError(f"{path} is a file. Name a folder, or a target that ends in .mbox or .zip.")
        self._root, self._pattern = OutputFolder(path, private=True), NamePattern()
        self._there: dict[str, set[str]] = {}

    def _place(self, delivery: Delivery) -> str:
        return folder_path(delivery.envelope.folder) or component(clean(delivery.envelope.folder))

    def has(self, delivery: Delivery) -> bool:
        place = self._place(delivery)
        if place not in self._there:
            names = [name for name in self._root.names(place) if name.endswith(".eml")]
            digests = (self._root.digest(f"{place}/{name}") for name in names)
            self._there[place] = {digest for digest in digests if digest is not None}
        return delivery.digest in self._there[place]

    def put(self, delivery: Delivery) -> None:
        place = self._place(delivery)
        fields = Fields(delivery.header, "", "", UTC, delivery.header.date(delivery.envelope.arrival)[0])
        stem = component(self._pattern.stem(fields), 30)
        write_whole(
            self._root, f"{place}/.{delivery.digest[:40]}.part", f"{place}/{stem} {delivery.digest[:12]}.eml", delivery
        )
        self._there.setdefault(place, set()).add(delivery.digest)

    def close(self, whole: bool) -> None:
        self._root.close()
