"""The choice through the program: each criterion, exceptions, IDs, and messages about wrong ones."""

from __future__ import annotations

import json

from tests.helpers import ProgramTest, letter, mbox
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
