"""The PDF as a record: what it says of itself, covers, header and footer, the page, tags and locks."""

from __future__ import annotations

import io
import os
import subprocess
import unittest
from pathlib import Path

import pikepdf
import pypdfium2

from tests.helpers import ProgramTest, check_with_others, letter, named_rows, pdf_text
from wexagraph.demo.build import html, message, when

RECEIVED = (
    "Received: from mx.saltmere.example by store.saltmere.example; Sat, 14 Mar 2026 15:03:09 +0000\n"
    "Received: from out.quaysurvey.example by mx.saltmere.example; Sat, 14 Mar 2026 15:03:05 +0000\n"
    "Message-ID: <survey@quaysurvey.example>\nX-Berth: 4\n"
)


class RecordTest(ProgramTest):
    def export(self, *arguments: str, data: bytes = b"", code: int = 0, **more: object) -> Path:
        """Export one letter as PDF and return where it lies."""
        self.write("in/a.eml", data or letter(more=RECEIVED))
        done = self.run_program("export", "in", "--into", "out", *arguments, code=code, **more)  # type: ignore[arg-type]
        self.said = done.stdout + done.stderr
        return next((self.folder / "out").rglob("*.pdf"), Path())

    def text(self, *arguments: str, **more: object) -> str:
        path = self.export(*arguments, **more)  # type: ignore[arg-type]
        return " ".join(pdf_text(path).split())


class Saying(RecordTest):
    def test_information_and_xmp_say_the_same(self) -> None:
        subject = "=?utf-8?q?Hafen_=C3=9Cbersee_=3Cb=3E_=26_=28x=29?="
        path = self.export("--tag", "{date:%Y}", "--tag", "berth", data=letter(subject, more="Content-Language: de\n"))
        check_with_others(self, path)
        with pikepdf.open(path) as document:
            info = {key: str(value) for key, value in document.docinfo.items()}
            with document.open_metadata() as xmp:
                self.assertEqual(info["/Title"], "Hafen \u00dcbersee <b> & (x)")
                self.assertEqual((xmp["dc:title"], xmp["dc:creator"]), (info["/Title"], [info["/Author"]]))
                self.assertEqual((xmp["dc:description"], xmp["pdf:Keywords"]), (info["/Subject"], info["/Keywords"]))
                self.assertEqual(set(xmp["dc:subject"]), {"2026", "berth"})
                self.assertEqual(
                    (info["/CreationDate"], xmp["xmp:CreateDate"]), ("D:20260314150300Z", "2026-03-14T15:03:00Z")
                )
            self.assertEqual(str(document.Root.Lang), "de")
            self.assertTrue(document.Root.ViewerPreferences.DisplayDocTitle)

    def test_which_field_goes_where_can_be_set(self) -> None:
        path = self.export("--property", "title={date:%Y-%m-%d} {subject}", "--property", "subject=Folder {folder}")
        with pikepdf.open(path) as document:
            self.assertEqual(str(document.docinfo["/Title"]), "2026-03-14 East quay survey")
            self.assertEqual(str(document.docinfo["/Subject"]), "Folder in")
        done = self.run_program("export", "in", "--into", "o2", "--property", "name={subject}", code=2)
        self.assertIn("title, author, subject, keywords", done.stderr)
        done = self.run_program("export", "in", "--into", "o2", "--property", "title={subjekt}", code=2)
        self.assertIn("{subject}", done.stderr)

    def test_tags_on_pdf_file_and_register(self) -> None:
        path = self.export("--as", "pdf,eml", "--tag", "{date:%Y}", "--tag", "=cmd,x")
        with (self.folder / "out/register.csv").open(encoding="utf-8-sig", newline="") as file:
            self.assertEqual(named_rows(file)[0]["tags"], "2026, =cmd x")
        keeps = self.keeps_attributes()
        for made in (path, path.with_suffix(".eml")) if keeps else ():
            self.assertEqual(os.getxattr(made, "user.xdg.tags"), b"2026,=cmd x")
        before = path.read_bytes()
        self.export("--as", "pdf,eml", "--tag", "other")
        self.assertNotEqual(path.read_bytes(), before)
        if keeps:
            self.assertEqual(os.getxattr(path.with_suffix(".eml"), "user.xdg.tags"), b"other")

    def keeps_attributes(self) -> bool:
        """Whether this disk keeps extended attributes at all."""
        probe = self.write("probe", b"")
        try:
            os.setxattr(probe, "user.probe", b"1")
        except OSError:
            return False
        return True

    def test_origin_and_all_headers(self) -> None:
        data = letter(more=RECEIVED)
        text = self.text("--evidence", "--headers")
        digest = subprocess.run(["sha256sum"], input=data, capture_output=True, check=True).stdout.split()[0].decode()
        source = str(self.folder / "in")
        for wanted in (
            "<survey@quaysurvey.example>",
            digest,
            source,
            "mx.saltmere.example, store.saltmere.example",
            "Arrived Saturday 14 March 2026, 15:03",
            "X-Berth: 4",
        ):
            self.assertIn("".join(wanted.split()), "".join(text.split()))
        self.assertNotIn("Origin of this copy", self.text())

    def test_the_origin_in_every_language_is_read_back(self) -> None:
        for language in ("de", "fr", "it", "pl"):
            self.write("in/a.eml", letter(more=RECEIVED))
            self.run_program("export", "in", "--into", language, "--evidence", "--language", language)
            (row,) = named_rows(io.StringIO((self.folder / language / "register.csv").read_text("utf-8-sig")))
            self.assertEqual(row["notes"], "", language)

    def test_a_sealed_text_is_not_called_none(self) -> None:
        sealed = letter(body="-----BEGIN PGP MESSAGE-----\n\nhQEMA\n-----END PGP MESSAGE-----\n")
        self.assertIn("hQEMA", self.text(data=sealed))
        head = b"Subject: Bill\nContent-Type: application/pkcs7-mime; smime-type=enveloped-data\n\n"
        (self.folder / "out").rename(self.folder / "before")
        text = self.text(data=head + b"MIIB")
        self.assertIn("The text of this message is encrypted.", text)
        self.assertNotIn("has no text", text)

    def test_the_number_of_a_message(self) -> None:
        for number in (1, 2, 3):
            self.write(f"in/{number}.eml", letter(f"Letter {number}"))
        numbered = ("--footer", "No {number} of {subject}", "--property", "title={number}: {subject}")
        self.run_program("export", "in", "--into", "out", "--name", "{number} {subject}", *numbered)
        for number in (1, 2, 3):
            path = self.folder / f"out/in/{number} Letter {number}.pdf"
            self.assertIn(f"No {number} of Letter {number}", pdf_text(path))
            with pikepdf.open(path) as pdf:
                self.assertEqual(str(pdf.docinfo["/Title"]), f"{number}: Letter {number}")


