"""Attacks by servers: what they promise, mix up, never end, or smuggle in. A scripted peer plays them."""

from __future__ import annotations

import itertools
import re
import time
from collections.abc import Callable, Iterator
from types import SimpleNamespace
from unittest import mock

from tests.helpers import ProgramTest, letter
from tests.peers import Peer, PopPeer
from wexagraph.backups.topup import backup
from wexagraph.errors import CallError, MessageError, SourceError
from wexagraph.exports.options import ExportOptions
from wexagraph.exports.run import export
from wexagraph.selection.choice import Choice
from wexagraph.sources import open_source
from wexagraph.sources.accounts import Account, Secret, parse_url
from wexagraph.sources.base import Source
from wexagraph.sources.imap import ImapSource
from wexagraph.sources.imap.changes import Afterwards, Changes

Mood = Callable[[str, str, Peer], "bytes | None"]


def crlf(number: object) -> bytes:
    return letter(f"Letter {number}", body=f"Body {number}\n").replace(b"\n", b"\r\n")


class ServerTest(ProgramTest):
    def peer(self, mood: Mood | None = None, count: int = 3, **more: object) -> Peer:
        made = type("Peer", (Peer,), more)([crlf(n) for n in range(count)], mood)
        self.addCleanup(made.close)
        return made

    def pop(self, mood: Callable[[str, PopPeer], bytes | None] | None = None, count: int = 3) -> PopPeer:
        made = PopPeer([crlf(n) for n in range(count)], mood)
        self.addCleanup(made.close)
        return made

    def opened(self, peer: Peer | PopPeer, **more: object) -> Source:
        account = Account(
            peer.scheme,
            "127.0.0.1",
            peer.port,
            "records",
            **{"retries": 1, "timeout": 5.0, "search_timeout": 5.0, **more},
        )  # type: ignore[arg-type]
        source = open_source(account, lambda *_: Secret("tidal"))
        self.addCleanup(source.close)
        return source

    def eml(self, source: Source, into: str = "out", **more: object) -> object:
        return export(source, self.folder / into, options=ExportOptions(formats=("eml",)), **more)  # type: ignore[arg-type]

    def bodies(self) -> list[bytes]:
        return sorted(path.read_bytes() for path in (self.folder / "out").rglob("*.eml"))


