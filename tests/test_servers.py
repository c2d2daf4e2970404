"""What an account keeps, over every mail server that installs here: read, taken, given back, watched, cleared up.

`make servers` runs it, and prints the table of `docs/accounts.md`.
"""

from __future__ import annotations

import hashlib
import imaplib
import re
import threading
import unittest
from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import ClassVar, NamedTuple
from unittest import mock

from tests.dovecot import Dovecot
from tests.helpers import ProgramTest, letter, letter_with, mbox, rounds
from tests.servers import PASSWORD, USER, Courier, Cyrus, MailServer, Pymap
from wexagraph.sources import open_source
from wexagraph.sources.accounts import Secret, parse_url
from wexagraph.sources.imap import ImapSource
from wexagraph.sources.imap.idling import Waiter
from wexagraph.sources.utf7 import encode_utf7


class Kind(NamedTuple):
    """A server of the suite: its name, how it is started, and whether it is here."""

    name: str
    start: Callable[[], MailServer]
    installed: bool


_LESS = "IMAP4rev1 SASL-IR LITERAL+ UIDPLUS MOVE NAMESPACE IDLE ESEARCH CONDSTORE SPECIAL-USE UNSELECT"
KINDS = [
    Kind("Dovecot 2.3, `INBOX.` in front", lambda: Dovecot(prefix="INBOX."), Dovecot.installed),
    Kind("Dovecot 2.3, IMAP4rev1 alone", lambda: Dovecot(capability="IMAP4rev1"), Dovecot.installed),
    Kind("Dovecot 2.3, mdbox", lambda: Dovecot("/", store="mdbox:{root}/mail"), Dovecot.installed),
    Kind(
        "Dovecot 2.3, mbox", lambda: Dovecot("/", store="mbox:{root}/mail:INBOX={root}/mail/inbox"), Dovecot.installed
    ),
    Kind("Dovecot 2.3, no NOTIFY", lambda: Dovecot(capability=_LESS), Dovecot.installed),
    Kind("Courier 5.0", Courier, Courier.installed),
    Kind("Cyrus 3.6", Cyrus, Cyrus.installed),
    Kind("pymap 0.36", Pymap, Pymap.installed),
]
_UUENCODED = "begin 644 tides.csv\n#0V%T\n`\nend\n"
ODD_DATE = letter("Odd date", date="Friday, 21-Aug-26 14:15:16 EST")
HELD = {
    "INBOX": [
        letter("Berth 4"),
        letter("=?utf-8?q?M=C3=B6we?="),
        letter("Tides", body=f"See:\n\n{_UUENCODED}"),
        ODD_DATE,
    ],
    "Berths/2026": [letter_with(("plan.pdf", "application/pdf", b"%PDF" * 400), subject="Plan"), letter("No plan")],
    "Übersee": [letter("Fender", date="Mon, 7 Jan 2019 10:00:00 +0000")],
}
"""What lies in each account, by the names that people see."""
CHOICES = (
    ("--from", "ines"),
    ("--subject", "Möwe"),
    ("--to", "records"),
    ("--since", "2026-08", "--before", "2026-09"),
    ("--before", "2020-02"),
    ("--newer-than", "3y"),
    ("--since", "2019-01-02", "--before", "2019-01-08"),
    ("--larger", "1KB"),
    ("--attached", "*.pdf"),
    ("--body", "survey is done", "--subject", "Fender"),
    ("--text", "scan is attached"),
    ("--text", "nowhere in it"),
)
CHOSEN: dict[tuple[str, ...], list[str]] = {}
"""What each choice takes from an mbox of the same messages; the same for each server."""
MOVED = {
    **HELD,
    "v1.2 files": [letter("Version")],
    "INBOX/Slips": [letter("Slip")],
    "A\N{DIVISION SLASH}B": [letter("Or")],
}
"""What is given back: also names that some servers can't have."""


