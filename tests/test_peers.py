"""Servers that misbehave: a scripted peer plays them, over a line of its own."""

from __future__ import annotations

import base64
import os
import shutil
import signal
import socketserver
import subprocess
import threading
import time
import unittest
from collections.abc import Callable
from dataclasses import replace

from tests.helpers import PROGRAM, ProgramTest, letter
from tests.peers import Peer, PopPeer
from wexagraph.errors import CallError, SourceError
from wexagraph.selection.choice import Choice
from wexagraph.selection.criteria import Criterion
from wexagraph.selection.program import search_program
from wexagraph.sources import open_source
from wexagraph.sources.accounts import Account, Secret, parse_url
from wexagraph.sources.imap.folders import Folders, Namespace
from wexagraph.sources.imap.responses import fetched, leaves, number_set, numbers, parse
from wexagraph.sources.utf7 import decode_utf7, encode_utf7

Mood = Callable[[str, str, Peer], "bytes | None"]
SECRET = "tidal-4471"


class PeerTest(ProgramTest):
    def peer(self, mood: Mood | None = None, count: int = 6, **more: object) -> Peer:
        kind = type("Peer", (Peer,), more)
        made = kind([letter(f"Letter {n}", body=f"Body {n}\n").replace(b"\n", b"\r\n") for n in range(count)], mood)
        self.addCleanup(made.close)
        return made

    def export(self, peer: Peer | PopPeer, *more: object, code: int | None = 0) -> str:
        self.write("wexagraph.toml", f'[accounts.peer]\nurl = "{peer.url}"\nretries = 4\n')
        done = self.run_program(
            "--config",
            "wexagraph.toml",
            "export",
            "@peer",
            "--into",
            "out",
            "--as",
            "eml",
            *more,
            code=code,
            env={"WEXAGRAPH_PASSWORD": SECRET},
        )
        self.assertNotIn(SECRET, done.stdout + done.stderr)
        return str(done.stdout + done.stderr)


