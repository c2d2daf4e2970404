"""What a page to browse says of the office, as options name it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from wexagraph.errors import CallError
from wexagraph.exports.options import IndexOptions
from wexagraph.files import open_regular
from wexagraph.messages.filetypes import recognise

_MOST_PICTURE = 500_000
_PICTURES = frozenset(["image/png", "image/jpeg", "image/gif", "image/webp"])


def index_options(values: dict[str, Any], language: str, title: str = "") -> IndexOptions:
    """The options of a page to browse; `values` has `office` and `office-picture`. Raises CallError."""
    picture = values["office-picture"]
    return IndexOptions(title, values["office"] or "", _picture(picture) if picture else None, language)


def _picture(given: str) -> tuple[str, bytes]:
    """Media type and bytes of the office's picture. Raises CallError."""
    try:
        with open_regular(Path(given).expanduser(), follow=True) as file:
            content = file.read(_MOST_PICTURE + 1)
    except OSError as error:
        raise CallError(f"--office-picture {given} can't be read: {error.strerror or error}.") from error
    kind = recognise(content)
    if kind not in _PICTURES:
        raise CallError(f"--office-picture {given}: it takes a PNG, JPEG, GIF or WebP file.")
    if len(content) > _MOST_PICTURE:
        raise CallError(
            f"--office-picture {given} is larger than {_MOST_PICTURE // 1000} KB, which each page would hold."
        )
    return kind, content
