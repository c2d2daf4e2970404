"""The page to browse: in a real browser, from the disk, without a network; what it holds, and that nothing in mail runs."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import subprocess
import tempfile
import unittest
import zipfile
from pathlib import Path
from unittest import mock
from urllib.parse import unquote, urlsplit

from PIL import Image

from tests.browser import Visit, browser
from tests.helpers import ProgramTest, letter, letter_with, mbox, named_rows, rounds
from wexagraph.demo.files import pdf
from wexagraph.demo.mailbox import make_mailbox
from wexagraph.exports.index_page.writing import index_folder
from wexagraph.exports.options import IndexOptions

PAGE = "index.html"
HOSTILE = [
    "</script><script>alert(1)</script>",
    "<img src=x onerror=alert(2)>",
    '"><svg onload=alert(3)>',
    "javascript:alert(4)",
    "{{7*7}} ${7*7} \\u003cscript\\u003e",
    "\u2028\u2029 ]]> --> <!--",
    "__proto__",
]


@unittest.skipUnless(shutil.which("chromium"), "Chromium can't be installed here")
class Browsed(ProgramTest):
    """The demo mailbox, exported once, and looked at."""

    out: Path

    @classmethod
    def setUpClass(cls) -> None:
        folder = Path(tempfile.mkdtemp(prefix="wexagraph-test-"))
        cls.addClassCleanup(shutil.rmtree, folder, True)
        make_mailbox(folder / "in")
        once = ProgramTest()
        once.folder, cls.out = folder, folder / "out"
        command = ("export", "in", "--as", "html,eml", "--attachments", "beside", "--into", "out", "--index")
        done = once.run_program(*command, "--office", "Port office of Saltmere")
        once.assertIn("Page to browse: out/index.html, 117 messages.", done.stdout)

    def test_as_a_person_uses_it(self) -> None:
        out = self.out
        with browser() as visit:
            page = visit.page
            visit.show(out / PAGE)
            self.assertEqual(visit.count(), "Messages: 117")
            self.assertIn("Port office of Saltmere", page.inner_text("header"))
            self.assertEqual(page.locator("#rows tr").count(), 60)
            page.click("#more")
            self.assertEqual(page.locator("#rows tr").count(), 117)
            # narrowed as one types: words of the texts too; what was found is marked
            page.fill("#q", "Cormorant pontoon")
            self.assertEqual(visit.count(), "Messages: 2 of 117")
            self.assertEqual(set(visit.subjects()), {"Re: Buoy 14"})
            self.assertEqual(
                {each.lower() for each in page.locator("#rows mark").all_inner_texts()}, {"cormorant", "pontoon"}
            )
            link = page.url
            page.fill("#q", "")
            page.select_option("#folder", "desk/Berths/East")
            in_folder = visit.count()
            self.assertNotEqual(in_folder, "Messages: 117")
            page.select_option("#kind", ".csv")
            self.assertEqual(visit.subjects(), ["Tides for March"])
            page.go_back()
            self.assertEqual(visit.count(), in_folder)
            page.click("#clear")
            self.assertEqual(visit.count(), "Messages: 117")
            page.fill("#person", "aoife lindqvist")
            self.assertEqual(set(page.locator("#rows td.people:not(.to)").all_inner_texts()), {"Aoife Lindqvist"})
            page.fill("#person", "")
            page.click("#by-subject button")
            self.assertEqual(page.get_attribute("#by-subject", "aria-sort"), "ascending")
            subjects = [subject.lower() for subject in visit.subjects()[20:60] if subject.isascii()]
            self.assertEqual(subjects, sorted(subjects))
            # an address is a thing that was found
            visit.show(out / PAGE, "#" + link.partition("#")[2])
            self.assertEqual(visit.count(), "Messages: 2 of 117")
            self._read_one(visit, out)
            self.assertEqual(visit.complaints, [])
            self.assertEqual([address for address in visit.asked if not address.startswith(out.as_uri())], [])

    def _read_one(self, visit: Visit, out: Path) -> None:
        page = visit.page
        page.locator("#rows .subject > a").first.click()
        pane = page.locator("#message")
        self.assertIn("pontoon", pane.inner_text())
        self.assertEqual(pane.locator(".talk li").count(), 8)
        self.assertEqual(pane.locator(".files a").all_inner_texts(), ["EML", "HTML"])
        pane.locator("text=HTML").click()
        page.wait_for_url("**/*.html")
        self.assertIn("pontoon", page.inner_text("body"))
        page.go_back()
        pane.locator(".talk a >> nth=0").click()
        visit.until("document.getElementById('message').textContent.includes('move her by Saturday')")
        page.keyboard.press("Escape")
        pane.wait_for(state="hidden")

    def test_all_links_lead_to_files(self) -> None:
        out = self.out
        with open(out / "register.csv", encoding="utf-8-sig", newline="") as table:
            files = {file for row in named_rows(table) for file in row["files"].split("; ") if file}
        with browser() as visit:
            visit.show(out / PAGE)
            visit.count()
            parts = visit.page.evaluate(
                "async () => { const taken = []; window.wexagraph = (kind, name, part) => { if (kind === 'rows') taken.push(...part); };"
                "for (const piece of JSON.parse(document.getElementById('book').textContent).pieces) await new Promise(done => {"
                "const script = document.createElement('script'); script.src = 'index files/rows-' + piece[0] + '.js';"
                "script.onload = done; document.head.appendChild(script); }); return taken.map(row => row[8].map(href => new URL(href, location).href)); }"
            )
        linked = {Path(unquote(urlsplit(href).path)) for hrefs in parts for href in hrefs}
        self.assertEqual([path for path in linked if not path.is_file()], [])
        self.assertEqual({str(path.relative_to(out)) for path in linked}, files)

    def test_for_everybody(self) -> None:
        """axe against WCAG 2.2 AA: light, dark, narrow, a message open, by conversation; and the keyboard alone."""
        out = self.out
        views = (
            (False, 1280, "#q=buoy"),
            (True, 390, "#m=qrv91qcb7p"),
            (True, 1280, "#talks=1&q=buoy"),
            (False, 390, ""),
        )
        for dark, width, state in views[: rounds(4, 2)]:
            with self.subTest(state=state, dark=dark), browser(dark=dark, width=width) as visit:
                visit.show(out / PAGE, state)
                visit.count()
                self.assertEqual(visit.violations(), [])
                wide = visit.page.evaluate("document.documentElement.scrollWidth > innerWidth")
                self.assertFalse(wide, "nothing to be scrolled sideways")
        with browser() as visit:
            visit.show(out / PAGE, "#q=pontoon")
            visit.count()
            press = visit.page.keyboard.press
            press("/")
            for _ in range(40):
                press("Tab")
                if visit.page.evaluate("Boolean(document.activeElement.closest('#rows'))"):
                    break
            press("ArrowDown")
            press("Enter")
            visit.page.locator("#message").wait_for(state="visible")
            self.assertEqual(visit.page.evaluate("document.activeElement.id"), "message")
            press("Escape")
            visit.until("document.activeElement.closest('#rows')")

    def test_in_another_order(self) -> None:
        """It opens as `list` would show it, also without scripts; a heading sorts anew."""
        shutil.copytree(self.out, self.folder / "out")
        listed = self.subjects(self.out.parent / "in", "--sort", "folder,-size")
        wanted = [" ".join(subject.split()) or "no subject" for subject in listed]
        self.run_program("index", "out", "--sort", "folder,-size")
        with browser() as visit:
            visit.show(self.folder / "out" / PAGE)
            visit.count()
            self.assertEqual(visit.subjects()[:20], wanted[:20])
            visit.page.click("#by-date button")
            self.assertEqual(visit.page.get_attribute("#by-date", "aria-sort"), "descending")
            self.assertNotEqual(visit.subjects()[:20], wanted[:20])
        with browser(scripts=False) as visit:
            visit.page.goto((self.folder / "out" / PAGE).as_uri())
            visit.page.click(".years a >> nth=0")
            dated = visit.page.locator("tbody td.subject").all_inner_texts()
            self.assertEqual(dated[:20], [subject for subject in wanted if subject in dated][:20])

    def test_without_scripts(self) -> None:
        shutil.copytree(self.out, self.folder / "out")
        self.run_program("index", "out", "--language", "de")
        out = self.folder / "out"
        with browser(scripts=False) as visit:
            visit.page.goto((out / PAGE).as_uri())
            self.assertEqual(visit.page.locator(".years a").all_inner_texts(), ["2026", "ohne Datum"])
            visit.page.click(".years a >> nth=0")
            self.assertIn("Betreff", visit.page.inner_text("thead"))
            rows = visit.page.locator("tbody tr")
            self.assertGreater(rows.count(), 100)
            for link in visit.page.locator("tbody a").all()[::9]:
                self.assertTrue(link.get_attribute("href"))
            self.assertEqual(visit.complaints, [])

    def test_in_every_browser_that_is_there(self) -> None:
        """Drawn by each on its own: words are found and marked, so the data files have come through the policy."""
        drawn = self.folder / "drawn.png"
        address = f"{(self.out / PAGE).as_uri()}#q=buoy"
        commands = {
            "chromium": [
                "--no-sandbox",
                "--virtual-time-budget=5000",
                f"--screenshot={drawn}",
                "--window-size=1280,800",
            ],
            "firefox-esr": ["--screenshot", str(drawn), "--window-size", "1280,800"],
        }
        for name, options in commands.items():
            if shutil.which(name) is None:
                continue
            drawn.unlink(missing_ok=True)
            with self.subTest(name):
                subprocess.run(
                    [name, "--headless", *options, address],
                    check=True,
                    capture_output=True,
                    env={**os.environ, "HOME": str(self.folder)},
                    timeout=120,
                )
                with Image.open(drawn) as picture:
                    colours = picture.convert("RGB").getcolors(1 << 24) or []
                self.assertGreater(sum(count for count, colour in colours if colour == (255, 229, 138)), 500)

    def test_more_than_a_page_holds(self) -> None:
        """From so many messages on, a year at a time: the newest first, another one when it is chosen."""
        self.write("in/a.eml", letter("Old", date="Sat, 14 Mar 2020 15:03:00 +0000", body="needle\n"))
        self.write("in/b.eml", letter("New"))
        self.run_program("export", "in", "--as", "eml", "--into", "out")
        with mock.patch("wexagraph.exports.index_page.page._LARGE", 1):
            index_folder(self.folder / "out", IndexOptions())
        with browser() as visit:
            visit.show(self.folder / "out" / PAGE, "#q=needle")
            self.assertEqual(visit.subjects(), [])
            visit.page.fill("#q", "")
            self.assertEqual((visit.count(), visit.subjects()), ("Messages: 1 of 2", ["New"]))
            self.assertFalse([address for address in visit.asked if "2020" in address])
            visit.page.select_option("#year", "2020")
            visit.page.fill("#q", "needle")
            visit.page.wait_for_selector("#rows mark")
            self.assertEqual(visit.subjects(), ["Old"])
            self.assertEqual(visit.complaints, [])

    def test_nothing_of_a_message_runs(self) -> None:
        """Subjects, senders, folders, names of files and texts as attacks, with words that are searched and marked."""
        letters = [
            letter(
                subject, f'"{subject[:30]}" <a@b.example>', body=f"{subject}\nneedle http://evil.example/{subject}\n"
            )
            for subject in HOSTILE
        ]
        files = [(name.replace('"', "'")[:40], "text/html", b"<script>alert(9)</script>") for name in HOSTILE]
        self.write("in/<img src=x onerror=alert(5)>.mbox", mbox(*letters, letter_with(*files, subject="needle")))
        self.run_program("export", "in", "--as", "eml", "--into", "out", "--index", "--attachments", "beside")
        with browser() as visit:
            visit.show(self.folder / "out" / PAGE)
            self.assertEqual(visit.count(), f"Messages: {len(HOSTILE) + 1}")
            visit.page.fill("#q", "needle")
            visit.count()
            ids = [link.get_attribute("data-id") for link in visit.page.locator("#rows .subject > a").all()]
            self.assertEqual(len(ids), len(HOSTILE) + 1)
            for id in ids:
                visit.show(self.folder / "out" / PAGE, f"#m={id}&q=script&talks=1")
                visit.page.wait_for_selector("#message dl")
            self.assertEqual(visit.page.locator("img, svg, iframe, object").count(), 0)
            scripts = visit.page.evaluate(
                "[...document.scripts].filter(s => s.src && !s.src.includes('index%20files')).length"
            )
            self.assertEqual((visit.complaints, scripts), ([], 0))
            # what gets onto the page all the same can't run there
            visit.page.evaluate(
                "document.body.insertAdjacentHTML('beforeend', '<img src=x onerror=\"document.title=1\">')"
            )
            visit.page.evaluate(
                "document.body.insertAdjacentHTML('beforeend', '<a id=z href=\"javascript:document.title=1\">z</a>')"
            )
            visit.page.click("#z")
            self.assertEqual(visit.page.title(), "out")
            self.assertEqual([address for address in visit.asked if not address.startswith(("file:", "about:"))], [])


class Written(ProgramTest):
    """The files of the page: the same bytes each time, proved by the manifest, of every kind of folder."""

    def page(self, folder: str) -> dict[str, str]:
        paths = [self.folder / folder / PAGE, *(self.folder / folder / "index files").iterdir()]
        return {path.name: hashlib.sha256(path.read_bytes()).hexdigest() for path in paths}

    def whole(self, folder: str) -> None:
        self.assertIn("0 missing, 0 altered; 0 foreign", self.run_program("verify", folder).stdout)

    def test_the_same_each_time_and_topped_up(self) -> None:
        self.write("in/a.eml", letter("Old", date="Sat, 14 Mar 2020 15:03:00 +0000"))
        self.write("in/b.eml", letter("New"))
        command = ("export", "in", "--as", "eml", "--index", "--into")
        self.run_program(*command, "out/same")
        self.run_program(*command, "twice/same")
        first = self.page("out/same")
        self.assertEqual(self.page("twice/same"), first)
        self.assertIn("2 messages on the page", self.run_program("index", "out/same").stdout)
        self.assertEqual(self.page("out/same"), first)
        self.write("in/c.eml", letter("Later", body="dredging\n"))
        self.run_program(*command, "out/same")
        later = self.page("out/same")
        self.assertEqual(
            {name for name in first if later[name] == first[name]}, {"rows-2020-1.js", "text-2020-1.js", "2020.html"}
        )
        self.assertIn("dredging", (self.folder / "out/same/index files/text-2026-1.js").read_text("utf-8"))
        self.whole("out/same")
        shutil.rmtree(self.folder / "out/same/.wexagraph")  # a lost journal: the page is known again by the manifest
        self.run_program(*command, "out/same")
        self.assertEqual(self.page("out/same"), later)
        self.assertFalse((self.folder / "out/same/index (2).html").exists())
        self.whole("out/same")
        (self.folder / "out/same" / PAGE).write_text("altered")
        self.assertIn("index.html", self.run_program("verify", "out/same", code=1).stdout)

    def test_names_that_are_taken(self) -> None:
        """A message called index, a folder called as ours, a page of somebody else: nothing of theirs is lost."""
        self.write("in/index files/a.eml", letter("index"))
        self.write("out/index.html", "mine")
        self.run_program("export", "in", "--as", "html,eml", "--name", "{subject}", "--index", "--into", "out")
        self.assertEqual((self.folder / "out/index.html").read_text(), "mine")
        self.assertTrue((self.folder / "out/index (2).html").exists())
        self.assertIn("0 missing, 0 altered; 1 foreign", self.run_program("verify", "out", code=1).stdout)

    def test_of_a_backup(self) -> None:
        """A copy to browse: page, HTML of each message, attachments; the same command tops it up."""
        self.write("in/a.eml", letter_with(("plan.pdf", "application/pdf", pdf("Plan")), subject="Slipway"))
        self.run_program("backup", "in", "--into", "kept")
        self.assertIn("is a backup. Add --into", self.run_program("index", "kept", code=2).stderr)
        self.run_program("index", "kept", "--into", "copy")
        made = [name for name in self.made("copy") if "index" not in name]
        self.assertEqual(sorted(Path(name).suffix for name in made), [".html", ".pdf"])
        year = (self.folder / "copy/index files/2026.html").read_text("utf-8")
        self.assertRegex(year, r'href="../in/[^"/]*Slipway.html"')  # the message, not what is attached to it
        self.write("in/b.eml", letter("Second"))
        self.run_program("backup", "in", "--into", "kept")
        done = self.run_program("index", "kept", "--into", "copy")
        self.assertIn("1 written, 1 already there", done.stdout)
        self.whole("copy")

    def test_of_a_case(self) -> None:
        self.write("in/a.eml", letter("Buoy 14"))
        records = ("--records", "rec")
        self.run_program("case", "open", "2026-118", "The quarrel", *records)
        self.run_program("file", "in", "--case", "2026-118", "--index", *records)
        (place,) = (self.folder / "rec").glob("*/index.html")
        self.assertIn("<title>2026-118 The quarrel</title>", place.read_text("utf-8"))
        self.run_program("case", "pack", "2026-118", "--index", "--into", "case.zip", *records)
        self.assertIn("all whole", self.run_program("verify", "case.zip").stdout)
        with zipfile.ZipFile(self.folder / "case.zip") as packed:
            self.assertTrue(any(name.endswith("data/index.html") for name in packed.namelist()))

    def test_of_all_cases(self) -> None:
        """In a records folder: the messages of all cases, each with its case; links into their folders."""
        for name in ("Buoy 14", "Dredging"):
            self.write(f"{name}/a.eml", letter(name))
        records = ("--records", "rec")
        for reference, name in (("2026-118", "Buoy 14"), ("2026-031", "Dredging")):
            self.run_program("case", "open", reference, name, *records)
            self.run_program("file", name, "--case", reference, *records)
        self.assertIn("2 messages on the page", self.run_program("index", "rec").stdout)
        with browser() as visit:
            visit.show(self.folder / "rec" / PAGE, "#q=2026-031")
            self.assertEqual(visit.count(), "Messages: 1 of 2")
            self.assertEqual(visit.page.locator("td.case").all_inner_texts(), ["2026-031"])
            visit.page.click("#rows a")
            for link in visit.page.locator("#message .files a").all():
                self.assertTrue(Path(unquote(urlsplit(str(link.evaluate("a => a.href"))).path)).is_file())
            self.assertEqual(visit.violations(), [])
        (self.folder / "rec" / PAGE).write_text("mine")
        self.assertIn("somebody else's", self.run_program("index", "rec", code=3).stderr)

    def test_calls_that_are_refused(self) -> None:
        self.write("in/a.eml", letter())
        self.write("arms.svg", "<svg/>")
        for arguments, words in (
            (("index", "nowhere"), "does not exist"),
            (("index", "in"), "holds no export"),
            (("export", "in", "--index", "--password", "env:SECRET", "--into", "out"), "--password locks"),
            (("export", "in", "--index", "--office-picture", "arms.svg", "--into", "out"), "PNG, JPEG"),
        ):
            done = self.run_program(*arguments, code=None, env={"WEXAGRAPH_X": "", "SECRET": "x"})
            self.assertIn(done.returncode, (2, 3))
            self.assertIn(words, " ".join(done.stderr.split()))

    def test_open(self) -> None:
        """A page, a file, a message by its ID go to the system's viewer; what the system might run does not."""
        self.write("in/a.eml", letter("Slipway"))
        self.run_program("export", "in", "--into", "out", "--index")
        (id,) = (each["id"] for each in self.listed("in"))
        viewer = self.write("bin/xdg-open", '#!/bin/sh\nprintf %s "$1" > "$SEEN"\n')
        viewer.chmod(0o755)
        environment = {"PATH": f"{viewer.parent}{os.pathsep}{os.environ['PATH']}", "SEEN": str(self.folder / "seen")}
        for arguments, ending in ((("out",), "out/index.html"), ((id, "--in", "out"), "Slipway.pdf")):
            self.run_program("open", *arguments, env=environment)
            self._wait_for(self.folder / "seen")
            self.assertTrue((self.folder / "seen").read_text().endswith(ending))
            (self.folder / "seen").unlink()
        self.write("run.desktop", "x")
        self.assertIn("might run", self.run_program("open", "run.desktop", code=2, env=environment).stderr)
        self.assertIn("no file of a message", self.run_program("open", "nothing", "--in", "out", code=2).stderr)

    def _wait_for(self, path: Path) -> None:
        subprocess.run(["sh", "-c", f"until [ -s '{path}' ]; do :; done"], check=True, timeout=60)

    def test_reports(self) -> None:
        self.write("in/a.eml", letter())
        report = json.loads(
            self.run_program("export", "in", "--as", "eml", "--index", "--into", "out", "--json").stdout
        )
        self.assertEqual(report["indexed"], 1)
        report = json.loads(self.run_program("index", "out", "--json").stdout)
        self.assertEqual((report["indexed"], report["page"]), (1, PAGE))