class Moods(PeerTest):
    def test_a_good_one(self) -> None:
        self.assertIn("6 written", self.export(self.peer()))

    def test_one_message_that_is_not_delivered(self) -> None:
        def refuses(word: str, line: str, peer: Peer) -> bytes | None:
            return b"TAG NO [SERVERBUG-7] disk\r\n" if "BODY.PEEK[]" in line and 3 in peer.asked(line) else None

        def leaves_out(word: str, line: str, peer: Peer) -> bytes | None:
            if "BODY.PEEK[]" in line:
                return b"".join(peer.fetch(n, line) for n in peer.asked(line) if n != 3)
            return None

        def hangs_up(word: str, line: str, peer: Peer) -> bytes | None:
            if "BODY.PEEK[]" in line and 3 in peer.asked(line):
                raise ConnectionError
            return None

        for number, mood in enumerate((refuses, leaves_out, hangs_up)):
            with self.subTest(mood.__name__):
                self.folder = self.folder / str(number)
                self.folder.mkdir()
                self.assertIn("5 written, 0 already there, 1 failed", self.export(self.peer(mood), code=1))

    def test_patience(self) -> None:
        tries = []

        def busy(word: str, line: str, peer: Peer) -> bytes | None:
            if word == "UID FETCH" and len(tries) < 3:
                tries.append(word)
                return (
                    b"TAG NO [THROTTLED] later\r\n",
                    b"* BYE shutting down\r\nTAG BAD\r\n",
                    b"* 1 FETCH (UID 1 BODY[] {99999}\r\nhalf",
                )[len(tries) - 1]
            return None

        def drops_half(word: str, line: str, peer: Peer) -> bytes | None:
            answer = busy(word, line, peer)
            return answer if answer is None or b"half" not in answer else self._half(peer)

        self.assertIn("6 written", self.export(self.peer(drops_half)))

    def _half(self, peer: Peer) -> bytes:
        raise ConnectionError

    def test_no_login_for_a_while_and_never(self) -> None:
        tries = []

        def full(word: str, line: str, peer: Peer) -> bytes | None:
            if word in ("LOGIN", "AUTHENTICATE") and len(tries) < 2:
                tries.append(word)
                return b"TAG NO [UNAVAILABLE] Too many connections\r\n"
            return None

        self.assertIn("6 written", self.export(self.peer(full)))
        never = self.peer(
            lambda word, line, peer: (
                b"TAG NO [ALERT] Application-specific password required\r\n" if word == "LOGIN" else None
            )
        )
        self.assertIn("app password", self.export(never, code=3))
        gone = self.peer(lambda word, line, peer: b"TAG NO [UNAVAILABLE] down\r\n" if word == "LIST" else None)
        self.assertIn("broke 5 times", self.export(gone, code=3))

    def test_names_of_folders(self) -> None:
        made = self.peer(
            folders=(
                "INBOX",
                "Inbox",
                b'"Office.\xc3\x9cbersee"',
                "Office.&ANw-ber",
                "Office.a/b",
                b'{7}\r\nwith "q',
                b'"Office.\xc3\x9cber"',
            ),
            separator=".",
        )
        self.write("wexagraph.toml", f'[accounts.peer]\nurl = "{made.url}"\n')
        output = self.run_program(
            "--config", "wexagraph.toml", "folders", "@peer", "--csv", env={"WEXAGRAPH_PASSWORD": SECRET}
        ).stdout
        for name in ("INBOX", "Office/Übersee", "Office/Über", "Office/a∕b", 'with ""q', "Office/Über (2)"):
            self.assertIn(name, output)
        self.assertEqual(len(output.splitlines()), 1 + 6)

    def test_a_character_set_that_it_does_not_know(self) -> None:
        def ascii_only(word: str, line: str, peer: Peer) -> bytes | None:
            return b"TAG NO [BADCHARSET (US-ASCII)] no\r\n" if "CHARSET" in line else None

        made = self.peer(ascii_only)
        made.messages[2] = letter("=?utf-8?q?M=C3=B6we?=").replace(b"\n", b"\r\n")
        self.assertIn("1 message chosen: 1 written", self.export(made, "--subject", "Möwe"))

    def test_strange_answers(self) -> None:
        def chatty(word: str, line: str, peer: Peer) -> bytes | None:
            if word == "UID FETCH":
                noise = b"* 4 FETCH (FLAGS (\\Seen))\r\n* 9 EXISTS\r\n* OK still here\r\n"
                return noise + b"".join(noise + peer.fetch(n, line) for n in reversed(peer.asked(line)))
            return None

        made = self.peer(chatty)
        made.messages[0] = b"From: J\xf6rg <j@x.example>\r\nSubject: Caf\xe9 raw\r\n\r\nx\r\n"
        self.assertIn("6 written", self.export(made))
        self.assertTrue(any("Café raw" in name for name in self.made("out")))

    def test_an_answer_that_does_not_come(self) -> None:
        self.assertIn("6 written", self.export(self.peer(capabilities="IMAP4rev1 NAMESPACE CONDSTORE")))

    def test_a_server_that_hangs_does_not_hold_up_who_wants_to_go(self) -> None:
        asked, over = threading.Event(), threading.Event()
        self.addCleanup(over.set)

        def hangs(word: str, line: str, peer: Peer) -> bytes | None:
            if "BODY.PEEK[]" in line:
                asked.set()
                over.wait(120)
            return None

        peer = self.peer(hangs)
        self.write("wexagraph.toml", f'[accounts.peer]\nurl = "{peer.url}"\n')
        process = subprocess.Popen(
            [PROGRAM, "--config", "wexagraph.toml", "export", "@peer", "--into", "out", "--as", "eml"],
            cwd=self.folder,
            env={**os.environ, "WEXAGRAPH_PASSWORD": SECRET},
            stderr=subprocess.PIPE,
            text=True,
        )
        self.assertTrue(asked.wait(60))
        for _ in range(2):
            time.sleep(0.5)
            process.send_signal(signal.SIGINT)
        said = process.communicate(timeout=30)[1]  # a dead line is waited for a minute, and then dialled anew
        self.assertEqual(process.returncode, 130, said)
        self.assertIn("interrupted", said)

    def test_a_batch_that_comes_to_a_closed_line(self) -> None:
        account = Account("imap", "127.0.0.1", self.peer().port, "records")
        source = open_source(account, lambda *_: Secret(SECRET))
        envelopes = list(source.envelopes("INBOX"))
        source.close()
        said: list[str] = []

        def late() -> None:
            try:
                source.read(envelopes[0])
            except SourceError as error:
                said.append(str(error))

        thread = threading.Thread(target=late, daemon=True)
        thread.start()
        thread.join(20)
        self.assertEqual(said, ["the line was closed."])

    def test_a_folder_made_anew_meanwhile(self) -> None:
        sessions = []

        def anew(word: str, line: str, peer: Peer) -> bytes | None:
            if word == "EXAMINE":
                sessions.append(word)
                return f"* OK [UIDVALIDITY {len(sessions)}] x\r\n".encode()
            if "BODY.PEEK[]" in line and len(sessions) == 1:
                raise ConnectionError
            return None

        self.assertIn("made anew", self.export(self.peer(anew), code=3))
        # the next run sees another folder, and knows the messages by their bytes
        validity = self.peer(lambda word, line, peer: b"* OK [UIDVALIDITY 99] x\r\n" if word == "EXAMINE" else None)
        self.assertIn("6 written", self.export(validity))

    def test_no_way_to_delete_one(self) -> None:
        said = self.export(self.peer(), "--afterwards", "delete", "--yes", code=3)
        self.assertIn("UIDPLUS", said)
        copied = self.peer(capabilities="IMAP4rev1 UIDPLUS")
        self.export(copied, "--afterwards", "move:Done", "--yes")
        words = [line.partition(" ")[2] for line in copied.lines]
        self.assertIn('CREATE "Done"', words)
        self.assertIn('UID COPY 1:6 "Done"', words)
        self.assertIn("UID EXPUNGE 1:6", words)

    def test_answers_in_pieces(self) -> None:
        def pieces(word: str, line: str, peer: Peer) -> bytes | None:
            if word != "UID FETCH":
                return None
            said = b""
            for uid in peer.asked(line):
                whole = peer.fetch(uid, line)
                before, _, behind = whole.partition(b"FLAGS () ")
                said += before + behind + b"* %d FETCH (UID %d FLAGS (\\Seen))\r\n" % (uid, uid)
                said += b"* %d FETCH (FLAGS (\\Answered))\r\n" % uid
            return said

        self.assertIn("6 written", self.export(self.peer(pieces)))

    def test_what_a_server_spells_otherwise(self) -> None:
        """Sizes that are guesses until a message is read, and header fields that are folded and quoted anew."""

        def guesses(word: str, line: str, peer: Peer) -> bytes | None:
            if word != "UID FETCH" or "HEADER" not in line:
                return None
            said = b""
            for uid in peer.asked(line):
                data = peer.messages[uid - 1]
                size = b"4096" if "PEEK[]" not in line else b"%d" % len(data)
                head = (
                    b'Subject:\r\n =?utf-8?q?Letter_%d?=\r\nFROM: "Ines Halden" <ines.halden@quaysurvey.example>\r\n'
                    % (uid - 1)
                )
                head += b"To: <records@saltmere.example> (Records)\r\nDate: 14 Mar 2026 16:03:00 +0100\r\n\r\n"
                said += b'* %d FETCH (UID %d INTERNALDATE "14-Mar-2026 15:03:00 +0000" RFC822.SIZE %s' % (
                    uid,
                    uid,
                    size,
                )
                said += b" BODY[HEADER.FIELDS (DATE)] {%d}\r\n%s" % (len(head), head)
                said += b" BODY[] {%d}\r\n%s)\r\n" % (len(data), data) if "PEEK[]" in line else b")\r\n"
            return said

        self.assertIn("6 written", self.export(self.peer(guesses)))

    def test_an_empty_message(self) -> None:
        def nil(word: str, line: str, peer: Peer) -> bytes | None:
            asked = peer.asked(line) if "BODY.PEEK[]" in line else []
            return b"".join(b"* %d FETCH (UID %d BODY[] NIL)\r\n" % (uid, uid) for uid in asked) or None

        made = self.peer(nil)
        made.messages = [b""]
        self.assertIn("1 written", self.export(made))

    def test_logging_in(self) -> None:
        made = self.peer(
            lambda word, line, peer: b"TAG NO no\r\n" if word == "LOGIN" and '"records"' not in line else None
        )
        self.assertIn("6 written", self.export(made))
        disabled = self.peer(capabilities="IMAP4rev1 LOGINDISABLED")
        self.assertIn("takes no password on this line", self.export(disabled, code=3))
        self.assertFalse([line for line in disabled.lines if "LOGIN" in line])

    def test_not_connected_for_a_moment(self) -> None:
        said: list[str] = []

        def away(word: str, line: str, peer: Peer) -> bytes | None:
            if word == "UID FETCH" and len(said) < 2:
                said.append(line)
                return b"TAG BAD User is authenticated but not connected.\r\n"
            return None

        self.assertIn("6 written", self.export(self.peer(away)))

    def test_a_folder_that_can_only_be_read(self) -> None:
        def read_only(word: str, line: str, peer: Peer) -> bytes | None:
            if word != "SELECT":
                return None
            return b"* 6 EXISTS\r\n* OK [UIDVALIDITY 7] fine\r\nTAG OK [READ-ONLY] done\r\n"

        made = self.peer(read_only, capabilities="IMAP4rev1 UIDPLUS MOVE")
        self.assertIn("can only be read", self.export(made, "--afterwards", "seen", "--yes", code=3))
        self.assertEqual(made.sessions, 1, "it is said at once")

    def test_keywords_that_are_not_kept(self) -> None:
        def few(word: str, line: str, peer: Peer) -> bytes | None:
            return (
                b"* 6 EXISTS\r\n* OK [UIDVALIDITY 7] fine\r\n* OK [PERMANENTFLAGS (\\Seen Filed)] these\r\n"
                if word == "SELECT"
                else None
            )

        made = self.peer(few)
        self.assertIn("keeps no keyword Sorted", self.export(made, "--afterwards", "keyword:Sorted", "--yes", code=3))
        self.assertFalse([line for line in made.lines if "STORE" in line])
        self.export(made, "--afterwards", "keyword:filed", "--yes")
        self.assertTrue([line for line in made.lines if "STORE" in line])

    def test_a_move_that_is_refused_leaves_no_folder(self) -> None:
        for there in (0, 1):  # whether somebody has put mail into the new folder meanwhile

            def refuses(word: str, line: str, peer: Peer, there: int = there) -> bytes | None:
                status = b'* STATUS "Done" (MESSAGES %d)\r\n' % there if word == "STATUS" else None
                return b"TAG NO not there\r\n" if word == "UID MOVE" else status

            made = self.peer(refuses, capabilities="IMAP4rev1 UIDPLUS MOVE")
            said = self.export(made, "--into", f"out-{there}", "--afterwards", "move:Done", "--yes", code=3)
            self.assertIn("not there", said)
            words = [line.partition(" ")[2] for line in made.lines]
            self.assertIn('CREATE "Done"', words)
            self.assertEqual('DELETE "Done"' in words, not there)

    def test_a_trash_by_its_name(self) -> None:
        made = self.peer(folders=("INBOX", "Gel&APY-schte Elemente"), capabilities="IMAP4rev1 UIDPLUS MOVE")
        self.assertIn("Gelöschte Elemente", self.export(made, "--folder", "INBOX", "--afterwards", "delete", "--yes"))
        self.assertTrue([line for line in made.lines if 'UID MOVE 1:6 "Gel&APY-schte Elemente"' in line])
        none = self.peer(capabilities="IMAP4rev1 UIDPLUS MOVE")
        self.assertIn("for good", self.export(none, "--into", "other", "--afterwards", "delete", "--yes"))

    def test_bodies_that_a_choice_asks_for_come_together_and_once(self) -> None:
        made = self.peer(count=300)
        self.assertIn("300 written", self.export(made, "--body", "Body"))
        self.assertLessEqual(sum("BODY.PEEK[]" in line for line in made.lines), 3)
        made.lines.clear()
        self.assertIn("none with --body nowhere", self.export(made, "--into", "other", "--body", "nowhere"))
        self.assertLessEqual(sum("BODY.PEEK[]" in line for line in made.lines), 3)

    def test_a_search_that_takes_long(self) -> None:
        over = threading.Event()
        self.addCleanup(over.set)

        def slow(word: str, line: str, peer: Peer) -> bytes | None:
            if word == "UID SEARCH" and "SUBJECT" in line:
                over.wait(60)
            return None

        account = replace(parse_url(self.peer(slow).url), search_timeout=0.5)
        with open_source(account, lambda account, again: Secret(SECRET)) as source:
            found = [one.header.subject for one in Choice(criteria=(Criterion("subject", "Letter 4"),)).select(source)]
        self.assertEqual(found, ["Letter 4"], "our own tests have found it")

    def test_a_search_that_says_how_far_it_is(self) -> None:
        class Talking(Peer):
            def _usual(self, word: str, command: str) -> bytes:
                if word == "UID SEARCH":
                    for _ in range(4):
                        time.sleep(0.4)
                        self.handler.wfile.write(b"* OK Searched a part of it\r\n")  # type: ignore[attr-defined]
                return super()._usual(word, command)

            def _serve(self, handler: socketserver.StreamRequestHandler) -> None:
                self.handler = handler
                super()._serve(handler)

        made = Talking([letter("Letter").replace(b"\n", b"\r\n")])
        self.addCleanup(made.close)
        account = replace(parse_url(made.url), search_timeout=1.0)
        with open_source(account, lambda account, again: Secret(SECRET)) as source:
            self.assertEqual(len(list(Choice(criteria=(Criterion("subject", "Letter"),)).select(source))), 1)
        self.assertEqual(made.sessions, 1)

    def test_tokens(self) -> None:
        for capability, mechanism in (("AUTH=OAUTHBEARER", "OAUTHBEARER"), ("AUTH=XOAUTH2", "XOAUTH2")):
            seen: list[str] = []

            def authenticates(word: str, line: str, peer: Peer, seen: list[str] = seen) -> bytes | None:
                if word == "AUTHENTICATE":
                    seen.append(line)
                return None

            class Continuing(Peer):
                capabilities = f"IMAP4rev1 {capability}"

            made = Continuing([letter().replace(b"\n", b"\r\n")], authenticates)
            self.addCleanup(made.close)
            self.write("wexagraph.toml", f'[accounts.peer]\nurl = "{made.url}"\ntoken-command = "printenv TOKEN"\n')
            self.run_program("--config", "wexagraph.toml", "folders", "@peer", env={"TOKEN": SECRET})
            self.assertIn(mechanism, seen[0])
            self.assertIn(
                SECRET,
                base64.b64decode(
                    made.lines[made.lines.index(next(x for x in made.lines if mechanism in x)) + 1]
                ).decode(),
            )


