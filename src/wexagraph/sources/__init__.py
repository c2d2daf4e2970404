"""Where mail lies, and how it is read without touching it."""

from pathlib import Path

from wexagraph.errors import SourceError
from wexagraph.sources.base import WHOLE, Envelope, Leaf, Share, Source, Trouble


def open_source(location: str | Path) -> Source:
    """Open a source: a path to a mailbox in files. Raises SourceError."""
    text = str(location)
    if "://" in text:
        raise SourceError(f"{text.partition('://')[0]}:// is not a source that this version reads. Give a path.")
    from wexagraph.sources.local import open_local

    return open_local(Path(text).expanduser())


_opened: dict[str, Source] = {}


def reopen(location: str) -> Source:
    """The source of that location, opened once in this process and kept: for workers that read shares of it."""
    if location not in _opened:
        _opened[location] = open_source(location)
    return _opened[location]


__all__ = ["WHOLE", "Envelope", "Leaf", "Share", "Source", "Trouble", "open_source", "reopen"]