class OtherMail(ServerTest):
    """A server gives a UID to other mail, against the protocol. What was never stored is never removed, nor mixed up."""

    def changes(self, source: Source) -> Changes:
        assert isinstance(source, ImapSource)
        return Changes(source, Afterwards.parse("delete"))

    def removed(self, peer: Peer) -> list[str]:
        return [line for line in peer.lines if re.search(r"UID (STORE|EXPUNGE|MOVE|COPY)", line)]

    CAPABLE = "IMAP4rev1 LITERAL+ UIDPLUS"

    def test_between_an_export_and_the_clearing(self) -> None:
        for name, change in (
            ("the same size", lambda n: crlf(n).replace(b"Letter", b"Lettre")),
            ("another size", lambda n: crlf(f"other {n}")),
        ):
            with self.subTest(name):
                peer = self.peer(capabilities=self.CAPABLE)
                into = name.replace(" ", "-")
                with self.opened(peer) as source:
                    self.assertEqual(self.eml(source, into).written, 3)  # type: ignore[attr-defined]
                peer.messages = [change(n) for n in range(3)]
                with self.opened(peer) as source:
                    changes = self.changes(source)
                    report = self.eml(source, into, afterwards=lambda stored, c=changes: c.apply(stored))
                known = {path.read_bytes() for path in (self.folder / into).rglob("*.eml")}
                for line in self.removed(peer):
                    for uid in peer.asked(line.partition(" ")[2]):
                        self.assertIn(peer.messages[uid - 1], known, "what is removed is stored")
                if name == "the same size":
                    self.assertEqual(
                        (report.changed_at_the_source, len(report.left_at_the_source), self.removed(peer)), (0, 3, [])
                    )  # type: ignore[attr-defined]

    def test_between_a_backup_and_the_clearing(self) -> None:
        peer = self.peer(capabilities=self.CAPABLE)
        with self.opened(peer) as source:
            backup(source, self.folder / "bk")
        peer.messages = [crlf(n).replace(b"Letter", b"Lettre") for n in range(3)]
        self.write("wexagraph.toml", f'[accounts.peer]\nurl = "{peer.url}"\n')
        self.run_program(
            "--config",
            "wexagraph.toml",
            "backup",
            "@peer",
            "--into",
            "bk",
            "--afterwards",
            "delete",
            "--yes",
            code=1,
            env={"WEXAGRAPH_PASSWORD": "tidal"},
        )
        self.assertEqual(self.removed(peer), [])

    def test_while_it_is_read(self) -> None:
        def swaps(word: str, line: str, peer: Peer) -> bytes | None:
            if "BODY.PEEK[]" in line:
                asked = peer.asked(line)
                bodies = {uid: peer.messages[(uid % len(peer.messages))] for uid in asked}
                return b"".join(
                    b"* %d FETCH (UID %d BODY[] {%d}\r\n%s)\r\n" % (u, u, len(d), d) for u, d in bodies.items()
                )
            return None

        with self.opened(self.peer(swaps)) as source:
            report = self.eml(source)
        self.assertEqual((report.written, report.failed), (0, 3))  # type: ignore[attr-defined]

        def whole_answer(word: str, line: str, peer: Peer) -> bytes | None:
            if "BODY.PEEK[]" in line:
                return b"".join(_whole(uid, peer.messages[uid % len(peer.messages)]) for uid in peer.asked(line))
            return None

        with self.opened(self.peer(whole_answer)) as source:
            report = self.eml(source, "out2")
        self.assertEqual((report.written, report.failed), (0, 3), "header and body of another, alike")  # type: ignore[attr-defined]

    def test_what_fits_is_taken(self) -> None:
        with self.opened(
            self.peer(
                lambda word, line, peer: (
                    b"".join(_whole(u, peer.messages[u - 1]) for u in peer.asked(line))
                    if "BODY.PEEK[]" in line
                    else None
                )
            )
        ) as source:
            self.assertEqual(self.eml(source).written, 3)  # type: ignore[attr-defined]
        self.assertEqual(self.bodies(), [crlf(n) for n in range(3)])

    def test_over_pop(self) -> None:
        def shifted(line: str, peer: PopPeer) -> bytes | None:
            if line.startswith("RETR"):
                data = peer.messages[int(line.split()[1]) % len(peer.messages)]
                return b"+OK\r\n" + data + b".\r\n"
            return None

        with self.opened(self.pop(shifted)) as source:
            self.assertEqual(self.eml(source).failed, 3)  # type: ignore[attr-defined]
        with self.opened(self.pop(shifted)) as source:
            report = backup(source, self.folder / "bk")
        self.assertEqual((report.written, report.failed), (0, 3))
        with self.opened(self.pop()) as source:
            self.assertEqual(backup(source, self.folder / "bk2").written, 3)

    def test_a_folder_made_anew(self) -> None:
        def renewed(word: str, line: str, peer: Peer) -> bytes | None:
            fetched = sum("BODY.PEEK[]" in sent for sent in peer.lines)
            return b"* 3 EXISTS\r\n* OK [UIDVALIDITY 8] new\r\n" if word in ("EXAMINE", "SELECT") and fetched else None

        peer = self.peer(renewed, capabilities=self.CAPABLE)
        with self.opened(peer) as source:
            changes = self.changes(source)
            with self.assertRaisesRegex(SourceError, "made anew"):
                self.eml(source, afterwards=lambda stored: changes.apply(stored))
        self.assertEqual(self.removed(peer), [])


