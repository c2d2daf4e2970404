"""What stands behind options, read from text or plain data: words, ways with attachments, paper, lengths, sizes; what a
page to browse says of the office."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from wexagraph.errors import CallError
from wexagraph.exports.options import IndexOptions
from wexagraph.files import open_regular
from wexagraph.messages.filetypes import recognise
from wexagraph.pages.options import ATTACHMENTS, PAPERS, Margins, paper_size
from wexagraph.selection.criteria import parse_size

_MOST_PICTURE = 500_000
_PICTURES = frozenset(["image/png", "image/jpeg", "image/gif", "image/webp"])


def words(value: Any, known: tuple[str, ...], what: str, alone: str = "") -> tuple[str, ...]:
    """Words out of a list, several with commas or in a sequence; `alone` goes with no other. Raises CallError."""
    texts = value if isinstance(value, list | tuple) else [value]
    chosen = [word for text in texts for word in str(text).replace(" ", "").lower().split(",") if word]
    listed = ", ".join(known)
    for word in chosen:
        if word not in known:
            raise CallError(f"{word!r} is not a {what}. Possible are: {listed}.")
    if not chosen:
        raise CallError(f"no {what} is named. Possible are: {listed}.")
    if alone in chosen and len(set(chosen)) > 1:
        raise CallError(f"{alone} goes with no other.")
    return tuple(dict.fromkeys(chosen))


def attachment_ways(value: Any) -> dict[str, tuple[str, ...]]:
    """The ways of attachments, each with the names or media types that it is for (none: all). Raises CallError.

    "embed,pages" are two ways; "pages:*.pdf,*.docx" is one for two kinds of names.
    """
    ways: dict[str, list[str]] = {}
    for text in value if isinstance(value, list | tuple) else [value]:
        way = ""
        for word in filter(None, map(str.strip, str(text).split(","))):
            head, colon, kind = word.partition(":")
            if not (head.lower() in ATTACHMENTS or (way and ways[way][-1])):
                words(head, ATTACHMENTS, "way with attachments")  # raises
            if head.lower() not in ATTACHMENTS:
                ways[way].append(word)
                continue
            way = head.lower()
            if colon and not kind.strip():
                raise CallError(f"{word!r} names nothing behind the colon. pages:*.pdf makes pages of PDFs alone.")
            ways.setdefault(way, []).append(kind.strip())
    if not ways:
        words("", ATTACHMENTS, "way with attachments")  # raises
    if "none" in ways and len(ways) > 1:
        raise CallError("none goes with no other.")
    return {way: () if "" in kinds else tuple(dict.fromkeys(kinds)) for way, kinds in ways.items()}


def checked_ways(value: Any) -> Any:
    """The same as it was given. Raises CallError."""
    attachment_ways(value)
    return value


def paper(value: Any) -> str:
    """A paper by its name, or width x height in millimetres. Raises CallError."""
    text = str(value).lower().replace(" ", "").removesuffix("mm")
    try:
        paper_size(text)
    except ValueError as error:
        raise CallError(
            f"{value!r} is not a paper size. There are {', '.join(PAPERS)}, or width x height in millimetres: 100x150."
        ) from error
    return text


def margins(value: Any) -> Margins:
    """Margins in millimetres: one for all sides, or four: top, right, bottom, left. Raises CallError."""
    if isinstance(value, Margins):
        return value
    try:
        lengths = [float(length) for length in (value if isinstance(value, list | tuple) else str(value).split(","))]
    except ValueError:
        lengths = []
    if len(lengths) not in (1, 4) or not all(5 <= length <= 60 for length in lengths):
        raise CallError(
            "--margin takes millimetres from 5 to 60: one for all sides (20), "
            "or top, right, bottom and left (20,25,20,25)."
        )
    return Margins(*(lengths * 4 if len(lengths) == 1 else lengths))


def percent(value: Any) -> float:
    """A scale in percent. Raises CallError."""
    try:
        number = float(str(value).strip().removesuffix("%"))
    except ValueError:
        number = 0
    if not 40 <= number <= 250:
        raise CallError(f"{value!r} is not a scale between 40% and 250%.")
    return number


def size_of(value: str | None, option: str) -> int | None:
    """A size in bytes; None where none is given. Raises CallError."""
    try:
        return parse_size(value) if value else None
    except CallError as error:
        raise CallError(f"{option}: {error}") from error


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
