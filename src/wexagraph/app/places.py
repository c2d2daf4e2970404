"""Opening a place that is delivered to, by its name or its path."""

from __future__ import annotations

from pathlib import Path

from wexagraph.app.configuration import Configuration
from wexagraph.errors import CallError
from wexagraph.output.target import keep_apart
from wexagraph.sending.places import FolderPlace, Place
from wexagraph.text import one_line


def open_place(named: str, configuration: Configuration, root: Path) -> Place:
    """A place: a folder, or `@name` of the configuration; apart from `root`, which is to go there. Raises CallError."""
    path = named
    if named.startswith("@"):
        known = configuration.places
        if named[1:] not in known:
            names = ", ".join(f"@{name}" for name in sorted(known)) or "none yet"
            raise CallError(
                f"no place is called {one_line(named)}. Known: {names}. They stand under [places] in your own "
                "wexagraph.toml."
            )
        path = known[named[1:]]
    if "://" in path:
        raise CallError(f"{one_line(path)} is no folder. Places are folders: a share that is mounted, a disk, a stick.")
    keep_apart(root, path, around=True)
    return FolderPlace(Path(path).expanduser())
