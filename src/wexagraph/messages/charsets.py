"""Bytes to text: declared character sets, wrong ones, and none at all."""

from __future__ import annotations

import codecs
import re
import unicodedata
from collections.abc import Callable, Iterable
from functools import lru_cache

from wexagraph.notes import Note

# Labels as mail carries them, to the Python codec that reads what was really written. A label's superset is
# taken where practice does (WHATWG Encoding Standard, section 4.2): Latin-1 is Windows-1252, GB2312 is GB18030.
_ALIASES = {
    "ansi": "cp1252",
    "x-ansi": "cp1252",
    "iso-8859-1": "cp1252",
    "iso8859-1": "cp1252",
    "latin1": "cp1252",
    "latin-1": "cp1252",
    "iso-8859-9": "cp1254",
    "iso-8859-11": "cp874",
    "tis-620": "cp874",
    "gb2312": "gb18030",
    "gbk": "gb18030",
    "x-gbk": "gb18030",
    "ks_c_5601-1987": "cp949",
    "ks_c_5601": "cp949",
    "euc-kr": "cp949",
    "shift_jis": "cp932",
    "shift-jis": "cp932",
    "x-sjis": "cp932",
    "big5": "big5hkscs",
    "x-big5": "big5hkscs",
    "iso-2022-jp": "iso2022_jp_ext",
    "unicode-1-1-utf-7": "utf-7",
    "unicode-1-1-utf-8": "utf-8",
    "utf8mb4": "utf-8",
    "x-utf-8": "utf-8",
    "x-mac-roman": "mac_roman",
    "macintosh": "mac_roman",
    "iso-8859-8-i": "iso8859-8",
    "iso-8859-8-e": "iso8859-8",
    "x-user-defined": "cp1252",
}
_UNKNOWN = {
    "",
    "unknown",
    "unknown-8bit",
    "x-unknown",
    "default",
    "default_charset",
    "binary",
    "none",
    "_iso-2022",
}
_TEXT_CODECS_ONLY = {
    "base64",
    "hex",
    "bz2",
    "zlib",
    "uu",
    "quopri",
    "rot13",
    "rot_13",
    "idna",
    "punycode",
    "undefined",
}
_OF_SEVERAL_BYTES = frozenset({"utf-8", "gb18030", "cp949", "cp932", "big5hkscs", "euc_jp", "iso2022_jp_ext"})
_USUAL = (None, "ascii", "utf-8", "cp1252")
_LOST = "\N{REPLACEMENT CHARACTER}"
_HIGH = re.compile(rb"[\x80-\xff]")
_WORDED = re.compile(rb"[A-Za-z]")
_C1 = re.compile("[\x80-\x9f]")
_TOKEN = re.compile(r"[^\x00-@\[-`{-\x7f\s´’]+")  # accents are written as apostrophes
_EDGES = "".join(map(chr, range(0xA0, 0xC0))) + "×÷–—‘’‚“”„•…€™"
"""Signs that stand beside words of Latin letters."""
_STRANGE_RUN = re.compile(r"[^\x00-\x7f]{3}")
_MOST_GUESSES = 6
_SOME_WORDS = 6
"""So many words with accents tell the languages of Latin letters apart."""
_MOST_READ = 2048
"""Characters of a text by which a declared set is judged."""
_SOME_LETTERS = 12
"""So many different letters tell that words are not of Latin ones."""
_LATIN = "cp1252 cp1250 iso8859-2 cp1254 cp1257".split()
_MORE_LATIN = "iso8859-3 iso8859-4 iso8859-10 iso8859-13 iso8859-14 iso8859-15 iso8859-16 mac-roman".split()
_OTHERS = (
    "cp1251 cp1253 cp1255 cp1256 cp874 iso8859-5 iso8859-6 koi8-r koi8-u "
    "gb18030 big5hkscs euc_kr cp949 cp932 euc_jis_2004"
).split()
"""Sets that mail is found in without a word about it."""