def _whole(uid: int, data: bytes) -> bytes:
    head = data.partition(b"\r\n\r\n")[0] + b"\r\n\r\n"
    fields = (
        b"".join(line + b"\r\n" for line in head.split(b"\r\n") if line[:4] in (b"From", b"Subj", b"Date")) + b"\r\n"
    )
    facts = b'INTERNALDATE "14-Mar-2026 15:03:00 +0000" RFC822.SIZE %d' % len(data)
    return b"* %d FETCH (UID %d %s BODY[HEADER.FIELDS (FROM DATE SUBJECT)] {%d}\r\n%s BODY[] {%d}\r\n%s)\r\n" % (
        uid,
        uid,
        facts,
        len(fields),
        fields,
        len(data),
        data,
    )


class OneFolder(ServerTest):
    def test_that_can_not_be_selected(self) -> None:
        def closed(word: str, line: str, peer: Peer) -> bytes | None:
            return (
                b"TAG NO [CONTACTADMIN] not for you\r\n" if word in ("EXAMINE", "SELECT") and "Closed" in line else None
            )

        peer = self.peer(closed, folders=("INBOX", "Closed", "Open"))
        with self.opened(peer) as source:
            report = self.eml(source)
        self.assertEqual((report.written, [where for where, _ in report.unreadable]), (6, ["Closed"]))  # type: ignore[attr-defined]
        for turn in range(2):
            with self.opened(peer) as source:
                kept = backup(source, self.folder / "bk")
            self.assertEqual((kept.written, kept.gone, len(kept.unreadable)), (3 if turn == 0 else 0, 0, 1))
        self.write("wexagraph.toml", f'[accounts.peer]\nurl = "{peer.url}"\n')
        for command in ("folders", "list"):
            done = self.run_program(
                "--config", "wexagraph.toml", command, "@peer", code=1, env={"WEXAGRAPH_PASSWORD": "x"}
            )
            self.assertIn("not read: Closed", done.stderr)

    def test_whose_name_holds_a_command(self) -> None:
        names = (b"{16}\r\na\r\nX LOGOUT\r\nb c", b'"a\rb"', b'"a\x7fb"', '"INBOX"')
        peer = self.peer(folders=("INBOX", *names[:3]))
        with self.opened(peer) as source:
            self.assertEqual(self.eml(source).written, 3)  # type: ignore[attr-defined]
        self.assertFalse([line for line in peer.lines if "X LOGOUT" in line and not line.startswith("*")])


