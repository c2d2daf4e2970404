"""A ZIP of EML files."""

from __future__ import annotations

import zipfile
from pathlib import Path

from wexagraph.errors import TargetError
from wexagraph.output.archives import ZipWriter
from wexagraph.output.replacing import ReplacedFile
from wexagraph.output.sinks.base import Delivery, Sink, digests_in, eml_folder, eml_path, folder_of, opened


class ZipSink(Sink):
    """A ZIP of EML files below folders. An old one is replaced whole or not at all."""

    names_files = True

    def __init__(self, path: Path, empty: Path | None = None) -> None:
        if path.is_dir():
            raise TargetError(f"{path} is a folder. Name a ZIP file, or a folder that does not end in .zip.")
        self._root = opened(folder_of(path), empty)
        self._file = ReplacedFile(self._root, path.name) if empty is None else None
        self._there = digests_in(path)
        self._writer: ZipWriter | None = None

    def has(self, delivery: Delivery) -> bool:
        return delivery.digest in self._there.get(eml_folder(delivery), set())

    def where(self, delivery: Delivery) -> str:
        return eml_path(delivery)

    def put(self, delivery: Delivery) -> None:
        assert self._file is not None
        if self._writer is None:
            self._writer = ZipWriter(self._file.begin(lambda file, old: None))
            if self._root.taken(self._file.name.name):
                with self._root.reader(self._file.name.name) as file, zipfile.ZipFile(file) as old:
                    for info in old.infolist():
                        self._writer.copy(info, old.read(info))
        name = eml_path(delivery).removesuffix(".eml")
        self._writer.add(delivery.data, delivery.header, delivery.moment, name)
        self._there.setdefault(eml_folder(delivery), set()).add(delivery.digest)

    def close(self, whole: bool) -> None:
        try:
            if self._writer is not None:
                self._writer.close()
                self._writer = None
                if self._file is not None:
                    self._file.finish(None)
        finally:
            if self._file is not None:
                self._file.release()
            self._root.close()
