"""Words and dates in the office's language, from gettext catalogues (catalogues/CODE.po); English is the source.

What is stored stays English; a page, a name or a text file is written in a language.
"""

from __future__ import annotations

import io
from datetime import date, datetime
from functools import lru_cache
from pathlib import Path
from typing import Any

from wexagraph.text import size

ENGLISH = "en"
LANGUAGES = (ENGLISH, "de", "es", "fr", "it", "nl", "pl", "pt")


class Language:
    """A language by its code (ISO 639-1). Called with an English text, it gives its own."""

    def __init__(self, code: str = ENGLISH) -> None:
        self.code = code
        self._catalogue = _catalogue(code) if code != ENGLISH else None

    def __call__(self, text: str, /, **values: object) -> str:
        """The text in this language, its {fields} filled with values."""
        text = self._catalogue.gettext(text) if self._catalogue is not None and text else text
        return text.format(**values) if values else text

    def many(self, one: str, more: str, count: int) -> str:
        """The text for a number of things, {count} filled in."""
        catalogue = self._catalogue
        text = catalogue.ngettext(one, more, count) if catalogue is not None else (one if count == 1 else more)
        return text.format(count=self.number(count))

    def number(self, value: float, decimals: int = 0) -> str:
        """A number as it is written there."""
        if self._catalogue is None:
            return f"{value:,.{decimals}f}"
        from babel.numbers import format_decimal

        return format_decimal(value, "#,##0" + ("." + "0" * decimals) * bool(decimals), locale=self.code)

    def size(self, count: float) -> str:
        """Bytes for people."""
        if count < 1024:
            return self.many("{count} byte", "{count} bytes", int(count))
        if self._catalogue is None:
            return size(count)
        amount, unit = size(count).split()
        return f"{self.number(float(amount), 1)} {unit}"

    def day(self, day: date) -> str:
        """A day in words: Friday 20 March 2026."""
        if self._catalogue is None:
            return f"{day:%A} {day.day} {day:%B} {day.year}"
        from babel.dates import format_date

        return str(format_date(day, "full", locale=self.code))

    def moment(self, moment: datetime) -> str:
        """An instant in words, with its zone."""
        name = moment.tzname() or ""
        known = f" {name}" if name.isalpha() and name != "UTC" else ""
        return f"{self.day(moment.date())}, {moment:%H:%M}{known} ({offset_text(moment)})"


def offset_text(moment: datetime) -> str:
    """The offset of an instant, as UTC+01:00."""
    packed = f"{moment:%z}" or "+0000"
    return f"UTC{packed[:3]}:{packed[3:5]}"


@lru_cache(maxsize=len(LANGUAGES))
def language(code: str) -> Language:
    """The language of a code in `LANGUAGES`."""
    return Language(code)


def catalogue_path(code: str) -> Path:
    """Where the catalogue of a language lies."""
    return Path(__file__).with_name("catalogues") / f"{code}.po"


def _catalogue(code: str) -> Any:
    from babel.messages.mofile import write_mo
    from babel.messages.pofile import read_po
    from babel.support import Translations

    with open(catalogue_path(code), "rb") as file:
        catalogue = read_po(file, locale=code)
    packed = io.BytesIO()
    write_mo(packed, catalogue)
    packed.seek(0)
    return Translations(packed)
