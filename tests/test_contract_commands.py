"""What every command keeps that can be repeated: by hand and as an order it does the same, on a mailbox in files and on
a server; what goes into a case is what goes into a folder."""

from __future__ import annotations

import hashlib
import json
import re
import unittest
from pathlib import Path

from tests.dovecot import INSTALLED, Dovecot
from tests.helpers import ProgramTest, letter, letter_with, mbox
from tests.servers import PASSWORD, USER

LETTERS = [
    letter("Berth 4", body="Berth 4 is free.\n"),
    letter_with(("plan.pdf", "application/pdf", b"%PDF" * 400), subject="Plan"),
    letter("Old", date="Mon, 7 Jan 2019 10:00:00 +0000"),
    letter("Tides", body="begin 644 tides.csv\n#0V%T\n`\nend\n"),
]
CALLS = {
    "export": ("--as", "eml,pdf,html"),
    "export, archives": ("--as", "mbox,zip"),
    "export, bound": ("--as", "pdf", "--bind", "all"),
    "export, attached": ("--as", "eml", "--attached"),
    "export, attachments": ("--as", "attachments"),
    "export, cover": ("--as", "pdf", "--cover", "cover.html", "--newer-than", "5y"),
    "attachments": (),
    "attachments, named": ("--attached", "*.pdf", "--flat"),
    "register": ("--columns", "date,from,subject"),
    "backup": (),
    "file": ("--case", "7", "--as", "eml,pdf"),
}
"""Calls by their commands, with their options."""
_SUMS = ("chosen", "written", "already_there", "failed")