class WithoutEnd(ServerTest):
    """Each ends in seconds, holds little memory, and says so."""

    def rows(self) -> Iterator[tuple[str, Mood]]:
        def at(where: str, answer: bytes) -> Mood:
            return lambda word, line, peer: answer if word == where else None

        yield "10 GB promised", at("UID FETCH", b"* 1 FETCH (UID 1 BODY[] {9999999999}\r\nTAG")
        yield "thirty digits", at("UID FETCH", b"* 1 FETCH (UID 1 BODY[] {" + b"9" * 30 + b"}\r\nTAG")
        yield (
            "four thousand million",
            lambda word, line, peer: b'* ESEARCH (TAG "x") UID ALL 1:4000000000\r\n' if word == "UID SEARCH" else None,
        )
        yield "numbers of thirty digits", at("UID SEARCH", b"* SEARCH " + b"9" * 30 + b"\r\n")
        yield "sets of thirty digits", at("UID SEARCH", b"* ESEARCH UID ALL 1:" + b"9" * 30 + b"\r\n")
        yield "brackets", at("UID FETCH", b"* 1 FETCH " + b"(" * 200_000 + b"\r\n")
        yield "quotes", at("LIST", b'* LIST () "/" "' + b'\\"' * 200_000 + b"\r\n")
        yield "a namespace of numbers", at("NAMESPACE", b"* NAMESPACE 7 (7) ((7))\r\n")
        yield "a size of thirty digits", at("UID FETCH", b"* 1 FETCH (UID 1 RFC822.SIZE " + b"9" * 30 + b")\r\n")

    def test_answers(self) -> None:
        for name, mood in self.rows():
            with self.subTest(name):
                started = time.monotonic()
                capabilities = (
                    "IMAP4rev1 LITERAL+ ESEARCH NAMESPACE"
                    if "million" in name or "sets" in name or "namespace" in name
                    else "IMAP4rev1"
                )
                try:
                    with self.opened(self.peer(mood, capabilities=capabilities), timeout=2.0, retries=0) as source:
                        self.eml(source, f"out-{started}")
                except (SourceError, MessageError) as error:
                    self.assertNotIn("Traceback", str(error))
                self.assertLess(time.monotonic() - started, 30)

    def test_lines_and_drips(self) -> None:
        def endless(word: str, line: str, peer: Peer) -> bytes | None:
            return b"* 1 EXISTS\r\n" * 1_000_000 + b"TAG OK\r\n" if word == "NOOP" or word == "UID SEARCH" else None

        with self.opened(self.peer(endless), retries=0) as source, self.assertRaisesRegex(SourceError, "no end"):
            self.eml(source)

    def test_a_byte_now_and_then(self) -> None:
        from wexagraph.sources.imap.client import Client

        clock = itertools.count(time.monotonic(), 5)
        with (
            self.opened(self.peer(), timeout=2.0, retries=0) as source,
            mock.patch("wexagraph.sources.imap.client.time", SimpleNamespace(monotonic=lambda: next(clock))),
            mock.patch.object(Client, "_begin", lambda client: None),
            self.assertRaisesRegex(SourceError, "too long"),
        ):
            for _ in range(100):
                list(source.outline("INBOX"))

    def test_over_pop(self) -> None:
        floods = {
            "UIDL": b"+OK\r\n" + b"1 a\r\n" * 300_000,
            "RETR": b"+OK\r\n" + b"x\r\n" * 2_000_000,
            "LIST": b"+OK\r\n" + b"1 1\r\n" * 300_000,
        }
        for word, answer in floods.items():
            with (
                self.subTest(word),
                mock.patch.multiple("wexagraph.sources.pop", _MOST_LIST=4_000_000, _MOST_ANSWER=8_000_000),
            ):
                try:
                    with self.opened(
                        self.pop(lambda line, peer, w=word, a=answer: a if line.startswith(w) else None), retries=0
                    ) as source:
                        report = self.eml(source, f"out-{word}")
                        self.assertEqual(report.written, 0)  # type: ignore[attr-defined]
                except SourceError as error:
                    self.assertIn("no end", str(error))


class Smuggled(ServerTest):
    def test_line_ends(self) -> None:
        for url in (
            "imap://a%0d%0ab@h.example/",
            "imap://a@h.example/x%0d%0ay",
            "pop://a%00@h.example/",
            "imap://a%7f@h.example/",
        ):
            with self.assertRaisesRegex(CallError, "line end"):
                parse_url(url)
        for value in ("a\r\nX LOGOUT", "a\nb", "a\0b"):
            with self.assertRaisesRegex(CallError, "line end"):
                Secret(value)
        for criterion in ("from", "subject", "text"):
            peer = self.peer()
            with self.opened(peer) as source:
                from wexagraph.selection.criteria import Criterion

                list(Choice(criteria=(Criterion(criterion, 'x"\r\nX DELETE INBOX'),)).select(source))
            self.assertFalse([line for line in peer.lines if line.startswith("X ")])

    def test_a_password_beyond_ascii(self) -> None:
        peer = self.peer(capabilities="IMAP4rev1")
        started = time.monotonic()
        with self.assertRaises(SourceError) as caught:
            open_source(Account("imap", "127.0.0.1", peer.port, "records"), lambda *_: Secret("gezeitenqß"))
        self.assertLess(time.monotonic() - started, 20)
        for letter_of_it in ("ß", "xdf", "qß", "gezeiten"):
            self.assertNotIn(letter_of_it, str(caught.exception))