class Covers(RecordTest):
    def test_the_built_in_one(self) -> None:
        path = self.export("--cover", "--tag", "berth")
        document = pypdfium2.PdfDocument(path)
        self.assertEqual(len(document), 2)
        cover = " ".join(document[0].get_textpage().get_text_range().split())
        for wanted in ("Copy of a message", "East quay survey", "Pages behind this one 1", "berth", "Exported "):
            self.assertIn(wanted, cover)
        self.assertIn("Page 1 of 1", document[1].get_textpage().get_text_range())

    def test_a_template_of_ones_own(self) -> None:
        picture = b'<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"><text>L</text></svg>'
        self.write("logo.svg", picture)
        self.write(
            "cover.html",
            '<h1>Port of Saltmere</h1><img src="logo.svg"><p>{{ message.subject }}|{{ counts.messages }}|'
            "{{ message.sha256[:8] }}|{{ exported[:3] }}",
        )
        hostile = letter("<script>x</script> {{ 7 * 7 }}")
        text = self.text("--cover", "cover.html", data=hostile)
        self.assertIn("Port of Saltmere", text)
        self.assertIn("<script>x</script> {{ 7 * 7 }}|1|", text)

    def test_mistakes_are_shown_before_anything_is_written(self) -> None:
        for template, said in (
            ("<p>\n{{ message.subjekt }}", "line 2: 'dict object' has no attribute 'subjekt'"),
            ("<p>\n\n{% for x in messages %}", "line 3"),
            ("{{ titel }}", "line 1: 'titel' is undefined"),
            ("{{ message.__class__.mro() }}", "unsafe"),
            ("{{ 1 / 0 }}", "division by zero"),
        ):
            self.write("cover.html", template)
            self.export("--cover", "cover.html", code=2)
            self.assertIn(said, self.said)
            self.assertIn("cover.html", self.said)
            self.assertFalse((self.folder / "out").exists())
        self.export("--cover", "none.html", code=2)
        self.assertIn("none.html can't be read", self.said)


