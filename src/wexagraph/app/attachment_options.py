"""The options of attachments alone as plain data, and what is made of them."""

from __future__ import annotations

import os
from typing import Any

from wexagraph.app.locales import language_code, zone_name
from wexagraph.app.option_table import ATTACHMENT_FORMS, ATTACHMENTS_ALONE, DOCUMENT_PAGES
from wexagraph.app.option_values import size_of, words
from wexagraph.app.options import Plain, filled, page_options, register_forms
from wexagraph.app.rows import defaults
from wexagraph.errors import CallError
from wexagraph.exports.attachments.documents import ORDERS, DocumentOptions
from wexagraph.exports.attachments.options import ATTACHMENT_PATTERN, ExtractOptions
from wexagraph.naming.patterns import NamePattern
from wexagraph.pages.engines import available
from wexagraph.pages.options import PageOptions

ATTACHMENT_DEFAULTS = defaults(ATTACHMENTS_ALONE) | {"attached": ()}
_PAGES = (*(row.name for row in DOCUMENT_PAGES), "zone", "open-zips")


def attachment_options(plain: Plain) -> ExtractOptions:
    """The options of attachments alone. Raises CallError."""
    values = filled(plain, ATTACHMENT_DEFAULTS)
    forms = words(values["as"], ATTACHMENT_FORMS, "form")
    return ExtractOptions(
        pattern=NamePattern(values["name"]),
        wanted=tuple(value for value in values["attached"] if value != "*"),
        larger=size_of(values["file-larger"], "--file-larger"),
        smaller=size_of(values["file-smaller"], "--file-smaller"),
        inline=values["inline"],
        nested=values["nested"],
        open_zips=values["open-zips"],
        once=values["once"],
        flat=values["flat"],
        zone=PageOptions(zone=zone_name(values["zone"])).timezone(),
        jobs=values["jobs"] or os.cpu_count() or 1,
        cluster=values["cluster"] or "",
        native="native" in forms,
        registers=register_forms(values["register"]),
        language=language_code(values["language"]),
        document=_document_options(values, "pdf" in forms),
    )


def _document_options(values: dict[str, Any], wanted: bool) -> DocumentOptions | None:
    """How PDFs are made of attachments; None where none are `wanted`. Raises CallError."""
    if not wanted:
        return None
    if values["order"] and not values["bind"]:
        raise CallError("--order says how attachments follow one another in one PDF: it needs --bind message or type.")
    if values["bind"] == "type" and values["name"] != ATTACHMENT_PATTERN and "native" not in values["as"]:
        raise CallError("--name goes not with --bind type: each PDF has the name of its type.")
    page = {name: values[name] for name in _PAGES}
    return DocumentOptions(
        page_options(page | {"attachments": "pages"}),
        engine=available("auto")[0],
        bind=values["bind"] or "",
        order=words(values["order"], ORDERS, "order") if values["order"] else (),
        tags=tuple(values["tag"]),
    )
