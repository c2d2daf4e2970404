"""The languages in which words of scans are recognised, as an option names them."""

from __future__ import annotations

import re
from typing import Any

from wexagraph.errors import CallError
from wexagraph.pages.scans.engines import check

OFFICE = "office"
SCAN_LANGUAGES = {
    "en": "eng",
    "de": "deu",
    "es": "spa",
    "fr": "fra",
    "it": "ita",
    "nl": "nld",
    "pl": "pol",
    "pt": "por",
}


def scan_languages(value: Any, language: str) -> tuple[str, ...]:
    """The languages in which words of scans are recognised, codes of ISO 639-2 with commas or `office`: that of labels.
    None for none. Raises CallError where one, or what recognises, is not installed."""
    if value in (None, False, ""):
        return ()
    text = SCAN_LANGUAGES[language] if value in (True, OFFICE) else str(value)
    languages = tuple(dict.fromkeys(word.strip() for word in text.lower().split(",") if word.strip()))
    for one in languages:
        if not re.fullmatch(r"[a-z]{3}(_[a-z]{2,8})?", one):
            raise CallError(f"--ocr: {one!r} is no language. It takes codes of three letters: eng, deu, por.")
    check(languages)
    return languages
