"""Which letters the fonts have: a letter that none has becomes a box, and the clerk has to know."""

from __future__ import annotations

import os
import re
import sys
import unicodedata
from collections.abc import Iterable, Iterator
from functools import lru_cache
from pathlib import Path

from wexagraph.pages.fonts import FOLDER

_COVERAGE = FOLDER / "coverage.txt"
_INVISIBLE = frozenset({"Cf", "Cc", "Cs", "Zl", "Zp", "Zs"})
_PACKAGES = (  # first and last code point, Debian package of a font that has them
    (0x1F000, 0x1FAFF, "fonts-noto-color-emoji or fonts-symbola"),
    (0x1100, 0x11FF, "fonts-noto-cjk"),
    (0x2E80, 0x9FFF, "fonts-noto-cjk"),
    (0xA960, 0xA97F, "fonts-noto-cjk"),
    (0xAC00, 0xD7FF, "fonts-noto-cjk"),
    (0xF900, 0xFAFF, "fonts-noto-cjk"),
    (0x20000, 0x3FFFF, "fonts-noto-cjk-extra or fonts-hanazono"),
    (0x2000, 0x2BFF, "fonts-symbola or fonts-noto-core"),
    (0x1D000, 0x1DFFF, "fonts-noto-core or fonts-symbola"),
    (0x0000, 0x1FFF, "fonts-noto-core"),
    (0xA000, 0xABFF, "fonts-noto-core"),
    (0x10000, 0x1CFFF, "fonts-noto-core or fonts-noto-extra"),
)


def without_font(text: str) -> list[str]:
    """The characters of a text that no font has, neither those that come with us nor the machine's."""
    if text.isascii():
        return []
    strange = set(_shipped().findall(text))
    strange = {char for char in strange if not _is_invisible(char)}
    return sorted(char for char in strange if ord(char) not in _of_machine()) if strange else []


def named(characters: Iterable[str]) -> str:
    """Characters for a note: code points, and the packages whose fonts have them (Unicode Standard, appendix A)."""
    codes, packages = [], []
    for char in characters:
        private = unicodedata.category(char) == "Co"
        codes.append(f"U+{ord(char):04X}{' (private to the sender)' if private else ''}")
        package = next((name for first, last, name in _PACKAGES if first <= ord(char) <= last), "")
        if package and package not in packages:
            packages.append(package)
    shown = ", ".join(codes[:12]) + (f" and {len(codes) - 12} more" if len(codes) > 12 else "")
    return f"{shown}; fonts that have them: {', '.join(packages[:4])}" if packages else shown


def _is_invisible(char: str) -> bool:
    return unicodedata.category(char) in _INVISIBLE or 0xFE00 <= ord(char) <= 0xFE0F or 0xE0000 <= ord(char) <= 0xE01EF


@lru_cache(maxsize=1)
def _shipped() -> re.Pattern[str]:
    """Matches a character that the fonts of this package do not have."""
    ranges = (line.split("-") for line in _COVERAGE.read_text("ascii").split())
    known = "".join(f"{re.escape(chr(int(r[0], 16)))}-{re.escape(chr(int(r[-1], 16)))}" for r in ranges)
    return re.compile(f"[^{known}]")


@lru_cache(maxsize=1)
def _of_machine() -> frozenset[int]:
    """The code points of all fonts of the machine."""
    return frozenset(code for path in _font_files() for code in code_points(path))


def _font_files() -> Iterator[Path]:
    # the folders that `fonts.conf` names to the engine
    home = Path.home()
    places = [
        Path("/usr/share/fonts"),
        Path("/usr/local/share/fonts"),
        home / ".fonts",
        home / ".local/share/fonts",
        Path("/System/Library/Fonts"),
        Path("/Library/Fonts"),
        home / "Library/Fonts",
        Path(os.environ.get("WINDIR", "C:\\Windows")) / "Fonts",
    ]
    for place in places:
        if place.is_dir():
            yield from (p for p in place.rglob("*") if p.suffix.lower() in (".ttf", ".otf", ".ttc", ".otc"))


def code_points(path: Path) -> set[int]:
    """The code points that a font file has (OpenType `cmap`); none where it can't be read."""
    from fontTools.ttLib import TTCollection, TTFont, TTLibError

    try:
        if path.suffix.lower() in (".ttc", ".otc"):
            with TTCollection(path, lazy=True) as collection:
                return {code for font in collection.fonts for code in font.getBestCmap() or ()}
        with TTFont(path, lazy=True) as font:
            return set(font.getBestCmap() or ())
    except (TTLibError, OSError, KeyError, ValueError, AssertionError):
        return set()  # a broken font of the machine is no font


def ranges(codes: set[int]) -> Iterator[str]:
    """Code points as lines of `coverage.txt`: hexadecimal, runs as first and last."""
    start = last = -2
    for code in [*sorted(codes), -2]:
        if code != last + 1:
            if start >= 0:
                yield f"{start:X}" if start == last else f"{start:X}-{last:X}"
            start = code
        last = code


if __name__ == "__main__":
    # python -m wexagraph.pages.composing.glyphs: writes coverage.txt anew after a font was added or taken away
    letters = set().union(*(code_points(path) for path in FOLDER.glob("*.ttf")))
    _COVERAGE.write_text("\n".join(ranges(letters)) + "\n", "ascii")
    sys.stdout.write(f"{len(letters)} code points\n")
