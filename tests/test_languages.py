"""Pages in the office's language: every label has its words in every catalogue, and they arrive on pages and in names."""

from __future__ import annotations

import re
import string
import unittest
from datetime import UTC, datetime
from unittest import mock

import pypdfium2
from babel.messages.pofile import read_po

from tests.helpers import ProgramTest, letter, pdf_text
from wexagraph.demo.mailbox import make_mailbox
from wexagraph.languages import ENGLISH, LANGUAGES, Language, catalogue_path, language
from wexagraph.messages.headers import Header
from wexagraph.naming.patterns import Fields, NamePattern
from wexagraph.notes import CODES
from wexagraph.pages.composing.properties import Provenance
from wexagraph.pages.make import Job, make
from wexagraph.pages.options import FOOTER, PageOptions
from wexagraph.sources import open_source

OTHERS = [code for code in LANGUAGES if code != ENGLISH]


def fields(text: str) -> set[str]:
    return {name for _, name, _, _ in string.Formatter().parse(text) if name}


class Catalogues(ProgramTest):
    def test_each_is_whole_and_keeps_the_fields(self) -> None:
        wanted: set[object] | None = None
        for code in OTHERS:
            with open(catalogue_path(code), "rb") as file:
                entries = [entry for entry in read_po(file, locale=code) if entry.id]
            ids = {entry.id for entry in entries}
            wanted = wanted or ids
            self.assertEqual(ids, wanted, code)
            self.assertLessEqual({*CODES.values(), FOOTER}, ids)
            for entry in entries:
                strings = entry.string if isinstance(entry.string, tuple) else (entry.string,)
                source = entry.id if isinstance(entry.id, tuple) else (entry.id,)
                for text in strings:
                    self.assertTrue(text, (code, entry.id))
                    self.assertLessEqual(fields(text), fields(source[-1]), (code, entry.id))
                if not isinstance(entry.id, tuple):
                    self.assertEqual(fields(strings[0]), fields(source[0]), (code, entry.id))

    def test_no_page_asks_for_a_text_that_there_is_not(self) -> None:
        asked: set[str] = set()

        class Listening(Language):
            def __call__(self, text: str, /, **values: object) -> str:
                asked.add(text)
                return super().__call__(text, **values)

            def many(self, one: str, more: str, count: int) -> str:
                asked.add(one)
                return super().many(one, more, count)

        listening = Listening("de")
        make_mailbox(self.folder / "mailbox")
        options = PageOptions(language="de", attachments=("pages",), evidence=True, headers=True, read_back=False)
        with (
            mock.patch("wexagraph.pages.options.language", lambda code: listening),
            open_source(self.folder / "mailbox") as source,
        ):
            for folder in source.folders():
                for _, data in source.read_many(source.outline(folder)):
                    assert isinstance(data, bytes)
                    origin = Provenance("mailbox", folder, "id", datetime(2026, 3, 14, tzinfo=UTC))
                    make(Job(data, ("pdf", "html", "text"), options, origin=origin))
        with open(catalogue_path("de"), "rb") as file:
            known = {entry.id[0] if isinstance(entry.id, tuple) else entry.id for entry in read_po(file, locale="de")}
        self.assertGreater(len(asked), 60)
        self.assertEqual(asked - known - {""}, set())

    def test_numbers_and_days(self) -> None:
        moment = datetime(2026, 3, 20, 9, 5, tzinfo=UTC)
        table = {
            "en": "Friday 20 March 2026, 09:05 (UTC+00:00)",
            "de": "Freitag, 20. März 2026, 09:05 (UTC+00:00)",
            "fr": "vendredi 20 mars 2026, 09:05 (UTC+00:00)",
            "pl": "piątek, 20 marca 2026, 09:05 (UTC+00:00)",
            "pt": "sexta-feira, 20 de março de 2026, 09:05 (UTC+00:00)",
        }
        self.assertEqual({code: language(code).moment(moment) for code in table}, table)
        self.assertEqual([language(code).size(1_300_000) for code in ("en", "de")], ["1.2 MB", "1,2 MB"])
        self.assertEqual([language("pl").size(count) for count in (1, 3, 5)], ["1 bajt", "3 bajty", "5 bajtów"])


class Pages(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        unnamed = re.sub(rb"(?m)^Date: .*\n", b"", letter("", body="Without a date."))
        self.write("in/a.eml", letter("Berth 4"))
        self.write("in/b.eml", unnamed)

    def export(self, into: str, *more: str, **env: str) -> None:
        self.run_program("export", "in", "--into", into, "--zone", "UTC", *more, env=env or None)

    def test_labels_dates_and_names(self) -> None:
        self.export("out", "--language", "pt", "--cover", "--evidence")
        names = self.made("out")
        self.assertTrue(any(name.endswith("Ines Halden - sem assunto.pdf") for name in names), names)
        shown = " ".join(pdf_text(self.folder / "out" / next(n for n in names if "Berth 4" in n)).split())
        for words in ("De Ines Halden", "sábado, 14 de março de 2026", "Página 1 de", "Cópia de uma mensagem"):
            self.assertIn(words, shown)
        self.assertNotIn("Subject", shown)
        undated = Fields(Header(b"Subject: x\n"), "", "", UTC, tr=language("pt"))
        self.assertEqual(NamePattern().stem(undated), "sem data sem remetente - x")
        self.export("bound", "--language", "de", "--bind", "all")
        self.assertIn("2 Nachrichten", self.made("bound")[0])

    def test_the_system_s_language_and_another(self) -> None:
        self.export("out", LC_ALL="de_DE.UTF-8")
        self.assertTrue(any("ohne Betreff" in name for name in self.made("out")), self.made("out"))
        self.export("us", LC_ALL="en_US.UTF-8")
        for into, height in (("out", 842), ("us", 792)):
            document = pypdfium2.PdfDocument(next((self.folder / into).rglob("*.pdf")))
            self.assertEqual(round(document[0].get_height()), height)
        self.export("sv", LC_ALL="sv_SE.UTF-8")
        self.assertTrue(any("no subject" in name for name in self.made("sv")))
        wrong = self.run_program("export", "in", "--into", "x", "--language", "xx", code=2)
        self.assertIn("'xx' is not one of 'en', 'de'", wrong.stderr)

    def test_a_folder_made_before_there_were_languages_is_not_made_again(self) -> None:
        self.assertEqual(PageOptions().language, ENGLISH)
        self.export("out", "--language", "en")
        done = self.run_program("export", "in", "--into", "out", "--zone", "UTC")
        self.assertIn("0 written, 2 already there", done.stdout)


if __name__ == "__main__":
    unittest.main()
