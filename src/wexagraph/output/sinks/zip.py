"""A ZIP of EML files."""

from __future__ import annotations

import zipfile
from datetime import UTC
from pathlib import Path

from wexagraph.errors import TargetError
from wexagraph.naming import Fields, NamePattern, clean, component
from wexagraph.naming.paths import folder_path
from wexagraph.output.archives import ZipWriter
from wexagraph.output.folder import OutputFolder
from wexagraph.output.replacing import ReplacedFile
from wexagraph.output.sinks.base import Delivery, Sink, digests_in, folder_of


class ZipSink(Sink):
    """A ZIP of EML files below folders. An old one is replaced whole or not at all."""

    def __init__(self, path: Path) -> None:
        if path.is_dir():
            raise TargetError(f"{path} is a folder. Name a ZIP file, or a folder that does not end in .zip.")
        self._root, self._pattern = OutputFolder(folder_of(path), private=True), NamePattern()
        self._file = ReplacedFile(self._root, path.name)
        self._there = digests_in(path)
        self._writer: ZipWriter | None = None

    def has(self, delivery: Delivery) -> bool:
        return delivery.digest in self._there.get(self._place(delivery), set())

    def _place(self, delivery: Delivery) -> str:
        return folder_path(delivery.envelope.folder) or component(clean(delivery.envelope.folder))

    def put(self, delivery: Delivery) -> None:
        if self._writer is None:
            self._writer = ZipWriter(self._file.begin(lambda file, old: None))
            if self._root.taken(self._file.name.name):
                with self._root.reader(self._file.name.name) as file, zipfile.ZipFile(file) as old:
                    for info in old.infolist():
                        self._writer.copy(info, old.read(info))
        fields = Fields(delivery.header, "", "", UTC, delivery.header.date(delivery.envelope.arrival)[0])
        stem = component(self._pattern.stem(fields), 30)
        self._writer.add(
            delivery.data, delivery.header, delivery.moment, f"{self._place(delivery)}/{stem} {delivery.digest[:12]}"
        )
        self._there.setdefault(self._place(delivery), set()).add(delivery.digest)

    def close(self, whole: bool) -> None:
        try:
            if self._writer is not None:
                self._writer.close()
                self._writer = None
                self._file.finish(None)
        finally:
            self._file.release()
            self._root.close()
