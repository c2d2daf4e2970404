"""mbox files."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import BinaryIO

from wexagraph.errors import TargetError
from wexagraph.naming.paths import folder_path
from wexagraph.output.archives import MboxWriter
from wexagraph.output.replacing import ReplacedFile
from wexagraph.output.sinks.base import Delivery, Sink, digests_in, folder_of, opened

_MOST_OPEN = 64


class MboxSink(Sink):
    """One mbox file, or one for each folder below a folder of that name.

    An old file is replaced whole or not at all, and nothing that is delivered into it meanwhile is lost.
    """

    def __init__(self, path: Path, by_folder: bool, empty: Path | None = None) -> None:
        self._by_folder, self._name, self._dry = by_folder, path.name, empty is not None
        if by_folder and path.exists() and not path.is_dir():
            raise TargetError(f"{path} is a file; --by-folder needs a folder, or a name that is still free.")
        if not by_folder and path.is_dir():
            raise TargetError(f"{path} is a folder. --by-folder puts one mbox a folder into it.")
        if not by_folder:
            path = folder_of(path)
        self._root = opened(path, empty)
        self._open: dict[str, ReplacedFile] = {}
        self._there: dict[str, set[str]] = {}

    def where(self, delivery: Delivery) -> str:
        if not self._by_folder:
            return self._name
        *above, last = folder_path(delivery.envelope.folder).split("/")
        # a folder must not bear the name of another one's file
        above = [f"{level}_" if level.lower().endswith(".mbox") else level for level in above]
        return "/".join([*above, f"{last}.mbox"])

    def has(self, delivery: Delivery) -> bool:
        path = self.where(delivery)
        if path not in self._there:
            if len(self._open) >= _MOST_OPEN:
                self._finish(next(iter(self._open)))
            if not self._dry:
                self._open[path] = ReplacedFile(self._root, path)
            self._there[path] = {digest for held in digests_in(self._root.path / path).values() for digest in held}
        # an mbox ends each message with a line end: one without comes back with it
        ended = delivery.data if delivery.data.endswith(b"\n") else delivery.data + b"\n"
        return bool({delivery.digest, hashlib.sha256(ended).hexdigest()} & self._there[path])

    def put(self, delivery: Delivery) -> None:
        path = self.where(delivery)
        if path not in self._open:
            self._open[path] = ReplacedFile(self._root, path)
        MboxWriter(self._open[path].begin(_copy_mbox)).add(delivery.data, delivery.header, delivery.moment, "")
        self._there[path].add(delivery.digest)

    def _finish(self, path: str) -> None:
        self._open.pop(path).finish(_copy_mbox)

    def close(self, whole: bool) -> None:
        try:
            while self._open:
                self._finish(next(iter(self._open)))
        finally:
            for file in self._open.values():
                file.release()
            self._root.close()


def _copy_mbox(file: BinaryIO, old: BinaryIO | None) -> None:
    """What an mbox holds, and the empty line that has to stand before the next From line."""
    tail = b""
    while old is not None and (block := old.read(1 << 20)):
        file.write(block)
        tail = (tail + block)[-2:]
    if tail and tail != b"\n\n":
        file.write(b"\n" if tail.endswith(b"\n") else b"\n\n")