class ServerTest(ProgramTest):
    """A test of a server that is given."""

    def run_program(self, *arguments: object, **options):  # type: ignore[no-untyped-def]
        return super().run_program(*arguments, env={"WEXAGRAPH_PASSWORD": PASSWORD}, **options)

    def program(self, *arguments: object, code: int | None = 0) -> str:
        done = self.run_program(*arguments, code=code)
        return str(done.stdout + done.stderr)

    def raw(self, server: MailServer, name: str) -> str:
        return server.raw(encode_utf7(name))

    def mailbox(self, server: MailServer) -> dict[str, Counter[tuple[str, str, str]]]:
        """What a server holds, told by imaplib: digests, flags and arrival of messages, by folders."""
        client, held = server.client(), {}
        for line in client.list()[1]:
            match = re.fullmatch(rb'\((.*?)\) (?:"(.)"|NIL) "?(.*?)"?', line)
            assert match is not None, line
            if b"noselect" in match[1].lower():
                continue
            count = int(client.select(b'"' + match[3] + b'"', readonly=True)[1][0])
            answers = client.fetch("1:*", "(FLAGS INTERNALDATE BODY.PEEK[])")[1] if count else []
            held[match[3].decode()] = _counted(answers)
            client.close()
        client.logout()
        return held

    def account(self, name: str, server: MailServer) -> str:
        """Make a server known to the program by a name; the POP3 account as `pop-` and that name."""
        known = self.folder / "no-config/wexagraph/wexagraph.toml"
        known.parent.mkdir(parents=True, exist_ok=True)
        authority = f'authority = "{server.authority}"\n' if server.authority else ""
        with known.open("a") as file:
            for kind, port in (("imap", server.imap), ("pop", server.pop or 1)):
                head = f"[accounts.{name}]" if kind == "imap" else f"[accounts.pop-{name}]"
                file.write(f'{head}\nurl = "{kind}://{USER}@localhost:{port}/"\n{authority}')
        return f"@{name}"

    def waiting(self, server: MailServer) -> ImapSource:
        account = replace(parse_url(f"imap://{USER}@localhost:{server.imap}/"), authority=str(server.authority or ""))
        source = open_source(account, lambda account, again: Secret(PASSWORD))
        assert isinstance(source, ImapSource)
        self.addCleanup(source.close)
        return source


def _counted(answers: list[object]) -> Counter[tuple[str, str, str]]:
    """What FETCH says of messages: flags may stand before the body or behind it."""
    told: list[list[bytes]] = []
    for item in answers:
        if isinstance(item, tuple):
            told.append([item[0], item[1]])
        elif isinstance(item, bytes) and told:
            told[-1].append(item)
    counted: Counter[tuple[str, str, str]] = Counter()
    for before, body, *behind in told:
        facts = before + b" ".join(behind)
        flags = re.search(rb"FLAGS \((.*?)\)", facts)
        arrived = re.search(rb'INTERNALDATE "(.*?)"', facts)
        assert flags and arrived, facts
        marks = sorted({mark.decode() for mark in flags[1].split()} - {"\\Recent"})
        when = imaplib.Internaldate2tuple(b'INTERNALDATE "' + arrived[1] + b'"')
        counted[hashlib.sha256(body).hexdigest(), " ".join(marks), str(when)] += 1
    return counted


