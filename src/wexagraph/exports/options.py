"""What an export does: frozen, made once at the edge."""

from __future__ import annotations

import hashlib
from dataclasses import asdict, dataclass, field
from datetime import tzinfo
from functools import cached_property

from wexagraph.naming import NamePattern
from wexagraph.pages import FORMATS as PAGE_FORMATS
from wexagraph.pages import PageOptions

SUFFIXES = {"pdf": ".pdf", "eml": ".eml", "html": ".html", "text": ".txt"}
MESSAGE_FORMATS = tuple(SUFFIXES)
ARCHIVE_FORMATS = ("mbox", "zip")


@dataclass(frozen=True)
class ExportOptions:
    """How chosen messages become files.

    `formats` out of pdf, eml, html, text (a file a message) and mbox, zip (a file a folder). `flat` leaves out the
    source's folders. `jobs` worker processes make pages; one page may take `patience` seconds. `engine` is auto or
    the name of a page engine.
    """

    formats: tuple[str, ...] = ("pdf",)
    pattern: NamePattern = field(default_factory=NamePattern)
    flat: bool = False
    page: PageOptions = field(default_factory=PageOptions)
    engine: str = "auto"
    jobs: int = 1
    patience: float = 30.0

    @cached_property
    def message_formats(self) -> tuple[str, ...]:
        return tuple(name for name in MESSAGE_FORMATS if name in self.formats)

    @cached_property
    def page_formats(self) -> tuple[str, ...]:
        return tuple(name for name in self.message_formats if name in PAGE_FORMATS)

    @cached_property
    def archive_formats(self) -> tuple[str, ...]:
        return tuple(name for name in ARCHIVE_FORMATS if name in self.formats)

    @cached_property
    def beside(self) -> tuple[str, ...]:
        """Which files lie beside a message's own: `beside`, its attachments in a folder; `zip`, in a ZIP."""
        return tuple(way for way in ("beside", "zip") if way in self.page.attachments)

    @property
    def zone(self) -> tzinfo | None:
        return self.page.timezone()

    @cached_property
    def naming(self) -> str:
        """Equal for two exports that give the same names."""
        return _short(f"{self.pattern.text}|{self.flat}|{self.page.zone}")

    def recipe(self, format: str) -> str:
        """Equal for two exports that make the same file of this format from the same message."""
        beside = "|".join(self.beside)
        if format == "eml":
            return f"eml|{beside}" if beside else "eml"
        page = asdict(self.page)
        if format in ARCHIVE_FORMATS:
            return format
        return _short(f"{format}|{sorted(page.items())}|{self.engine if format == 'pdf' else ''}")


def _short(text: str) -> str:
    return hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()[:16]
