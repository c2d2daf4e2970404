"""The language and the paper of an office: what is asked for, else the system's (POSIX locale variables)."""

from __future__ import annotations

import os

from wexagraph.errors import CallError
from wexagraph.languages import ENGLISH, LANGUAGES

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
