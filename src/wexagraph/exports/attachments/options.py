"""What is done with attachments alone: frozen, made once at the edge."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field
from datetime import tzinfo
from typing import TYPE_CHECKING

from wexagraph.exports.attachments.documents import DocumentOptions
from wexagraph.languages import ENGLISH
from wexagraph.naming.office_names import NO_NAMES, OfficeNames
from wexagraph.naming.patterns import NamePattern

if TYPE_CHECKING:
    from wexagraph.protection.keys import Keys

ATTACHMENT_PATTERN = "{date:%Y-%m-%d} {sender} - {filename}"


@dataclass(frozen=True)
class ExtractOptions:
    """Which attachments, and how they are named.

    `wanted` are names or media types, with `*` and `?`; none means all. Sizes are in bytes. `inline` takes pictures of
    the layout too, `nested` the attachments of messages inside, `open_zips` the files of ZIPs. `once` writes a file a
    digest; `flat` leaves out the source's folders. `native` writes their own bytes, `document` says how PDFs are made
    of them (None: none are), by `jobs` workers here, or those of the Dask scheduler at the address `cluster`. `names`
    are the office's own for addresses. `registers` are the forms of the table beside the files, whose headings are in a
    `language`. `keys` open what is protected.
    """

    pattern: NamePattern = field(default_factory=lambda: NamePattern(ATTACHMENT_PATTERN))
    wanted: tuple[str, ...] = ()
    larger: int | None = None
    smaller: int | None = None
    inline: bool = False
    nested: bool = False
    open_zips: bool = False
    once: bool = False
    flat: bool = False
    zone: tzinfo | None = None
    jobs: int = 1
    native: bool = True
    document: DocumentOptions | None = None
    cluster: str = ""
    names: OfficeNames = NO_NAMES
    registers: tuple[str, ...] = ("csv",)
    language: str = ENGLISH
    keys: Keys | None = None

    @property
    def keeps_messages(self) -> bool:
        """Whether what is made holds the messages themselves: attachments alone do not."""
        return False

    @property
    def binds_types(self) -> bool:
        """Whether PDFs hold attachments of several messages."""
        return self.document is not None and self.document.bind == "type"

    @property
    def recipes(self) -> tuple[str, str]:
        """Equal for two runs that take the same attachments under the same names: of their own bytes, and of their
        PDFs; "" for what is not made."""
        paged = self.document.recipe(self._recipe) if self.document is not None else ""
        return self._recipe if self.native else "", paged

    @property
    def _recipe(self) -> str:
        values = (
            self.pattern.text,
            self.wanted,
            self.larger,
            self.smaller,
            self.inline,
            self.nested,
            self.open_zips,
            str(self.zone),
            *(["folders"] if not self.flat else []),
            *(["once"] if self.once else []),
            *([self.keys.mark] if self.keys is not None else []),
        )
        return hashlib.sha256(repr(values).encode("utf-8", "surrogateescape")).hexdigest()[:16]