@lru_cache(maxsize=256)
def codec_for(label: str) -> str | None:
    """The Python codec for a charset label (RFC 2978, or a habit of practice), or None where there is none."""
    name = label.strip().strip("\"'").lower()
    name = name.split("*")[0]  # RFC 2231 language suffix
    if name in _UNKNOWN:
        return None
    bare = name.removeprefix("x-")
    candidates = [_ALIASES.get(name), _ALIASES.get(bare), name, bare]
    if re.fullmatch(r"(?:windows|cp|x-cp|win)[-_]?\d{3,4}", name):
        candidates.insert(0, "cp" + re.sub(r"\D", "", name))
    for candidate in candidates:
        if not candidate or "\0" in candidate:
            continue
        try:
            codec = codecs.lookup(candidate).name
        except (LookupError, UnicodeError, ValueError):
            continue
        if codec.replace("-", "_") not in _TEXT_CODECS_ONLY and not codec.endswith("_codec"):
            return codec
    return None


def decode(data: bytes, label: str = "", hint: str = "") -> tuple[str, list[Note]]:
    """Decode `data`, declared as `label`, without ever failing. `hint` is a label that stands elsewhere in the message.

    Returns the text and notes on whatever was guessed or lost. A declared set that fits is used in silence, and one
    in which few bytes do not fit is used with U+FFFD for those. One that plainly does not fit gives way to UTF-8
    where the bytes are UTF-8, then to the hint, to Windows-1252 where few bytes are not ASCII, and to a guess. Bytes
    beyond ASCII do not fit US-ASCII, nor a set of one byte a letter where they make no words, nor any set but UTF-8
    where they are UTF-8 beyond chance.
    """
    codec = codec_for(label)
    if codec in _USUAL and data.isascii() and b"\x1b" not in data:
        return data.decode("ascii"), []
    if codec in _USUAL and b"\x1b$" in data:
        codec = None  # ISO-2022 escapes are ASCII to the eye, and to a declaration that was never thought about
    fitting = _strict(data, codec) if codec else None
    if codec and fitting is not None and not (_is_rather_utf8(data, codec) or _has_no_words(fitting, codec)):
        return fitting, []
    hinted = codec_for(hint)
    alone = codec is not None or hinted is None or _strict(data, hinted) is None
    for likely in dict.fromkeys((codec, "utf-8")):
        text = _mostly(data, likely, alone) if likely in _OF_SEVERAL_BYTES and _strict(data, "utf-8") is None else None
        if text is not None:
            return text, [Note("characters-lost", f"{text.count(_LOST)} as {likely}")]
    guess = _guess(data, codec, hinted, fitting is not None)
    text = _strict(data, guess) if guess else None
    own = "cp1252" if codec == "ascii" else codec  # its superset in practice
    if text is not None and guess == own:
        return text, []
    code = "charset-wrong" if label.strip() else "charset-guessed"
    if text is not None and guess:
        return text, [Note(code, f"{_label(label)}read as {guess}")]
    fallback = own or "cp1252"
    text = data.decode(fallback, "replace")
    lost = text.count(_LOST)
    return text, [Note("characters-lost", f"{lost} as {fallback}")] if lost else [
        Note(code, f"{_label(label)}read as {fallback}")
    ]


def unusual(labels: Iterable[str]) -> str:
    """The first label of a set that is not taken for granted; "" where there is none."""
    return next((label for label in labels if codec_for(label) not in _USUAL), "")


def likely(data: bytes) -> str:
    """The likeliest character set of bytes that nothing is declared of; "" where they are ASCII or UTF-8."""
    return "" if _strict(data, "utf-8") is not None else _guess(data, None, None) or ""


def _mostly(data: bytes, codec: str, alone: bool) -> str | None:
    """The text, where for each byte that does not fit there are five letters beyond ASCII that do; else None.

    For UTF-8 one is enough where few do not fit, and where it stands `alone`: no hint names a set that fits.
    """
    text = data.decode(codec, "replace")
    lost = text.count(_LOST)
    letters = sum(not character.isascii() for character in text) - lost
    return text if letters >= 5 * lost or (letters >= lost <= 2 and codec == "utf-8" and alone) else None


def _label(label: str) -> str:
    return f"{label.strip()[:40]}, " if label.strip() else ""


def _strict(data: bytes, codec: str) -> str | None:
    try:
        text = data.decode(codec)
    except (UnicodeError, ValueError):
        return None
    if codec == "iso8859-1" and _C1.search(text):
        return None
    # a surrogate from a lenient codec (UTF-7, UTF-16) can be neither printed nor stored
    return None if re.search("[\ud800-\udfff]", text) else text


