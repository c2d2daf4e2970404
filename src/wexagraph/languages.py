"""Words and dates in the office's language, from gettext catalogues (catalogues/CODE.po); English is the source.

What is stored stays English; a page, a name or a text file is written in a language.
"""

from __future__ import annotations

import io
import re
from collections import Counter
from datetime import date, datetime
from functools import lru_cache
from pathlib import Path
from typing import Any

from wexagraph.text import size

ENGLISH = "en"
LANGUAGES = (ENGLISH, "de", "es", "fr", "it", "nl", "pl", "pt")

SMALL_WORDS = {
    "deu": "der die das und ist nicht von zu mit den dem ein eine für auf wird im sich wir sie werden am bis",
    "eng": "the and of to is in that for it on with as are be by this at from we you will have or not",
    "spa": "el la los las y de que en un una es por con para se del al no su está",
    "fra": "le la les des et de du un une est que pour dans par sur au avec ne pas vous nous sont",
    "ita": "il la le gli di e che un una per con non del della è dei nel sono si alla",
    "nld": "de het een en van is dat op te in met voor niet zijn aan wordt wij u bij",
    "pol": "i w na z do nie jest się że o od po dla przez oraz jak są przy",
    "por": "o a os as e de do da que em um uma para com não é por no na dos",
}
"""Words that stand in nearly every text of a language (ISO 639-2), for telling which it is."""
_CODES = {"deu": "de", "eng": "en", "spa": "es", "fra": "fr", "ita": "it", "nld": "nl", "pol": "pl", "por": "pt"}
_SCRIPTS = {
    "ja": "\u3040-\u30ff",
    "ko": "\uac00-\ud7af",
    "zh": "\u4e00-\u9fff",
    "he": "\u0590-\u05ff",
    "ar": "\u0600-\u06ff",
    "el": "\u0370-\u03ff",
    "th": "\u0e00-\u0e7f",
    "ru": "\u0400-\u04ff",
}
_OTHERS = {"ar": ("fa", "[\u067e\u0686\u0698\u06af]"), "ru": ("uk", "[\u0456\u0457\u0454\u0491]")}
"""Languages of the same script that have letters of their own."""
_LEAST_WORDS, _SURE, _SAMPLE, _SHARE = 5, 1.5, 4000, 0.5


def told_language(text: str) -> str:
    """The language (ISO 639-1) that a text tells by its letters or its small words; "" where it does not."""
    sample = text[:_SAMPLE]
    if not sample.isascii():
        letters = max(1, sum(map(str.isalpha, sample)))
        for code, script in _SCRIPTS.items():
            share = len(re.findall(f"[{script}]", sample)) / letters
            if share > (_SHARE / 10 if code == "ja" else _SHARE):  # between signs that Chinese has too
                other, own = _OTHERS.get(code, ("", "$^"))
                return other if re.search(own, sample) else code
    words = Counter(re.findall(r"\w+", sample.lower()))
    counts = sorted((sum(words[small] for small in known.split()), name) for name, known in SMALL_WORDS.items())
    (second, _), (most, best) = counts[-2:]
    return _CODES[best] if most >= _LEAST_WORDS and most >= _SURE * second else ""


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