class ThePage(RecordTest):
    def size(self, *arguments: str) -> tuple[int, int]:
        document = pypdfium2.PdfDocument(self.export(*arguments))
        return tuple(round(side / 72 * 25.4) for side in document[0].get_size())  # type: ignore[return-value]

    def test_papers(self) -> None:
        self.assertEqual(self.size("--paper", "A5"), (148, 210))
        self.assertEqual(self.size("--paper", "100x150mm", "--landscape"), (150, 100))
        for wrong in ("b4", "10x10", "100x9999"):
            self.export("--paper", wrong, code=2)
            self.assertIn("is not a paper size", self.said)

    def test_running_lines(self) -> None:
        text = self.text("--header", "{sender} | {folder} | {date:%d.%m.%Y}", "--footer", "{file} | {page}/{pages}")
        for wanted in ("Ines Halden in 14.03.2026", "2026-03-14 1503 Ines Halden - East quay survey.pdf", "1/1"):
            self.assertIn(wanted, text)
        self.assertNotIn("Page 1", self.text("--footer", ""))
        self.assertIn('} "x" \\', self.text("--header", "{subject}", data=letter('} "x" \\; </style> url(x)')))
        self.export("--footer", "{pagee}", code=2)
        self.assertIn("Did you mean {page}?", self.said)
        self.export("--footer", "a|b|c|d", code=2)
        self.assertIn("left, centre and right", self.said)

    def test_scale_background_and_font(self) -> None:
        rich = message(
            "a@b.example",
            "c@d.example",
            "Red",
            when("2026-03-14"),
            html(
                '<div style="background:#f00;color:#fff;height:400px" id="x">White on red</div>'
                "<style>#x{background:#f00!important}</style>"
            ),
        )
        red = self.picture(self.export(data=rich))
        self.assertGreater(red, 10_000)
        self.assertEqual(self.picture(self.export("--no-background", data=rich)), 0)
        self.assertIn("White on red", pdf_text(self.export("--no-background", data=rich)))
        half = self.picture(self.export("--scale", "50%", data=rich))
        self.assertTrue(0.4 < half / red < 0.6, half / red)  # as wide as before, half as high
        plain = letter(body="Set in serif.\n")
        for scale in ("10%", "much"):
            self.export("--scale", scale, code=2)
        serif = self.export("--text-font", "Liberation Serif", data=plain)
        opened = subprocess.run(["qpdf", "--qdf", serif, "-"], capture_output=True, check=True).stdout
        self.assertIn(b"+LiberationSerif", opened)
        opened = subprocess.run(["qpdf", "--qdf", self.export(data=plain), "-"], capture_output=True, check=True).stdout
        self.assertNotIn(b"+LiberationSerif", opened)
        self.export("--text-font", "x; } body { display: none", code=2)

    def picture(self, path: Path) -> int:
        """How many pixels of the first page are red."""
        pixels = pypdfium2.PdfDocument(path)[0].render(scale=0.5).to_pil().convert("RGB").tobytes()
        return sum(r > 200 and g < 80 and b < 80 for r, g, b in zip(*[iter(pixels)] * 3, strict=True))


