"""What the tests share: the program in a subprocess, folders that vanish, and judges that did not make the result."""

from __future__ import annotations

import base64
import csv
import io
import os
import re
import shutil
import subprocess
import sys
import tempfile
import unicodedata
import unittest
from collections.abc import Iterable
from pathlib import Path
from unittest import mock
from urllib.parse import unquote

import pypdfium2
from PIL import Image

from tests.zygote import Forking, Zygote
from wexagraph.work import pool

os.environ.pop("WEXAGRAPH_RECORDS", None)  # records of whoever runs the tests stay out of them
ZYGOTE, FORKING = Zygote(), Forking()
_HARMLESS = ("TIDE", "TOKEN", "SECRET", "LOCK", "XDG_CONFIG_HOME", "XDG_STATE_HOME", "SOFTHSM2_CONF")
"""Variables of the environment that change nothing of how the program starts: secrets, and folders it asks for later."""
PROGRAM = str(Path(sys.executable).parent / "wexagraph")


def rounds(full: int, usual: int) -> int:
    """How many rounds of a test that is repeated: the usual number, or all of them with `make full`."""
    return full if "WEXAGRAPH_FULL" in os.environ else usual


class ProgramTest(unittest.TestCase):
    """A test with a temporary folder, `self.folder`, and the program to run in it."""

    started = False
    """Whether each call starts the installed program anew."""
    steps = 0

    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="wexagraph-test-"))
        self.addCleanup(shutil.rmtree, self.folder, True)

    def run_program(
        self,
        *arguments: object,
        code: int | None = 0,
        input: str | None = None,
        env: dict[str, str] | None = None,
        end_before: int | None = None,
    ) -> subprocess.CompletedProcess[str]:
        """Run `wexagraph` with these arguments; `code` is the exit code it must have, None for any.

        It is started anew where `started` says so, or the environment decides how it starts; else it is forked from a
        process that has loaded it. With `end_before`, it is gone before its step of that number on the disk (code 9), as
        by kill -9; `self.steps` are those that it did.
        """
        words = [str(argument) for argument in arguments]
        environment = {
            **os.environ,
            "XDG_CONFIG_HOME": str(self.folder / "no-config"),
            "XDG_STATE_HOME": str(self.folder / "no-state"),
            "TZ": "UTC",
            "WEXAGRAPH_TRACE": "1",
            **(env or {}),
        }
        if self.started or any(not name.startswith("WEXAGRAPH_") and name not in _HARMLESS for name in env or ()):
            done = subprocess.run(
                [PROGRAM, *words],
                capture_output=True,
                encoding="utf-8",
                errors="surrogateescape",
                input=input,
                cwd=self.folder,
                env=environment,
                timeout=300,
                check=False,
            )
        else:
            given = (input or "").encode("utf-8", "surrogateescape")
            result, *printed, self.steps = ZYGOTE.call(words, str(self.folder), environment, given, 300, end_before)
            out, err = (text.decode("utf-8", "surrogateescape") for text in printed)
            done = subprocess.CompletedProcess([PROGRAM, *words], result, out, err)
        if code is not None:
            self.assertEqual(done.returncode, code, f"{arguments}\n{done.stdout}\n{done.stderr}")
        self.assertNotIn("Traceback", done.stderr + done.stdout)
        return done

    def call_program(self, *arguments: object, code: int | None = 0) -> subprocess.CompletedProcess[str]:
        """As `run_program`, but in this process: for tables of many rows, each of which needs no start of its own."""
        from wexagraph.cli import main

        streams = {"stdout": io.BytesIO(), "stderr": io.BytesIO()}
        texts = {name: io.TextIOWrapper(raw, "utf-8", "backslashreplace") for name, raw in streams.items()}
        environment = {"XDG_CONFIG_HOME": str(self.folder / "no-config"), "TZ": "UTC", "WEXAGRAPH_TRACE": "1"}
        before = Path.cwd()
        os.chdir(self.folder)
        try:
            with (
                mock.patch.dict(os.environ, environment),
                mock.patch.object(sys, "argv", ["wexagraph", *map(str, arguments)]),
                mock.patch.multiple(sys, stdin=io.StringIO(), **texts),
                mock.patch.object(pool, "subprocess", FORKING),
            ):
                result = main.code_of_call()
                for text in texts.values():
                    text.flush()
        finally:
            os.chdir(before)
        printed = [raw.getvalue().decode("utf-8", "surrogateescape") for raw in streams.values()]
        if code is not None:
            self.assertEqual(result, code, f"{arguments}\n{printed[0]}\n{printed[1]}")
        return subprocess.CompletedProcess([str(a) for a in arguments], result, *printed)

    def write(self, name: str, content: bytes | str) -> Path:
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content.encode() if isinstance(content, str) else content)
        return path

    def listed(self, source: object, *arguments: object) -> list[dict[str, str]]:
        """The rows of `list --csv`."""
        output = self.run_program("list", source, *arguments, "--csv").stdout
        return list(csv.DictReader(io.StringIO(output)))

    def subjects(self, source: object, *arguments: object) -> list[str]:
        return [row["subject"] for row in self.listed(source, *arguments)]

    def made(self, folder: Path | str, suffix: str = "") -> list[str]:
        """Paths of the files an export has made, sorted, without the journal and the two lists."""
        root = self.folder / folder
        paths = [str(path.relative_to(root)) for path in root.rglob("*") if path.is_file() or path.is_symlink()]
        own = ("register.csv", "attachments.csv", "manifest-sha256.txt")
        return sorted(p for p in paths if not p.startswith(".wexagraph") and p not in own and p.endswith(suffix))


