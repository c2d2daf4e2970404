"""Languages, paper and time zone of an office: what is asked for, else the system's (POSIX locale variables); and its
own names for addresses, from a table in the user's configuration folder or beside the source."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from contextlib import suppress
from difflib import get_close_matches
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo, available_timezones

import platformdirs

from wexagraph.errors import CallError
from wexagraph.languages import ENGLISH, LANGUAGES
from wexagraph.naming.office_names import NO_NAMES, OfficeNames
from wexagraph.selection.value_lists import table_rows
from wexagraph.text import one_line

NAMES = "names.csv"
_MOST_NAMES = 20_000_000
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
_LETTER = frozenset("BZ CA CL CO CR GT MX NI PA PH PR SV US VE".split())
"""Territories whose usual paper is Letter (Unicode CLDR, measurement data)."""


def language_code(given: str | None) -> str:
    """The code of a language; the system's where none is given, English where that is another.

    Raises CallError.
    """
    if given is not None:
        code = given.strip().lower()
        if code not in LANGUAGES:
            raise CallError(f"--language: {given!r} is not a language of pages. Possible are: {', '.join(LANGUAGES)}.")
        return code
    code = _locale("LC_MESSAGES").partition(".")[0].partition("_")[0].lower()
    return code if code in LANGUAGES else ENGLISH


def usual_paper() -> str:
    """The paper of the system's territory."""
    territory = _locale("LC_PAPER").partition(".")[0].partition("_")[2]
    return "letter" if territory.upper() in _LETTER else "a4"


def _locale(category: str) -> str:
    return next((os.environ[name] for name in ("LC_ALL", category, "LANG") if os.environ.get(name)), "")


def zone_name(given: str | None) -> str:
    """The IANA name of a zone, this machine's where none is given; "sender" stays. Raises CallError."""
    if given == "sender":
        return given
    if given is None:
        from tzlocal import get_localzone_name

        try:
            name = get_localzone_name()
            ZoneInfo(name)
        except Exception:  # a machine without a readable zone keeps its dates in UTC
            return "UTC"
        return name
    try:
        ZoneInfo(given)
    except (KeyError, ValueError, OSError) as error:
        near = get_close_matches(given, sorted(available_timezones()), n=1)
        hint = f" Did you mean {near[0]}?" if near else ""
        raise CallError(
            f"--zone: {given!r} is not a time zone.{hint} Write an IANA name such as Europe/Lisbon."
        ) from error
    return given


def _scan_language(word: str) -> str:
    """The three letters of a language that is named by two, or in words: de, german, deutsch."""
    from babel import Locale, UnknownLocaleError

    if len(word) == 3 or "_" in word:
        return word
    for short, code in SCAN_LANGUAGES.items():
        with suppress(UnknownLocaleError):
            names = {Locale(short).get_display_name(other) or "" for other in (short, "en")}
            if word == short or word in {name.lower() for name in names}:
                return code
    return word


def scan_languages(value: Any, language: str) -> tuple[str, ...]:
    """The languages in which words of scans are recognised, codes of ISO 639-2 with commas or `office`: that of labels.
    None for none. Raises CallError where one, or what recognises, is not installed."""
    if value in (None, False, ""):
        return ()
    text = SCAN_LANGUAGES[language] if value in (True, OFFICE) else str(value)
    words = (word.strip() for word in text.lower().split(",") if word.strip())
    languages = tuple(dict.fromkeys(_scan_language(word) for word in words))
    for one in languages:
        if not re.fullmatch(r"[a-z]{3}(_[a-z]{2,8})?", one):
            raise CallError(f"--ocr: {one!r} is no language. It takes codes of three letters: eng, deu, por.")
    from wexagraph.pages.scans.engines import check

    check(languages)
    return languages


def office_names(location: str) -> OfficeNames:
    """The names that hold for a source at a location: the user's own, then those beside the source where it lies on
    this machine. Raises CallError where a table can't be read."""
    names = _names_in(platformdirs.user_config_path("wexagraph", appauthor=False) / NAMES)
    return names + _names_in(Path(location).parent / NAMES) if Path(location).exists() else names


def _names_in(path: Path) -> OfficeNames:
    try:
        with path.open(encoding="utf-8-sig", newline="") as file:
            text = file.read(_MOST_NAMES)
    except FileNotFoundError:
        return NO_NAMES
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "it is not UTF-8"
        raise CallError(f"{path}, the office's names for addresses, can't be read: {reason}.") from error
    return OfficeNames(tuple(_named_rows(text, path)))


def _named_rows(text: str, path: Path) -> Iterator[tuple[str, str, str]]:
    for line, (address, *names) in table_rows(text, ("address", "name"), str(path), ("short name",)):
        known, (name, short) = address.lower().removeprefix("@"), map(one_line, names)
        if known or name:
            if not known or not name or " " in known:
                raise CallError(f"{path}, line {line}: a row has an address or a domain, and a name for it.")
            yield known, name, short