class Pop(PeerTest):
    def pop(self, mood: Callable[[str, PopPeer], bytes | None] | None = None, count: int = 6) -> PopPeer:
        made = PopPeer([letter(f"Letter {n}").replace(b"\n", b"\r\n") for n in range(count)], mood)
        self.addCleanup(made.close)
        return made

    def test_commands_go_ahead_of_answers(self) -> None:
        peer = self.pop(count=120)
        self.assertIn("120 written", self.export(peer))
        self.assertEqual(peer.sessions, 1)
        peer.capabilities = "TOP"
        self.assertIn("120 already there", self.export(peer))
        self.assertFalse([line for line in peer.lines if line.startswith("DELE")])

    def test_one_message_that_breaks_the_line(self) -> None:
        def breaks(line: str, peer: PopPeer) -> bytes | None:
            if line == "RETR 3":
                raise ConnectionError
            return None

        self.assertIn("6 messages chosen: 5 written, 0 already there, 1 failed", self.export(self.pop(breaks), code=1))

    def test_one_message_that_is_refused(self) -> None:
        peer = self.pop(lambda line, _: b"-ERR [SYS/PERM] disk\r\n" if line == "RETR 3" else None)
        output = self.export(peer, code=1)
        self.assertIn("5 written, 0 already there, 1 failed", output)
        self.assertIn("the server says: [SYS/PERM] disk", output)
        self.assertEqual(peer.sessions, 1)

    def test_patience(self) -> None:
        for words in ("[IN-USE] locked", "[SYS/TEMP] later", "[LOGIN-DELAY] wait"):
            left = [words] * 2
            output = self.export(self.pop(lambda line, _, left=left: _later(line, "PASS", left)))  # type: ignore[misc]
            self.assertIn("6 written", output)
            self.assertEqual(left, [])
            shutil.rmtree(self.folder / "out")
        left = ["[SYS/TEMP] later"] * 2
        self.assertIn("6 written", self.export(self.pop(lambda line, _: _later(line, "RETR 4", left))))
        self.assertIn("refused the login", self.export(self.pop(lambda line, _: _later(line, "PASS", ["no"])), code=3))

    def test_strange_answers(self) -> None:
        for word, answer in (
            ("UIDL", b"+OK\r\nx y z\r\n.\r\n"),
            ("UIDL", b"+OK\r\n\xff\r\n.\r\n"),
            ("LIST", b"+OK\r\n1 much\r\n.\r\n"),
            ("UIDL", b"* OK\r\n"),
            ("NOOP", b"\r\n"),
        ):
            peer = self.pop(lambda line, _, word=word, answer=answer: answer if line == word else None)  # type: ignore[misc]
            self.assertNotIn("fault", self.export(peer, code=None))
        peer = self.pop()
        peer.uids[4] = peer.uids[3] = peer.uids[2]  # copies of one message may share an ID
        self.assertIn("6 messages chosen: 6 written", self.export(peer))

    def test_headers_that_a_server_adds_to(self) -> None:
        def marked(line: str, peer: PopPeer) -> bytes | None:
            if line.startswith("TOP"):
                head = peer.messages[int(line.split()[1]) - 1].partition(b"\r\n\r\n")[0]
                return b"+OK\r\n" + head + b"\r\nStatus: RO\r\nX-UID: 7\r\n\r\n.\r\n"
            return None

        self.assertIn("6 written", self.export(self.pop(marked)))

    def test_no_top(self) -> None:
        self.assertIn(
            "6 written", self.export(self.pop(lambda line, peer: b"-ERR what?\r\n" if line.startswith("TOP") else None))
        )

    def test_a_mailbox_that_another_program_has(self) -> None:
        said: list[str] = []

        def locked(line: str, peer: PopPeer) -> bytes | None:
            if line.startswith("PASS") and len(said) < 2:
                said.append(line)
                return b"-ERR mailbox is locked by another session\r\n"
            return None

        self.assertIn("6 written", self.export(self.pop(locked)))
        self.assertEqual(len(said), 2)
        out = self.pop(lambda line, _: b"-ERR account is locked\r\n" if line.startswith("PASS") else None)
        self.assertIn("refused the login", self.export(out, code=3))
        self.assertEqual(out.sessions, 1, "an account that is locked is not tried again")

    def test_tokens(self) -> None:
        for offered, mechanism in (("PLAIN XOAUTH2", "XOAUTH2"), ("OAUTHBEARER XOAUTH2", "OAUTHBEARER")):
            seen: list[str] = []

            def proves(line: str, peer: PopPeer, seen: list[str] = seen) -> bytes | None:
                if line.startswith("AUTH") or seen:
                    seen.append(line)
                return b"+ \r\n" if line.startswith("AUTH") else None

            peer = self.pop(proves)
            peer.capabilities = f"SASL {offered}"
            self.write("wexagraph.toml", f'[accounts.peer]\nurl = "{peer.url}"\ntoken-command = "printenv TOKEN"\n')
            self.run_program("--config", "wexagraph.toml", "folders", "@peer", env={"TOKEN": SECRET})
            self.assertEqual(seen[0], f"AUTH {mechanism}")
            self.assertIn(f"Bearer {SECRET}", base64.b64decode(seen[1]).decode())
            self.assertNotIn("PASS", " ".join(peer.lines))


