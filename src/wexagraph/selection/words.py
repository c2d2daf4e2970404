"""Looking for words in a text as a reader would: however they are spaced, whatever their case, accents and width."""

from __future__ import annotations

import re
import unicodedata
from functools import lru_cache

# soft hyphens, zero-width letters and marks of direction: they are in a text, and nobody sees them
_UNSEEN = re.compile("[\u00ad\u034f\u061c\u180e\u200b-\u200f\u202a-\u202e\u2060-\u2069\ufe00-\ufe0f\ufeff]")
_PIECES = re.compile(r'"([^"]+)"|(\S+)')
# scripts that put no space between words: one is looked for anywhere
_UNSPACED = re.compile("[\u0e00-\u0eff\u1000-\u109f\u1780-\u17ff\u2e80-\ua4cf\uf900-\ufaff\U00020000-\U0003ffff]")


def folded(text: str) -> str:
    """A text as it is compared: white space of any kind is one space; case, accents and width forms do not count."""
    if not text.isascii():
        text = unicodedata.normalize("NFKD", _UNSEEN.sub("", text))
        text = "".join(letter for letter in text if not unicodedata.combining(letter))
    return " ".join(text.casefold().split())


def is_indexed(value: str) -> bool:
    """Whether an index of words finds what is looked for."""
    return not _UNSPACED.search(value) and not re.search(r"[?]|\*(?!\s|$)", value)


def holds(value: str, text: str) -> bool:
    """Whether a folded text holds all words of a value in any order, each as the beginning of a word; those "in quotes"
    whole and side by side. `*` in a word stands for any letters, `?` for one."""
    return all(pattern.search(text) for pattern in _patterns(value))


@lru_cache(maxsize=512)
def _patterns(value: str) -> tuple[re.Pattern[str], ...]:
    patterns = []
    for quoted, word in _PIECES.findall(value):
        words = re.findall(r"[\w*?]+", folded(quoted or word))
        if words and re.search(r"\w", "".join(words)):
            bare = r"\W+".join(map(_with_wildcards, words))
            begin, end = ("", "") if _UNSPACED.search(bare) else (r"(?<!\w)", r"(?!\w)" if quoted else "")
            patterns.append(re.compile(begin + bare + end))
    return tuple(patterns) or (re.compile(re.escape(folded(value))),)


def _with_wildcards(word: str) -> str:
    return re.escape(word).replace(r"\*", r"\w*").replace(r"\?", r"\w")
