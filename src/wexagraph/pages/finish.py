"""A finished PDF: what is embedded in it (ISO 32000-2, section 7.11.4), and bytes that are the same every time."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from wexagraph.naming import clean, component, with_extension


@dataclass(frozen=True)
class Embedded:
    """A file to embed: its name as it came, media type, bytes, and a description for people."""

    name: str
    type: str
    content: bytes
    description: str = ""


def embed(pdf: bytes, files: Sequence[Embedded], moment: datetime | None) -> bytes:
    """The PDF with `files` embedded, under safe names that differ. The same input gives the same bytes.

    `moment` is written as their modification date.
    """
    import pikepdf

    with pikepdf.open(io.BytesIO(pdf)) as document:
        taken: set[str] = set()
        for file in files:
            name = _free_name(file.name, taken)
            spec = pikepdf.AttachedFileSpec(
                document,
                file.content,
                filename=name,
                mime_type=file.type,
                description=file.description,
                creation_date=_pdf_date(moment),
                mod_date=_pdf_date(moment),
            )
            document.attachments[name] = spec
        out = io.BytesIO()
        document.save(out, deterministic_id=True, object_stream_mode=pikepdf.ObjectStreamMode.generate)
    return out.getvalue()


def _pdf_date(moment: datetime | None) -> str:
    moment = (moment or datetime(1980, 1, 1, tzinfo=UTC)).astimezone(UTC)
    return f"D:{moment:%Y%m%d%H%M%S}Z"


def _free_name(wanted: str, taken: set[str]) -> str:
    stem, extension = with_extension(clean(wanted))
    stem, number = component(stem, room=30), 1
    name = stem + extension
    while name.casefold() in taken:
        number += 1
        name = f"{stem} ({number}){extension}"
    taken.add(name.casefold())
    return name