def _later(line: str, command: str, left: list[str]) -> bytes | None:
    """An error to this command, as often as some are left."""
    return f"-ERR {left.pop()}\r\n".encode() if line.startswith(command) and left else None


class Words(unittest.TestCase):
    def test_a_multipart_without_a_boundary(self) -> None:
        self.assertEqual(leaves(parse([b'("MULTIPART" "MIXED" NIL NIL NIL "7BIT" 10)'])[0]), [])

    def test_folders(self) -> None:
        """Names for people and for the server, at servers that put all folders below INBOX."""
        folders = Folders(Namespace("INBOX.", "."))
        lines = (
            b'(\\Noselect) "." "INBOX.Office"',
            b'() "." "INBOX"',
            b'() "." "INBOX.Office.a/b"',
            b'() "." "INBOX.v1&ICQ-2"',
        )
        folders.add_all([*lines, b'() "." "INBOX.INBOX"', b'() "." "user.ines"', b'() "." "INBOX.INBOX.Slips"'])
        names = {folder.raw: folder.name for folder in folders}
        self.assertEqual(
            names,
            {
                "INBOX": "INBOX",
                "INBOX.Office": "Office",
                "INBOX.Office.a/b": "Office/a\N{DIVISION SLASH}b",
                "INBOX.v1&ICQ-2": "v1.2",
                "INBOX.INBOX": "INBOX (2)",
                "user.ines": "user/ines",
                "INBOX.INBOX.Slips": "INBOX/Slips",
            },
        )
        for raw, name in names.items():
            self.assertEqual(folders.named(name).raw, raw)
        for name, raw in (
            ("New", "INBOX.New"),
            ("v2.0/Ü", "INBOX.v2&ICQ-0.&ANw-"),
            ("inbox", "INBOX"),
            ("a.b", "INBOX.a&ICQ-b"),
        ):
            self.assertEqual((folders.named(name).raw, folders.named(name).exists), (raw, name == "inbox"))
        self.assertEqual(Folders().named("a.b/c").raw, "a.b/c")

    def test_answers(self) -> None:
        self.assertEqual(parse([b'(\\HasNoChildren) "." "a \\"b\\""']), [[b"\\HasNoChildren"], b".", b'a "b"'])
        items = [
            (b"1 (UID 7 BODY[] {3}", b"a)("),
            b" FLAGS (x))",
            b"2 (FLAGS (y))",
            (b"3 (FLAGS () BODY[HEADER.FIELDS (DATE TO)] {2}", b"h\n"),
            b" UID 9)",
        ]
        answers = list(fetched(items))
        self.assertEqual(
            [(f["UID"], f.get("BODY[]"), f.get("HEADER")) for f in answers],
            [(b"7", b"a)(", None), (b"9", None, b"h\n")],
        )
        for broken in ([b"1 ((((((" * 50], [b'1 (UID "'], [b""], [None], [(b"{1}", b"")]):
            list(fetched(broken))
        self.assertEqual(numbers([b"3 1 2"]), [1, 2, 3])
        self.assertEqual(numbers([b'(TAG "A1") UID ALL 1:3,9']), [1, 2, 3, 9])
        self.assertEqual(numbers([b'(TAG "A1") UID']), [])
        self.assertEqual(number_set([1, 2, 3, 9, 11, 12]), "1:3,9,11:12")

    def test_structures(self) -> None:
        structure = (
            b'((("TEXT" "PLAIN" ("CHARSET" "utf-8") NIL NIL "7BIT" 4 1)("TEXT" "HTML" NIL NIL NIL "7BIT" 9 1) "ALTERNATIVE")'
            b'("APPLICATION" "PDF" ("NAME" "x.pdf") NIL NIL "BASE64" 780 NIL ("ATTACHMENT" ("FILENAME*0*" "utf-8\'\'%C3%9C" "FILENAME*1" "b.pdf")))'
            b'("IMAGE" "PNG" NIL "<a>" NIL "BASE64" 78 NIL ("INLINE" NIL)) "MIXED")'
        )
        parts = leaves(parse([structure])[0])
        self.assertEqual(
            [(leaf.name, leaf.type, leaf.size) for leaf in parts],
            [("Üb.pdf", "application/pdf", 570), ("part 1.3.png", "image/png", 57)],
        )
        name = "疏浚.pdf".encode("gb2312")  # against RFC 2231, in the set of the text beside it
        structure = (
            b'(("TEXT" "PLAIN" ("CHARSET" "gb2312") NIL NIL "7BIT" 4 1)("APPLICATION" "PDF" ("NAME" "%b") NIL NIL "BASE64" 78) "MIXED")'
            % name
        )
        self.assertEqual([leaf.name for leaf in leaves(parse([structure])[0])], ["疏浚.pdf"])
        for broken in (b"NIL", b"()", b'("TEXT")', b'(("A" "B"', b"((((", b'("TEXT" NIL NIL)'):
            leaves((parse([broken]) or [None])[0])

    def test_names(self) -> None:
        for name in ("INBOX", "Übersee", "A&B", "東側", "mixed & Ü/x"):
            self.assertEqual(decode_utf7(encode_utf7(name)), name)
        self.assertEqual(encode_utf7("Über"), "&ANw-ber")
        self.assertEqual(decode_utf7("&broken"), "&broken")

    def test_programs(self) -> None:
        def program(*criteria: tuple[str, str], but: tuple[tuple[str, str], ...] = ()) -> tuple[str | bytes, ...]:
            choice = Choice(criteria=tuple(Criterion(*c) for c in criteria))
            return search_program(choice._cheap_first, [Criterion(*c) for c in but])

        self.assertEqual(program(("subject", 'a "b"')), ("SUBJECT", '"a \\"b\\""'))
        self.assertEqual(program(("subject", "x*long piece*y")), ("SUBJECT", '"long piece"'))
        self.assertEqual(program(("subject", "*")), ())
        self.assertEqual(
            program(("subject", "one"), ("subject", "two")), ("OR", "SUBJECT", '"one"', "SUBJECT", '"two"')
        )
        self.assertEqual(program(("subject", "one"), ("subject", "*")), ())
        self.assertEqual(
            program(("subject", "Möwe"), ("larger", "1KB")), ("LARGER", "1024", "SUBJECT", "Möwe".encode())
        )
        self.assertEqual(program(("subject", "Möwe"), ("subject", "b c")), ())
        self.assertEqual(
            program(but=(("keyword", "Done"), ("from", "x"), ("seen", ""))), ("NOT", "KEYWORD", "Done", "NOT", "SEEN")
        )
        since = " ".join(map(str, program(("since", "1991-03-01"))))
        self.assertEqual(since, 'NOT HEADER DATE " 1990 " NOT HEADER DATE " Jan 1991 "')
        either = program(("since", "1991-01-14"), ("since", "1992-01-01"))
        self.assertEqual(either[:6], ("OR", "(NOT", "HEADER", "DATE", '" 1990 ")', "(NOT"))
        self.assertEqual(program(("since", "0001-01-01"), ("before", "9999-12-31")), ())
        self.assertEqual(program(("subject", "a\r\nb")), ())

    def test_urls(self) -> None:
        account = parse_url("imaps://a%40b.example@mail.example:1993/Office/%C3%9Cbersee")
        self.assertEqual((account.user, account.port, account.folder), ("a@b.example", 1993, "Office/Übersee"))
        self.assertEqual(parse_url(account.url), account)
        for wrong in (
            "imaps://mail.example/",
            "imaps://u:p@mail.example/",
            "ftp://u@x/",
            "imaps://u@x:abc/",
            "pop://u@x/folder",
        ):
            self.assertRaises(CallError, parse_url, wrong)