def letter(
    subject: str = "East quay survey",
    sender: str = "Ines Halden <ines.halden@quaysurvey.example>",
    date: str = "Sat, 14 Mar 2026 15:03:00 +0000",
    body: str = "The survey is done.\n",
    more: str = "",
) -> bytes:
    """A small letter. `more` is further header lines, each with its line end."""
    head = f"From: {sender}\nTo: Records <records@saltmere.example>\nSubject: {subject}\nDate: {date}\n{more}\n"
    return (head + body).encode()


def letter_with(*files: tuple[str, str, bytes], subject: str = "Permit") -> bytes:
    """A letter with files: name, media type, bytes."""
    parts = "".join(
        f'--Q\nContent-Type: {kind}; name="{name}"\nContent-Disposition: attachment; filename="{name}"\n'
        f"Content-Transfer-Encoding: base64\n\n{base64.encodebytes(content).decode()}\n"
        for name, kind, content in files
    )
    head = (
        "From: Slipway desk <slip@saltmere.example>\nTo: records@saltmere.example\nDate: Mon, 9 Mar 2026 11:02:00 +0000\n"
        f"Subject: {subject}\nMIME-Version: 1.0\nContent-Type: multipart/mixed; boundary=Q\n\n"
    )
    return f"{head}--Q\nContent-Type: text/plain\n\nThe scan is attached.\n{parts}--Q--\n".encode()


def mbox(*messages: bytes) -> bytes:
    """An mbox of these messages; From lines are quoted as mboxrd does."""
    out = []
    for data in messages:
        quoted = re.sub(rb"(?m)^(>*From )", rb">\1", data)
        out.append(b"From quay@saltmere.example Sat Mar 14 15:03:00 2026\n" + quoted)
        out.append(b"\n" if quoted.endswith(b"\n") else b"\n\n")
    return b"".join(out)


def named_rows(table: Iterable[str]) -> list[dict[str, str]]:
    """The rows of a table as CSV, by the names of its columns: a register tells them over its keys."""
    rows = csv.DictReader(table)
    names = names_by_headings(rows.fieldnames or ())
    return [{names.get(heading, heading): text for heading, text in row.items()} for row in rows]


def names_by_headings(headings: Iterable[str]) -> dict[str, str]:
    """The names of a register's columns, by what we have put over them."""
    keys = next((text for text in headings if text.startswith("key ")), "")
    words = (word.partition("=") for word in keys.split()[1:])
    return {unquote(heading or name): unquote(name) for name, _, heading in words}


def pdf_text(path: Path) -> str:
    """All text of a PDF, by pypdfium2."""
    document = pypdfium2.PdfDocument(path)
    try:
        return "\n".join(page.get_textpage().get_text_range() for page in document)
    finally:
        document.close()


def pdf_pages(path: Path) -> int:
    document = pypdfium2.PdfDocument(path)
    try:
        return len(document)
    finally:
        document.close()


def squeezed(text: str) -> str:
    """Text without spaces and compatibility forms, so that line breaks and ligatures do not count."""
    text = unicodedata.normalize("NFKC", text.replace("\ufffe", "").replace("\u00ad", ""))
    return re.sub(r"[\s\u200b-\u200f\u202a-\u202e\u2066-\u2069\ufe0f\ufffe]+", "", text)


def missing_words(wanted: str, shown: str) -> list[str]:
    """The words of `wanted` that do not stand in `found`; a right-to-left word may stand in visual order."""
    text = squeezed(shown)
    missing = []
    for word in wanted.split():
        letters = squeezed(word)
        bare = letters.strip(".,:;!?\"'()")
        if bare and bare not in text and bare[::-1] not in text:
            missing.append(word)
    return missing


def png(width: int = 40, height: int = 30, colour: str = "teal", kind: str = "PNG") -> bytes:
    """A picture of one colour, or in another format that Pillow writes."""
    out = io.BytesIO()
    Image.new("RGB", (width, height), colour).save(out, kind)
    return out.getvalue()


def check_with_others(test: unittest.TestCase, path: Path) -> None:
    """qpdf finds nothing to say about a PDF, nor does poppler, which shows the words that pdfium shows, and something on
    each page on which pdfium does."""
    done = subprocess.run(["qpdf", "--check", str(path)], capture_output=True, text=True, check=False)
    test.assertEqual(done.returncode, 0, f"{path}: {done.stdout}{done.stderr}")
    done = subprocess.run(["pdftotext", str(path), "-"], capture_output=True, encoding="utf-8", check=False)
    test.assertEqual((done.returncode, done.stderr), (0, ""), path)
    test.assertEqual(missing_words(_plain_words(pdf_text(path)), done.stdout), [], path)
    with tempfile.TemporaryDirectory() as folder:
        drawn = subprocess.run(
            ["pdftoppm", "-r", "24", "-gray", str(path), f"{folder}/page"], capture_output=True, text=True, check=False
        )
        test.assertEqual((drawn.returncode, drawn.stderr), (0, ""), path)
        pages = sorted(Path(folder).iterdir())
        document = pypdfium2.PdfDocument(path)
        test.assertEqual(len(pages), len(document), path)
        for number, page in enumerate(pages):
            with Image.open(page) as image:
                blank = _is_blank(image)
            if blank:
                shown = document[number].render(scale=24 / 72, grayscale=True).to_pil()
                test.assertTrue(_is_blank(shown), f"{path}: page {number + 1} is empty for poppler")
        document.close()


def _plain_words(text: str) -> str:
    """Words of letters that every reader tells in one order: those of other scripts are judged elsewhere."""
    return " ".join(re.findall(r"[A-Za-z\u00c0-\u024f]{3,}", text))


def _is_blank(image: Image.Image) -> bool:
    darkest, lightest = image.convert("L").getextrema()
    return lightest - darkest < 40