class Contract(ServerTest):
    """What holds of one server; `kind` is set in the classes below."""

    kind: ClassVar[Kind]
    server: ClassVar[MailServer]

    @classmethod
    def setUpClass(cls) -> None:
        if not cls.kind.installed:
            raise unittest.SkipTest(f"{cls.kind.name} is not installed")
        cls.server = cls.kind.start()
        cls.addClassCleanup(cls.server.close)
        for name, messages in HELD.items():
            cls.server.fill(cls.server.raw(encode_utf7(name)), messages)

    def setUp(self) -> None:
        super().setUp()
        self.account("here", self.server)

    def fresh(self, folder: str, *subjects: str) -> None:
        self.server.fill(self.raw(self.server, folder), [letter(subject) for subject in subjects])

    def test_reading(self) -> None:
        before = self.mailbox(self.server)
        url, everything = "@here", [m for held in HELD.values() for m in held]
        names = {row.partition(",")[0] for row in self.program("folders", url, "--csv").splitlines()[1:]}
        self.assertLessEqual(set(HELD), names)
        local = self.write("all.mbox", mbox(*everything))
        if not CHOSEN:
            CHOSEN.update({choice: sorted(self.subjects(local, *choice)) for choice in CHOICES})
        folders = [word for name in HELD for word in ("--folder", name)]
        for choice in CHOICES[KINDS.index(self.kind) % rounds(1, 3) :: rounds(1, 3)]:  # three servers ask all of them
            with self.subTest(choice):
                here = sorted(self.subjects(url, *folders, *choice))
                self.assertEqual(here, CHOSEN[choice])
        self.assertEqual(len(self.subjects(url, "--folder", "INBOX")), len(HELD["INBOX"]), "INBOX is INBOX")
        self.program("export", url, *folders, "--as", "eml", "--into", "out")
        exported = Counter(path.read_bytes() for path in (self.folder / "out").rglob("*.eml"))
        self.assertEqual(exported, Counter(data.replace(b"\n", b"\r\n") for data in everything))
        self.assertIn("0 written", self.program("export", url, *folders, "--as", "eml", "--into", "out"))
        self.program("attachments", url, *folders, "--into", "files")
        self.program("attachments", local, "--into", "local")
        self.assertEqual({Path(name).name.split(" - ")[-1] for name in self.made("files")}, {"plan.pdf", "tides.csv"})
        self.assertEqual(len(self.made("files")), len(self.made("local")))
        self.assertEqual(self.mailbox(self.server), before, "nothing was changed")

    def test_backup(self) -> None:
        self.fresh("Kept", "First", "Second")
        call = ("backup", "@here", "--folder", "Kept", "--into", "stick")
        self.assertIn("2 ", self.program(*call))
        self.fresh("Kept", "Third")
        self.assertIn("1 new", self.program(*call))
        self.assertIn("whole", self.program("verify", "stick"))
        self.assertEqual(sorted(self.subjects("stick")), ["First", "Second", "Third"])

    def test_order(self) -> None:
        self.fresh("Ordered", "First")
        call = ("export", "@here", "--folder", "Ordered", "--as", "eml", "--into", "out")
        self.program("order", "add", "daily", "--", *call)
        self.assertIn("1 new", self.program("order", "run", "daily"))
        self.fresh("Ordered", "Second")
        self.assertIn("1 new", self.program("order", "run", "daily"))
        self.assertIn("0 new", self.program("order", "run", "daily"))
        self.assertEqual(len(self.made("out", ".eml")), 2)

    def test_watch(self) -> None:
        self.fresh("Watched", "Old")
        with mock.patch("wexagraph.sources.imap.idling.ASK", 0.3):
            for folder in ("INBOX", "Watched"):
                with self.subTest(folder):
                    waiter = Waiter(self.waiting(self.server), ["INBOX", "Watched"], threading.Event())
                    waiter.begin()
                    self.fresh(folder, "Watch")
                    self.assertTrue(any(waiter.wait() for _ in range(40)))
        self.server.forget("INBOX", b"Subject: Watch\r\n")

    def test_afterwards(self) -> None:
        def clear(folder: str, wish: str, code: int = 0) -> str:
            call = ("export", "@here", "--folder", folder, "--as", "eml", "--into", "out", "--yes")
            return self.program(*call, "--afterwards", wish, code=code)

        inbox = self.server.state("INBOX")
        self.fresh("Seen", "One", "Two")
        self.assertIn("2 messages marked as seen", clear("Seen", "seen"))
        self.assertTrue(all(b"\\Seen" in line for line in self.server.state(self.raw(self.server, "Seen"))))
        self.fresh("Words", "One")
        if self.server.keywords:
            clear("Words", "keyword:Filed")
            self.assertEqual(self.subjects("@here", "--folder", "Words", "--keyword", "Filed"), ["One"])
        else:
            self.assertIn("keeps no keyword", clear("Words", "keyword:Filed", code=3))
        self.fresh("From here", "One", "Two")
        if not self.server.moves:
            for wish in ("move:Old", "delete"):
                self.assertIn("no UIDPLUS", clear("From here", wish, code=3))
            self.assertEqual(len(self.server.state("From here")), 2)
            self.assertNotIn("Old", self.mailbox(self.server), "no folder is left that nothing went to")
            return
        clear("From here", "move:Old/2026")
        self.assertEqual(sorted(self.subjects("@here", "--folder", "Old/2026")), ["One", "Two"])
        self.assertEqual(self.subjects("@here", "--folder", "From here"), [])
        self.fresh("To go", "Gone")
        said = clear("To go", "delete")
        self.assertEqual(self.subjects("@here", "--folder", "To go"), [])
        trash = self.subjects("@here", "--folder", "Trash") if self.server.has_trash else []
        self.assertEqual(
            (trash, "Trash" in said, "for good" in said),
            (["Gone"], True, False) if self.server.has_trash else ([], False, True),
        )
        self.assertEqual(self.server.state("INBOX"), inbox, "nobody has named it")

    def test_given_back(self) -> None:
        for name, messages in MOVED.items():
            for number, data in enumerate(messages):
                self.write(f"in/{name}/{number}.eml", data)
        self.program("backup", "in", "--into", "stick")
        target = self.kind.start()
        self.addCleanup(target.close)
        count = sum(map(len, MOVED.values()))
        self.assertIn(
            f"{count} given back", self.program("restore", "stick", "--into", self.account("there", target), "--yes")
        )
        self.assertIn(f"{count} already there", self.program("restore", "stick", "--into", "@there", "--yes"))
        self.assertEqual(sum(map(Counter.total, self.mailbox(target).values())), count)

    def test_pop(self) -> None:
        if not self.server.pop:
            self.assertEqual(self.kind.name, "pymap 0.36")
            return
        self.program("export", "@pop-here", "--as", "eml", "--into", "out")
        exported = Counter(path.read_bytes() for path in (self.folder / "out").rglob("*.eml"))
        self.assertEqual(exported, Counter(data.replace(b"\n", b"\r\n") for data in HELD["INBOX"]))


