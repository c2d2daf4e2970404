"""What a page to browse is made with: frozen, made once at the edge."""

from __future__ import annotations

from dataclasses import dataclass

from wexagraph.languages import ENGLISH


@dataclass(frozen=True)
class IndexOptions:
    """The title of a page to browse ("": the folder's name), the office that it is of, its picture (media type and
    bytes), and the language of labels."""

    title: str = ""
    office: str = ""
    picture: tuple[str, bytes] | None = None
    language: str = ENGLISH
