"""A folder of EML files."""

from __future__ import annotations

from pathlib import Path

from wexagraph.errors import TargetError
from wexagraph.output.sinks.base import Delivery, Sink, eml_folder, eml_path, opened, write_whole


class EmlFolderSink(Sink):
    """A folder of EML files below folders; a file's time is when its message arrived."""

    names_files = True

    def __init__(self, path: Path, empty: Path | None = None) -> None:
        if path.exists() and not path.is_dir():
            raise TargetError(f"{path} is a file. Name a folder, or a target that ends in .mbox or .zip.")
        self._root = opened(path, empty)
        self._there: dict[str, set[str]] = {}

    def where(self, delivery: Delivery) -> str:
        return eml_path(delivery)

    def has(self, delivery: Delivery) -> bool:
        place = eml_folder(delivery)
        if place not in self._there:
            names = [name for name in self._root.names(place) if name.endswith(".eml")]
            digests = (self._root.digest(f"{place}/{name}") for name in names)
            self._there[place] = {digest for digest in digests if digest is not None}
        return delivery.digest in self._there[place]

    def put(self, delivery: Delivery) -> None:
        place = eml_folder(delivery)
        write_whole(self._root, f"{place}/.{delivery.digest[:40]}.part", eml_path(delivery), delivery)
        self._there.setdefault(place, set()).add(delivery.digest)

    def close(self, whole: bool) -> None:
        self._root.close()