def _is_rather_utf8(data: bytes, codec: str) -> bool:
    """Whether bytes that another codec reads are UTF-8: by chance they are only where they are few."""
    text = _strict(data, "utf-8") if not (data.isascii() or codec.startswith("utf")) else None
    least = 1 if codec == "cp1252" else 4 if codec in _OF_SEVERAL_BYTES else 2
    return text is not None and sum(not letter.isascii() for letter in text) >= least


def _has_no_words(text: str, codec: str) -> bool:
    """Whether hardly anything with letters beyond ASCII is a word: of Latin letters, where the codec is for those."""
    if codec.startswith("utf") or codec in _OF_SEVERAL_BYTES or text.isascii():
        return False
    is_right = _is_latin if codec in _LATIN + _MORE_LATIN else _is_word
    words = {word for word in _strange_words(text[:_MOST_READ]) if any(c.isalpha() and not c.isascii() for c in word)}
    letters, right = "".join(words), "".join(filter(is_right, words))
    if len(set(letters)) < _SOME_LETTERS:
        return False
    # one set's small letters are another's capitals where both are of Cyrillic ones
    turned = sum(word[0].islower() and word[1:].isupper() for word in words if len(word) > 2)
    return 5 * len(right) < len(letters) or (turned > 1 and not any(word[1:].islower() for word in words))


def _guess(data: bytes, declared: str | None, hinted: str | None, fits: bool = False) -> str | None:
    """The likeliest codec; `hinted` is that of a set that stands elsewhere in the message. Where none is, the declared
    one if it `fits`, else Windows-1252."""
    for mark, name in ((b"\xef\xbb\xbf", "utf-8-sig"), (b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16")):
        if data.startswith(mark):
            return name
    if re.search(rb"\x1b\$[@B]", data) and _strict(data, "iso2022_jp_ext") is not None:
        return "iso2022_jp_ext"
    if _strict(data, "utf-8") is not None:
        return "utf-8"
    if hinted is not None and hinted != declared and _strict(data, hinted) is not None:
        return hinted
    sample = data if len(data) <= 65536 else data[:65536]
    western = "cp1252" if _strict(data, "cp1252") is not None else None
    text = sample.decode("cp1252", "replace")
    words = _strange_words(text)
    if not words:
        return western
    latin = _share(_is_latin, words)
    # words of Latin letters with accents in them, or signs between them
    if latin > 0.8 or (latin >= 0.5 and len(_HIGH.findall(sample)) * 8 <= len(_WORDED.findall(sample))):
        enough = len({token for token in _TOKEN.findall(text) if not token.isascii()}) >= _SOME_WORDS
        return (enough and _detected(sample, data, declared, _LATIN)) or western
    return _detected(sample, data, declared, _LATIN + _OTHERS) or (declared if fits else western)


def _detected(sample: bytes, data: bytes, declared: str | None, among: list[str]) -> str | None:
    """The likeliest codec for a sample that reads all of the data, as words."""
    import chardet

    for guess in chardet.detect_all(sample, include_encodings=among)[:_MOST_GUESSES]:
        codec = codec_for(guess["encoding"] or "")
        text = _strict(data, codec) if codec and codec != declared else None
        if text is not None and _share(_is_word, _strange_words(text[:65536])) >= 0.5:
            return codec
    return None


def _strange_words(text: str) -> list[str]:
    """The words with letters beyond ASCII, without signs beside them."""
    return [word for token in _TOKEN.findall(text) if (word := token.strip(_EDGES)) and not word.isascii()]


def _share(test: Callable[[str], bool], words: list[str]) -> float:
    """How many of the words pass a test, of 1."""
    return sum(map(test, words)) / len(words) if words else 1.0


def _is_word(word: str) -> bool:
    """Whether there are no signs in it, and capitals only where capitals are. East Asian marks stand between letters
    without a blank."""
    letters = word.isalpha() or all(
        unicodedata.category(letter)[0] in ("LMNP" if letter > "\u2010" else "LM") for letter in word
    )
    return letters and (word.isupper() or word[1:] == word[1:].lower())


def _is_latin(word: str) -> bool:
    """Whether letters with accents stand in it, one or two beside others."""
    few = any(map(str.isascii, word)) or len(word) == 1 or (len(word) == 2 and word.islower())
    return few and not _STRANGE_RUN.search(word) and _is_word(word)