for _number, _kind in enumerate(KINDS):
    _name = re.sub(r"\W+", " ", _kind.name).title().replace(" ", "")
    globals()[_name] = type(_name, (Contract,), {"kind": _kind, "__module__": __name__})


class Handed(ServerTest):
    """A mailbox that goes from one server to the next, by backups, and is the same at each."""

    def test_around(self) -> None:
        """From one kind to the next but one, and from the last to a new one of the first: each kind takes and gives back by itself."""
        kinds = [kind for kind in (KINDS[2], *KINDS[::2], KINDS[2]) if kind.installed]
        self.assertGreater(len(kinds), 2)
        first = kinds[0].start()
        self.addCleanup(first.close)
        for name, messages in MOVED.items():
            first.fill(encode_utf7(name), messages, "(\\Flagged \\Seen)")
        held = self.mailbox(first)
        expected = sorted(map(sorted, filter(None, held.values())))
        self.program("backup", self.account("first", first), "--into", "stick-0")
        for number, kind in enumerate(kinds[1:], 1):
            with self.subTest(kind.name):
                server = kind.start()
                try:
                    here = self.account(f"at-{number}", server)
                    self.program("restore", f"stick-{number - 1}", "--into", here, "--yes")
                    there = self.mailbox(server)
                    self.assertEqual(sorted(map(sorted, filter(None, there.values()))), expected)
                    self.program("backup", here, "--into", f"stick-{number}")
                    names = [row.rpartition("/")[2] for row in self.program("folders", here, "--csv").splitlines()]
                    self.assertLessEqual({name.rpartition("/")[2] for name in MOVED}, {n.split(",")[0] for n in names})
                finally:
                    server.close()
        self.assertEqual(there, held, "folder by folder, under the same names")


def load_tests(loader: unittest.TestLoader, tests: unittest.TestSuite, pattern: str | None) -> unittest.TestSuite:
    """All but the contract itself, which is of no server."""
    suite = unittest.TestSuite()
    for _, case in sorted(globals().items()):
        if isinstance(case, type) and issubclass(case, ServerTest) and case not in (ServerTest, Contract):
            suite.addTests(loader.loadTestsFromTestCase(case))
    return suite


_TASKS = {
    "test_reading": "list, choose, export, attachments",
    "test_backup": "back up",
    "test_given_back": "give back",
    "test_order": "orders",
    "test_watch": "watch",
    "test_afterwards": "clear up",
    "test_pop": "POP3",
}


def main() -> None:
    """Run the suite, and print what it has found as a table."""
    print(f"| server | {' | '.join(_TASKS.values())} |\n|---|{'---|' * len(_TASKS)}")
    for case in (case for case in globals().values() if isinstance(case, type) and issubclass(case, Contract)):
        if case is not Contract:
            print(f"| {case.kind.name} | {' | '.join(_states(case))} |")


def _states(case: type[Contract]) -> list[str]:
    """What became of each task at a server."""
    states = []
    if case.kind.installed:
        server = case.kind.start()
        can = server.client().capability()[1][0].decode().split()
        facts = {
            "test_watch": "yes, by " + ("NOTIFY" if "NOTIFY" in can else "IDLE" if "IDLE" in can else "asking"),
            "test_afterwards": "marks alone (no UIDPLUS)"
            if not server.moves
            else "yes"
            if server.keywords
            else "yes, no keywords",
            "test_pop": "yes" if server.pop else "has none",
        }
        server.close()
    for name in _TASKS:
        result = unittest.TestResult()
        unittest.TestSuite([case(name)]).run(result)
        states.append("not installed" if result.skipped else facts.get(name, "yes") if result.wasSuccessful() else "no")
    return states


if __name__ == "__main__":
    main()