class Locks(RecordTest):
    def test_it_opens_with_the_right_password_only(self) -> None:
        path = self.export("--password", "env:LOCK", "--cover", env={"LOCK": "gr\u00fcne Boje"})
        for wrong in (None, "", "gruene Boje"):
            with self.assertRaises(pypdfium2.PdfiumError):
                pypdfium2.PdfDocument(path, password=wrong)
        self.assertEqual(len(pypdfium2.PdfDocument(path, password="gr\u00fcne Boje")), 2)
        done = subprocess.run(["qpdf", "--check", "--password=gr\u00fcne Boje", path], capture_output=True, text=True)
        self.assertEqual(done.returncode, 0, done.stdout)
        self.assertIn("R = 6", done.stdout)
        self.assertIn("AESv3", done.stdout)
        self.assert_nowhere("gr\u00fcne Boje")

    def assert_nowhere(self, password: str) -> None:
        for path in self.folder.rglob("*"):
            if path.is_file() and path.name != "secret":
                self.assertNotIn(password.encode(), path.read_bytes(), path)
        self.assertNotIn(password, self.said)

    def test_what_others_may_do(self) -> None:
        self.write("secret", "mooring\nsecond line\n")
        path = self.export("--owner-password", "file:secret", "--allow", "print,comment")
        with pikepdf.open(path) as document:
            allow = document.allow
            self.assertTrue(allow.print_highres and allow.modify_annotation and allow.accessibility)
            self.assertFalse(allow.extract or allow.modify_assembly or allow.modify_other)
        with pikepdf.open(path, password="mooring") as document:
            self.assertTrue(document.owner_password_matched)
        self.assert_nowhere("mooring")

    def test_bound_ones_are_locked_and_leave_no_part_in_the_open(self) -> None:
        self.write("in/b.eml", letter("Another"))
        path = self.export("--bind", "all", "--password", "command:echo tide", "--as", "pdf")
        self.assertIn("2 written", self.said)
        with self.assertRaises(pikepdf.PasswordError):
            pikepdf.open(path)
        self.assertEqual(len(pypdfium2.PdfDocument(path, password="tide")), 3)
        self.export("--bind", "all", "--password", "command:echo tide", "--as", "pdf")
        self.assertIn("2 already there", self.said)

    def test_calls_that_are_refused(self) -> None:
        for arguments, said in (
            (("--password", "tide"), "never stands on the command line"),
            (("--password",), "no terminal to ask at"),
            (("--password", "env:NOT_THERE"), "no variable NOT_THERE"),
            (("--password", "file:none"), "none can't be read"),
            (("--allow", "print"), "add --owner-password"),
            (("--password", "command:echo a", "--owner-password", "command:echo a"), "are the same"),
            (("--password", "command:echo a", "--archival"), "do not go together"),
            (("--password", "--archival"), "do not go together"),  # refused before it is asked for
        ):
            self.export(*arguments, code=2)
            self.assertIn(said, self.said)
            self.assertNotIn("tide", self.said)
        self.export("--password", "command:false", code=3)
        self.assertFalse((self.folder / "out").exists())

    def test_killed_between_putting_and_noting_it_is_made_again(self) -> None:
        # a locked PDF has other bytes each time: the journal has to know it for its own all the same
        path = self.export("--password", "command:echo tide")
        path.write_bytes(path.read_bytes())
        with io.BytesIO(path.read_bytes()) as kept:
            path.unlink()
            self.export("--password", "command:echo tide")
            self.assertNotEqual(path.read_bytes(), kept.getvalue())
        self.assertEqual(len(list((self.folder / "out").rglob("*.pdf"))), 1)


class Settings(ProgramTest):
    def test_what_holds_and_where_it_comes_from(self) -> None:
        self.write("own/wexagraph/wexagraph.toml", '[options]\npaper = "a5"\ncover = true\n')
        self.write("wexagraph.toml", '[options]\n\nmargin = 12\n[sources]\ndesk = "mail"\n')
        shown = self.run_program("config", env={"XDG_CONFIG_HOME": str(self.folder / "own")}).stdout
        rows = {
            line.split()[0]: " ".join(line.split()[1:]) for line in shown.splitlines() if line.startswith(("--", "@"))
        }
        self.assertEqual(rows["--margin"], "12 wexagraph.toml, line 3")
        self.assertTrue(rows["--paper"].startswith("a5 ") and rows["--paper"].endswith("wexagraph.toml, line 2"))
        self.assertIn("built-in", rows["--cover"])
        self.assertEqual(rows["--scale"], "100% default")
        self.assertEqual(rows["@desk"], "mail source")
        self.assertIn("there is no command 'exprot'", self.run_program("config", "exprot", code=2).stderr)

    def test_a_folder_of_somebody_elses_runs_no_command(self) -> None:
        self.write("in/a.eml", letter())
        for line in ('password = "command:touch was-run"', 'afterwards = "delete"', "yes = true"):
            self.write("wexagraph.toml", f"[options]\n{line}\n")
            done = self.run_program("export", "in", "--into", "out", code=2)
            self.assertIn("line 2", done.stderr)
        self.assertFalse((self.folder / "was-run").exists())


if __name__ == "__main__":
    unittest.main()
