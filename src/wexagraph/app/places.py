"""Opening a place that is delivered to, by its name or its path."""

from __future__ import annotations

from pathlib import Path

from wexagraph.app.accounts import Known
from wexagraph.app.configuration import Configuration
from wexagraph.app.secrets import Prompt
from wexagraph.errors import CallError
from wexagraph.output.target import keep_apart
from wexagraph.sending.places import FolderPlace, Place
from wexagraph.text import one_line


def open_place(named: str, configuration: Configuration, root: Path, prompt: Prompt | None = None) -> Place:
    """A place: a folder, a URL (davs://), or `@name` of the configuration; a folder apart from `root`, which is to go
    there. Raises CallError, SourceError."""
    place: str | Known = named
    if named.startswith("@"):
        known = configuration.places
        if named[1:] not in known:
            names = ", ".join(f"@{name}" for name in sorted(known)) or "none yet"
            raise CallError(
                f"no place is called {one_line(named)}. Known: {names}. They stand under [places] in your own "
                "wexagraph.toml."
            )
        place = known[named[1:]]
    if isinstance(place, str) and "://" in place:
        place = Known(place)
    if isinstance(place, Known):
        from wexagraph.sending.webdav import SCHEMES, WebDavPlace

        return WebDavPlace(place.account(SCHEMES), place.login(prompt))
    keep_apart(root, place, around=True)
    return FolderPlace(Path(place).expanduser())
