"""The choice through the program: each criterion, exceptions, IDs, and messages about wrong ones."""

from __future__ import annotations

import json

from tests.helpers import ProgramTest, letter, mbox, pdf_text
from wexagraph.demo.build import file, message, multipart, text, when

SHEET = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"


class Choice(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        sheet = multipart(
            "mixed", text("The figures of the dredger.\n"), file("Dredging 2026.xlsx", SHEET, b"x" * 40_000)
        )
        self.write(
            "in/Berths.mbox",
            mbox(
                letter("East quay survey", more="Cc: Wray <wray@saltmere.example>\nStatus: RO\n"),
                letter("Re: East Quay survey", "Tomas Wray <wray@saltmere.example>", "Sun, 15 Mar 2026 09:00:00 +0000"),
                letter(
                    "Dues", "Dues <dues@list.example>", "Wed, 01 Apr 2026 00:30:00 +0200", "Pay the dues at the quay.\n"
                ),
            ),
        )
        self.write(
            "in/Berths/East.mbox",
            mbox(message("Aoife <aoife@dredging.example>", "x@y.example", "Volumes", when("2026-04-02"), sheet)),
        )
        self.write(
            "in/Café.mbox", mbox(letter("Größe [7] *", "Jörg Ölund <j@x.example>", "Thu, 02 Apr 2026 12:00:00 +0000"))
        )

    def check(self, wanted: list[str], *arguments: object) -> None:
        with self.subTest(arguments):
            self.assertEqual(sorted(self.subjects("in", "--zone", "UTC", *arguments)), sorted(wanted))

    def test_criteria(self) -> None:
        survey, reply, dues, volumes, cafe = (
            "East quay survey",
            "Re: East Quay survey",
            "Dues",
            "Volumes",
            "Größe [7] *",
        )
        self.check([survey, reply, dues, volumes, cafe])
        self.check([survey, reply], "--subject", "east quay")
        self.check([survey], "--subject", "East*")
        self.check([survey], "--subject", "EAST QUAY SURVE?")
        self.check([cafe], "--subject", "größe [7]")
        self.check([cafe], "--subject", "größe [7]*")
        self.check([reply], "--from", "wray")
        self.check([reply], "--from", "*@saltmere.example")
        self.check([cafe], "--from", "ölund")
        self.check([survey], "--cc", "wray@")
        self.check([survey, reply, dues, cafe], "--to", "records")
        self.check([reply, cafe], "--from", "wray", "--from", "jörg")  # the same twice: either
        self.check([], "--from", "wray", "--subject", "dues")  # different ones: all
        self.check([dues], "--body", "PAY THE DUES")
        self.check([survey, reply, dues, cafe], "--text", "records@saltmere.example")
        self.check([dues, volumes, cafe], "--since", "2026-03-31")
        self.check([survey], "--before", "2026-03-15")
        self.check([reply], "--since", "2026-03-15", "--before", "2026-03-16")
        self.check([survey, reply, dues], "--before", "2026-04")
        self.check([volumes], "--larger", "20KB")
        self.check([survey, reply, dues, cafe], "--smaller", "20 kb")
        self.check([survey], "--seen")
        self.check([reply, dues, volumes, cafe], "--unseen")
        self.check([volumes], "--attached", "*.xlsx")
        self.check([volumes], "--attached", "application/*")
        self.check([volumes], "--attached", "--larger", "1")
        self.check([], "--attached", "image/*")
        self.check([volumes], "--folder", "berths/east")
        self.check([survey, reply, dues, volumes], "--folder", "Berths")
        self.check([volumes], "--folder", "Berths/*")
        self.check([cafe], "--folder", "café")
        self.check([cafe], "--newest", "1")
        self.check([volumes, cafe], "--newest", "2")
        self.check([reply], "--newest", "1", "--folder", "Berths", "--subject", "quay")

    def test_the_day_is_counted_in_the_clerks_zone(self) -> None:
        self.assertEqual(self.subjects("in", "--subject", "Dues", "--since", "2026-04-01", "--zone", "UTC"), [])
        self.assertEqual(
            self.subjects("in", "--subject", "Dues", "--since", "2026-04-01", "--zone", "Europe/Berlin"), ["Dues"]
        )

    def test_exceptions(self) -> None:
        self.check(
            ["East quay survey", "Re: East Quay survey", "Volumes", "Größe [7] *"], "--except", "from=*@list.example"
        )
        self.check(["East quay survey"], "--subject", "survey", "--except", "subject=Re:*")
        self.check(["Dues"], "--except", "attached", "--except", "subject=survey", "--except", "folder=café")

    def test_ids(self) -> None:
        rows = self.listed("in")
        first, second = rows[0]["id"], rows[3]["id"]
        self.check([rows[0]["subject"]], "--id", first)
        self.check([rows[0]["subject"], rows[3]["subject"]], "--id", f"{first},{second}")
        table = self.run_program("list", "in", "--subject", "survey", "--csv").stdout
        done = self.run_program("export", "in", "--into", "out", "--as", "eml", "--id", "-", input=table)
        self.assertIn("2 messages chosen: 2 written", done.stdout)
        cut = "\n".join(line.split(",")[0] for line in table.splitlines()[1:])
        done = self.run_program("export", "in", "--into", "out2", "--as", "eml", "--id", "-", input=cut)
        self.assertIn("2 messages chosen: 2 written", done.stdout)
        done = self.run_program("export", "in", "--into", "out3", "--as", "eml", "--id", f"{first},nonsense77", code=1)
        self.assertIn("Not found: nonsense77", done.stdout)
        done = self.run_program("list", "in", "--id", f"{first},nonsense77", code=1)
        self.assertIn("not found: nonsense77", done.stderr)
        self.assertIn(
            "no ID was given", self.run_program("export", "in", "--into", "out4", "--id", "-", code=2, input="").stderr
        )

    def test_wrong_calls(self) -> None:
        for arguments, words in [
            (["--since", "soon"], "Write it as year-month-day"),
            (["--larger", "huge"], "Write bytes, or a number with KB"),
            (["--except", "form=x"], "Did you mean from?"),
            (["--except", "from"], "has no value"),
            (["--folder", "Berth"], "Did you mean Berths?"),
            (["--zone", "Europe/Lisabon"], "Did you mean Europe/Lisbon?"),
            (["--newest", "0"], "--newest"),
            (["--sbject", "x"], "--subject"),
        ]:
            with self.subTest(arguments):
                done = self.run_program("list", "in", *arguments, code=2)
                self.assertIn(words, done.stderr)
        self.assertIn("Did you mean export?", self.run_program("exprt", "in", code=2).stderr)

    def test_what_programs_read(self) -> None:
        rows = json.loads(self.run_program("list", "in", "--json").stdout)
        self.assertEqual(len(rows), 5)
        volumes = next(row for row in rows if row["subject"] == "Volumes")
        self.assertEqual(volumes["attachments"][0]["name"], "Dredging 2026.xlsx")
        self.assertEqual(volumes["attachments"][0]["size"], 40_000)
        self.assertEqual(json.loads(self.run_program("list", "in", "--subject", "none", "--json").stdout), [])
        self.assertEqual(len(json.loads(self.run_program("folders", "in", "--json").stdout)), 3)

    def test_cells_that_a_spreadsheet_would_run(self) -> None:
        self.write("bad.eml", letter("=1+1", "+49 <-@x.example>"))
        row = self.listed("bad.eml")[0]
        self.assertEqual(row["subject"], "'=1+1")
        self.assertTrue(row["from"].startswith("'"))

    def test_the_table_for_people(self) -> None:
        output = self.run_program("list", "in").stdout
        for words in ("Berths/East", "Aoife", "Volumes", "1 att", "5 messages"):
            self.assertIn(words, output)
        self.assertIn("No message is chosen", self.run_program("list", "in", "--subject", "nothing").stdout)


class Kinds(ProgramTest):
    """Header fields, kinds, lists from a file, and the order in which messages come."""

    def setUp(self) -> None:
        super().setUp()
        report = 'Content-Type: multipart/report; report-type={}; boundary="Q"\nMIME-Version: 1.0\n'
        body = "--Q\nContent-Type: text/plain\n\nIt did not arrive.\n--Q--\n"
        self.write(
            "in.mbox",
            mbox(
                letter("Letter", more="Bcc: Harbour master <hm@saltmere.example>\nX-Department: Harb=?utf-8?q?our?=\n"),
                letter("List", "News <news@list.example>", "Sun, 15 Mar 2026 09:00:00 +0000", more="List-Id: <news>\n"),
                letter("Bulk", "Aoife <aoife@x.example>", "Thu, 12 Mar 2026 09:00:00 +0000", more="Precedence: bulk\n"),
                letter(
                    "Away",
                    "Zoe <zoe@x.example>",
                    "Fri, 13 Mar 2026 09:00:00 +0000",
                    more="Auto-Submitted: auto-replied\n",
                ),
                letter(
                    "Bounce", date="Mon, 16 Mar 2026 09:00:00 +0000", body=body, more=report.format("delivery-status")
                ),
                letter(
                    "Read",
                    date="Tue, 17 Mar 2026 09:00:00 +0000",
                    body=body,
                    more=report.format("disposition-notification"),
                ),
                letter(
                    "Meeting",
                    date="no date",
                    more="Content-Type: text/calendar; method=REQUEST\n",
                    body="BEGIN:VCALENDAR\n",
                ),
            ),
        )

    def test_fields_and_kinds(self) -> None:
        for arguments, wanted in (
            (["--bcc", "harbour master"], ["Letter"]),
            (["--header-field", "X-Department=harbour"], ["Letter"]),
            (["--header-field", "x-department = *BOUR"], ["Letter"]),
            (["--header-field", "List-Id="], ["List"]),
            (["--kind", "newsletter"], ["List", "Bulk"]),
            (["--kind", "automatic"], ["Away", "Bounce", "Read"]),
            (["--kind", "bounce", "--kind", "receipt"], ["Bounce", "Read"]),
            (["--kind", "calendar"], ["Meeting"]),
            (["--mail-only", "--except", "kind=newsletter", "--except", "kind=automatic"], ["Letter", "Meeting"]),
        ):
            with self.subTest(arguments):
                self.assertEqual(sorted(self.subjects("in.mbox", *arguments)), sorted(wanted))
        for arguments, words in (
            (["--kind", "newsleter"], "Did you mean newsletter?"),
            (["--header-field", "X-Department"], "Write NAME=TEXT"),
            (["--sort", "sender"], "messages are ordered by date, from"),
        ):
            with self.subTest(arguments):
                self.assertIn(words, self.run_program("list", "in.mbox", *arguments, code=2).stderr)

    def test_lists_from_a_file(self) -> None:
        self.write("who.txt", "# those who wrote\n\nnews@list.example\n zoe@x.example \n")
        self.write("who.csv", "\ufeffName;Address\nAoife;aoife@x.example\n;\n")
        self.assertEqual(sorted(self.subjects("in.mbox", "--from", "@who.txt")), ["Away", "List"])
        self.assertEqual(self.subjects("in.mbox", "--from", "@who.csv:address"), ["Bulk"])
        self.assertEqual(len(self.subjects("in.mbox", "--from", "@x.example")), 2)  # a part of an address
        left = self.subjects("in.mbox", "--except", "from=@who.txt", "--except", "from=@./who.csv:Address")
        self.assertEqual(sorted(left), ["Bounce", "Letter", "Meeting", "Read"])
        self.write("empty.txt", "# nobody\n")
        for value, words in (
            ("@none.txt", "can't be read"),
            ("@empty.txt", "nothing stands in it"),
            ("@who.csv:mail", "Columns: Name, Address"),
        ):
            with self.subTest(value):
                self.assertIn(words, self.run_program("list", "in.mbox", "--from", value, code=2).stderr)
        for line in ('from = "@/etc/passwd.txt"', 'except = ["from=@/etc/passwd.txt"]'):
            self.write("wexagraph.toml", f"[options]\n{line}\n")  # somebody has filled this folder
            refused = self.run_program("list", "in.mbox", code=2).stderr
            self.assertIn("user's own configuration folder", " ".join(refused.split()))
        self.write("wexagraph.toml", "")
        done = self.run_program("list", "in.mbox", "--except", "from=nobody", "--except", "kind=bounce")
        self.assertIn("--except from=nobody has left out nothing", done.stderr)
        self.assertNotIn("bounce has", done.stderr)
        call = ("export", "in.mbox", "--as", "eml", "--into", "out", "--except", "from=nobody")
        self.assertIn("--except from=nobody has left out nothing.", self.run_program(*call).stdout)

    def test_an_order_reads_its_list_anew(self) -> None:
        self.write("who.txt", "news@list.example\n")
        call = ("order", "add", "who", "--", "export", "in.mbox", "--as", "eml", "--into", "out", "--from", "@who.txt")
        env = {"WEXAGRAPH_ORDERS": str(self.folder / "orders")}
        self.run_program(*call, env=env)
        zoe = letter("Back", "Zoe <zoe@x.example>", "Wed, 18 Mar 2026 09:00:00 +0000")
        for names, arrived, wanted in (("", b"", 1), ("zoe@x.example\n", mbox(zoe), 2)):
            self.write("who.txt", f"news@list.example\n{names}")
            with (self.folder / "in.mbox").open("ab") as file:
                file.write(arrived)
            self.run_program("order", "run", "who", env=env)
            self.assertEqual(len(list((self.folder / "out/in").iterdir())), wanted)

    def test_in_order(self) -> None:
        dated = ["Bulk", "Away", "Letter", "Meeting", "List", "Bounce", "Read"]
        self.assertEqual(self.subjects("in.mbox", "--sort", "date"), dated)
        self.assertEqual(
            self.subjects("in.mbox", "--sort", "-date"), ["Read", "Bounce", "List", "Letter", "Meeting", "Away", "Bulk"]
        )
        self.assertEqual(self.subjects("in.mbox", "--newest", "2"), ["Read", "Bounce"])
        self.assertEqual(self.subjects("in.mbox", "--sort", "from,-subject")[:3], ["Bulk", "Read", "Meeting"])
        self.run_program("export", "in.mbox", "--bind", "all", "--sort", "-subject", "--into", "out", "--name", "all")
        contents = pdf_text(self.folder / "out/all.pdf")
        at = [contents.index(subject) for subject in sorted(dated, reverse=True)]
        self.assertEqual(at, sorted(at))
        call = ("export", "in.mbox", "--as", "eml", "--carried", "--name", "{number} {subject}", "--sort", "-subject")
        self.run_program(*call, "--into", "carried")
        names = sorted(path.stem for path in (self.folder / "carried/in").iterdir())
        self.assertEqual([name.split()[1] for name in names], sorted(dated, reverse=True))
        self.run_program("register", "in.mbox", "--into", "r.csv", "--sort", "subject", "--columns", "subject")
        rows = (self.folder / "r.csv").read_text("utf-8-sig").splitlines()[1:]
        self.assertEqual([row.split(",")[0] for row in rows], sorted(dated))


class Doubles(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        named = letter("Berth 4", more="Message-ID: <a@x.example>\n")
        self.write("in/Archive.mbox", mbox(named, letter("Berth 5"), letter("Berth 6", body="One text.\n")))
        self.write("in/Inbox.mbox", mbox(named, letter("Berth 6", body="Another text.\n"), letter("Berth 7")))
        self.write("other/berth.eml", letter("Berth 5").replace(b"\n", b"\r\n"))

    def found(self, *more: str) -> list[tuple[str, str, str]]:
        rows = json.loads(self.run_program("doubles", *more, "--json").stdout)
        return [(row["subject"], row["same"], row["folder"]) for row in rows]

    def test_between_folders_and_mailboxes(self) -> None:
        folders = [("Berth 4", "oldest", "Archive"), ("Berth 4", "bytes", "Inbox")]
        self.assertEqual(self.found("in"), folders)
        both = self.found("in", "other")
        self.assertEqual(both[:2], folders)
        self.assertEqual([row[:2] for row in both[2:]], [("Berth 5", "oldest"), ("Berth 5", "text")])
        self.assertEqual(self.found("in", "other", "--same", "bytes"), folders)
        self.assertEqual(self.found("in", "--folder", "Inbox"), [])
        said = self.run_program("doubles", "in", "other").stdout
        self.assertIn("2 messages more than once, with 2 doubles: 1 the same bytes, 1 the same to a reader", said)

    def test_one_of_each(self) -> None:
        self.assertEqual(len(self.listed("in", "--once")), 5)
        self.run_program("export", "in", "--once", "--as", "eml", "--into", "out")
        self.assertEqual(len(list((self.folder / "out").rglob("*.eml"))), 5)
        register = (self.folder / "out/register.csv").read_text("utf-8")
        self.assertIn("the same message lies elsewhere too, and was taken once (Inbox ", register)
        again = self.run_program("export", "in", "--once", "--as", "eml", "--into", "out").stdout
        self.assertIn("5 messages chosen: 0 written, 5 already there", again)
        self.run_program("register", "in", "--once", "--into", "r.csv", "--columns", "subject,doubles")
        rows = (self.folder / "r.csv").read_text("utf-8-sig").splitlines()
        self.assertEqual(len(rows), 6)
        self.assertIn("Inbox ", next(row for row in rows if row.startswith("Berth 4")))
        env = {"WEXAGRAPH_RECORDS": str(self.folder / "records")}
        self.run_program("case", "open", "7", "Piers", env=env)
        self.assertIn("5 new", self.run_program("file", "in", "--once", "--case", "7", env=env).stdout)