@unittest.skipUnless(INSTALLED, "Dovecot is not installed, or this is not root")
class Doors(ProgramTest):
    server: Dovecot

    @classmethod
    def setUpClass(cls) -> None:
        cls.server = Dovecot()
        cls.addClassCleanup(cls.server.close)
        cls.server.fill("Letters", LETTERS)

    def setUp(self) -> None:
        super().setUp()
        self.write("Letters.mbox", mbox(*LETTERS))
        self.write("cover.html", "<h1>{{ title }}</h1>")  # the built-in one tells the minute
        self.write(
            "no-config/wexagraph/wexagraph.toml",
            f'[accounts.office]\nurl = "imap://{USER}@localhost:{self.server.imap}/"\n'
            f'authority = "{self.server.authority}"\n',
        )

    def run_program(self, *arguments: object, **options):  # type: ignore[no-untyped-def]
        return super().run_program(*arguments, env={"WEXAGRAPH_PASSWORD": PASSWORD}, **options)

    def call(self, name: str, source: tuple[str, ...], place: str, *more: str) -> tuple[str, ...]:
        command = name.partition(",")[0]
        into = {"register": ("--into", f"{place}/table.csv"), "file": ("--records", place)}
        if command == "file" and not (self.folder / place).exists():
            self.run_program("case", "open", "7", "Fog", "--records", place)
        (self.folder / place).mkdir(exist_ok=True)
        return (command, *source, *CALLS[name], *more, *into.get(command, ("--into", place)))

    def tree(self, place: str) -> dict[str, str]:
        """The files of a folder by digests; of a backup, what it holds, since its files have the names of their runs."""
        if (self.folder / place / "bagit.txt").exists():
            return {"messages": self.run_program("list", place, "--csv").stdout}
        own = re.compile(r"\.wexagraph/|case\.log$|fileplan\.toml$|log\.|\(before\)|journal")
        paths = sorted(path for path in (self.folder / place).rglob("*") if path.is_file())
        names = {str(path.relative_to(self.folder / place)): path for path in paths}
        return {
            name: hashlib.sha256(path.read_bytes()).hexdigest() for name, path in names.items() if not own.search(name)
        }

    def fetched(self) -> list[str]:
        """What was fetched from the server since this was asked."""
        lines = [line.partition("UID FETCH ")[2] for line in self.server.commands() if "UID FETCH " in line]
        self.server.forget_commands()
        return sorted(lines)

    def test_by_hand_and_as_an_order(self) -> None:
        for kind, source in (("files", ("Letters.mbox",)), ("server", ("@office", "--folder", "Letters"))):
            for number, name in enumerate(CALLS):
                with self.subTest(name, kind=kind):
                    hand, order = f"hand-{kind}-{number}", f"order-{kind}-{number}"
                    self.server.forget_commands()
                    by_hand = json.loads(self.run_program(*self.call(name, source, hand, "--json")).stdout)
                    asked_by_hand = self.fetched()
                    self.run_program("order", "add", order, "--", *self.call(name, source, order))
                    (run,) = json.loads(self.run_program("order", "run", order, "--json").stdout)["runs"]
                    asked = self.fetched()
                    self.assertEqual(run["state"], "done", run)
                    self.assertEqual(self.tree(order), self.tree(hand))
                    self.assertTrue(self.tree(hand))
                    sums = by_hand if "chosen" in by_hand else by_hand["cases"]["7"]
                    self.assertEqual([run[sum] for sum in _SUMS], [sums[sum] for sum in _SUMS])
                    self.assertEqual(asked, asked_by_hand, "an order asks the server for no more")
                    again = json.loads(self.run_program(*self.call(name, source, hand, "--json")).stdout)
                    (later,) = json.loads(self.run_program("order", "run", order, "--json").stdout)["runs"]
                    new = again["written"] if "written" in again else again["cases"]["7"]["written"]
                    self.assertEqual((new, later["written"]), (0, 0))
                    self.assertEqual(self.tree(order), self.tree(hand))

    def test_into_a_case_and_into_a_folder(self) -> None:
        self.run_program(*self.call("file", ("Letters.mbox",), "records"))
        self.run_program("export", "Letters.mbox", "--as", "eml,pdf", "--flat", "--into", "out")
        (case,) = [path for path in (self.folder / "records").iterdir() if path.name.startswith("7")]
        originals = [
            sorted(path.read_bytes() for path in place.rglob("*.eml")) for place in (case, self.folder / "out")
        ]
        self.assertEqual(*originals)
        self.assertEqual(
            sorted(map(_stem, case.rglob("*.pdf"))), sorted(map(_stem, (self.folder / "out").rglob("*.pdf")))
        )

    def test_what_is_refused_is_refused_everywhere(self) -> None:
        source = ("@office", "--folder", "Letters")
        for call, said in (
            (("export", *source, "--as", "attachments", "--afterwards", "delete", "--yes"), "do not keep a message"),
            (("attachments", *source, "--afterwards", "delete", "--yes"), "do not keep a message"),
            (("export", *source, "--as", "paper"), "is not a format"),
            (("export", "Letters.mbox", "--afterwards", "seen", "--yes"), "only ever read"),
            (("export", *source, "--allow", "print"), "second password"),
        ):
            with self.subTest(call):
                before = self.server.state("Letters")
                by_hand = self.run_program(*call, "--into", "out", code=2)
                self.assertIn(said, by_hand.stderr)
                added = self.run_program("order", "add", "x", "--yes", "--", *call, "--into", "out", code=None)
                if added.returncode == 0:  # what can be told of the mailbox alone
                    run = self.run_program("order", "run", "x", code=None)
                    self.assertIn(said, run.stdout)
                    self.run_program("order", "remove", "x")
                else:
                    self.assertIn(said, added.stderr)
                self.assertEqual(self.server.state("Letters"), before)

    def test_what_was_moved_is_chosen_by_neither_again(self) -> None:
        for door in ("hand", "order"):
            with self.subTest(door):
                self.server.fill("Slips", LETTERS)
                call = (
                    "export",
                    "@office",
                    "--folder",
                    "Slips",
                    "--folder",
                    "Old",
                    "--older-than",
                    "2y",
                    "--as",
                    "eml",
                )
                call = (*call[:2], *call[6:], "--afterwards", "move:Old", "--yes", "--into", door)
                if door == "order":
                    self.run_program("order", "add", "old", "--yes", "--", *call)
                    call = ("order", "run", "old")
                first, again = (self.run_program(*call).stdout for _ in range(2))
                self.assertRegex(first, r"[12] (written|new)")
                self.assertRegex(again, r"\b0 (written|new)")
                self.server.remove("Old")
                self.server.remove("Slips")


def _stem(path: Path) -> str:
    return path.stem


if __name__ == "__main__":
    unittest.main()
