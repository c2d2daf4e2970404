"""Programs that recognise words in pictures: tesserocr (extra `ocr`), else a `tesseract` on the machine; used alike."""

from __future__ import annotations

import io
import os
import shutil
import subprocess
import sys
from abc import ABC, abstractmethod
from collections.abc import Iterable
from functools import lru_cache
from pathlib import Path
from typing import Any, NamedTuple

from wexagraph.errors import CallError, PageError
from wexagraph.temporary import TemporaryFolder

INSTALL = "pip install 'wexagraph[ocr]', or your system's package tesseract-ocr"
_SUFFIX = ".traineddata"
_SYSTEM = (
    *("/usr/share/tesseract-ocr/5/tessdata", "/usr/share/tesseract-ocr/4.00/tessdata", "/usr/share/tessdata"),
    *("/usr/local/share/tessdata", "/opt/homebrew/share/tessdata", "C:/Program Files/Tesseract-OCR/tessdata"),
)
_WORD = 5  # the level of words in the table of results


class Word(NamedTuple):
    """A word in a picture: its text, its box in pixels (left, top, right, bottom), and how sure the program is, in
    percent."""

    text: str
    box: tuple[int, int, int, int]
    confidence: float


class Recogniser(ABC):
    """A program that recognises words, with its languages at hand."""

    name: str

    @abstractmethod
    def words(self, image: Any, dpi: int, seconds: float) -> list[Word]:
        """The words in a picture of Pillow, top to bottom. Raises PageError where that takes longer, or fails."""


class InProcess(Recogniser):
    """tesserocr: the library within this process."""

    def __init__(self, languages: tuple[str, ...]) -> None:
        os.environ.setdefault("OMP_THREAD_LIMIT", "1")  # workers share the cores, not each of them all
        import tesserocr

        self._data = _in_one_folder(languages)
        self._api = tesserocr.PyTessBaseAPI(path=str(self._data), lang="+".join(languages))
        self.name = f"tesseract {tesserocr.tesseract_version().split()[1]}"

    def words(self, image: Any, dpi: int, seconds: float) -> list[Word]:
        try:
            self._api.ClearAdaptiveClassifier()  # what it learned of one page is nothing to the next
            self._api.SetImage(image)
            self._api.SetSourceResolution(dpi)
            if not self._api.Recognize(int(seconds * 1000)):
                raise PageError(f"recognising took longer than {seconds:.0f} seconds")
            return _words(self._api.GetTSVText(0))
        except RuntimeError as error:
            raise PageError(f"recognising failed: {error}") from error
        finally:
            self._api.Clear()


class ByProgram(Recogniser):
    """The `tesseract` program of the machine, a process a picture."""

    def __init__(self, program: str, languages: tuple[str, ...]) -> None:
        self._program, self._languages = program, languages
        self._data = _in_one_folder(languages)
        version = subprocess.run([program, "--version"], capture_output=True, text=True, check=False, timeout=20)
        self.name = " ".join((version.stdout or version.stderr).split()[:2])

    def words(self, image: Any, dpi: int, seconds: float) -> list[Word]:
        content = io.BytesIO()
        image.save(content, "PNG", compress_level=1)
        command = [self._program, "-", "-", "-l", "+".join(self._languages), "--dpi", str(dpi), "--tessdata-dir"]
        environment = {**os.environ, "OMP_THREAD_LIMIT": "1"}
        try:
            done = subprocess.run(
                [*command, str(self._data), "tsv"],
                input=content.getvalue(),
                capture_output=True,
                check=False,
                timeout=seconds,
                env=environment,
            )
        except subprocess.TimeoutExpired as error:
            raise PageError(f"recognising took longer than {seconds:.0f} seconds") from error
        except OSError as error:
            raise PageError(f"{self._program} can't be started: {error.strerror or error}") from error
        if done.returncode:
            reason = done.stderr.decode("utf-8", "replace").strip().rpartition("\n")[2][:200]
            raise PageError(f"recognising failed: {reason or f'exit code {done.returncode}'}")
        return _words(done.stdout.decode("utf-8", "replace"))


def _words(table: str) -> list[Word]:
    """The words of a table of results: level, page, block, paragraph, line, word, left, top, width, height, confidence,
    text."""
    words = []
    for line in table.splitlines():
        cells = line.split("\t")
        if len(cells) < 12 or cells[0] != str(_WORD) or not cells[11].strip():
            continue
        left, top, width, height = map(int, cells[6:10])
        words.append(Word(cells[11].strip(), (left, top, left + width, top + height), float(cells[10])))
    return words


def _folders() -> list[Path]:
    """Where data of languages may lie, the likeliest first."""
    own = os.environ.get("TESSDATA_PREFIX")
    places = [own, str(Path(sys.prefix) / "share/tessdata"), *_SYSTEM]
    return [path for place in places if place and (path := Path(place)).is_dir()]


def languages_there() -> dict[str, Path]:
    """The files of the languages that are installed, by their codes (ISO 639-2, as the engine writes them)."""
    there: dict[str, Path] = {}
    for folder in _folders():
        for file in sorted(folder.glob(f"*{_SUFFIX}")):
            there.setdefault(file.name.removesuffix(_SUFFIX), file)
    return there


_gathered: list[TemporaryFolder] = []


def _in_one_folder(languages: Iterable[str]) -> Path:
    """A folder that holds the data of all these languages: theirs, or one of links where they lie apart."""
    there = languages_there()
    parents = {there[language].parent for language in languages}
    if len(parents) == 1:
        return parents.pop()
    folder = TemporaryFolder()
    _gathered.append(folder)  # as long as this process
    for language in languages:
        try:
            (folder.path / there[language].name).symlink_to(there[language])
        except OSError:
            shutil.copyfile(there[language], folder.path / there[language].name)
    return folder.path


def check(languages: Iterable[str]) -> None:
    """Raises CallError, saying what to install, where no program is there or a language is not."""
    if not _has_tesserocr() and shutil.which("tesseract") is None:
        raise CallError(f"--ocr needs a program that recognises text, and there is none. Install it: {INSTALL}.")
    there = languages_there()
    for language in languages:
        if language not in there:
            known = ", ".join(sorted(there.keys() - {"osd"})) or "none"
            raise CallError(
                f"--ocr has no data of the language {language!r} (there: {known}). Install your system's package "
                f"tesseract-ocr-{language.replace('_', '-')}, or with pip tessdata.{language}, where it is made."
            )


def _has_tesserocr() -> bool:
    from importlib.util import find_spec

    return find_spec("tesserocr") is not None


@lru_cache(maxsize=4)
def recogniser(languages: tuple[str, ...]) -> Recogniser:
    """The program for these languages, ready and kept in this process. Raises CallError, PageError."""
    check(languages)
    try:
        if _has_tesserocr():
            return InProcess(languages)
        return ByProgram(shutil.which("tesseract") or "tesseract", languages)
    except (ImportError, RuntimeError, OSError, subprocess.SubprocessError) as error:
        raise PageError(f"the program that recognises text can't be started: {error}") from error
