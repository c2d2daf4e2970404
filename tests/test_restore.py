"""Giving messages back, and backups that somebody has tampered with: what is hostile, odd, or in the way."""

from __future__ import annotations

import hashlib
import json
import mailbox
import os
import random
import shutil
import time
import unittest
from collections import Counter
from datetime import UTC, datetime

from tests.helpers import letter, mbox
from tests.peers import Peer
from tests.running import RunTest
from tests.test_backup import BackupTest, digest, numbered
from tests.test_peers import PeerTest
from wexagraph.messages.headers import Header
from wexagraph.output.sinks.base import Delivery
from wexagraph.output.sinks.eml_folder import EmlFolderSink
from wexagraph.output.sinks.maildir import MaildirSink
from wexagraph.output.sinks.mbox import MboxSink
from wexagraph.output.sinks.zip import ZipSink
from wexagraph.sources.base import Envelope


def given(data: bytes, folder: str = "in", flags: str = "", arrived: datetime | None = None) -> Delivery:
    envelope = Envelope(folder, "1", len(data), Header(b""), "s", frozenset(flags.split()), arrived)
    return Delivery(envelope, data, digest(data))


class Targets(BackupTest):
    ARRIVED = datetime(2026, 3, 14, 15, 3, tzinfo=UTC)

    def test_a_maildir_as_others_read_it(self) -> None:
        target = MaildirSink(self.folder / "md")
        table = {"": "", "seen": "S", "flagged seen answered": "FRS", "draft deleted": "DT", "$forwarded filed": "P"}
        for number, flags in enumerate(table):
            target.put(given(letter(f"L{number}"), "INBOX", flags, self.ARRIVED))
        target.put(given(letter("deep"), "Berths/East quay/Übersee", "seen"))
        target.put(given(letter("dots"), "a.b/..", ""))
        box = mailbox.Maildir(self.folder / "md", create=False)
        self.assertEqual(sorted(m.get_flags() for m in box), sorted(table.values()))
        self.assertTrue(all(m["subject"].startswith("L") for m in box))
        self.assertIn("Berths.East quay.&ANw-bersee", box.list_folders())
        times = {path.stat().st_mtime for path in (self.folder / "md/cur").iterdir()}
        self.assertEqual(times, {self.ARRIVED.timestamp()})
        self.assertFalse(list((self.folder / "md").rglob("tmp/*")))
        self.assertFalse((self.folder / "cur").exists())
        self.assertEqual(Counter(row["folder"] for row in self.listed("md"))["Berths/East quay/Übersee"], 1)

    def test_an_mbox_keeps_every_line(self) -> None:
        odd = [
            letter(body="From me to you\n>From them\n>>From both\nend"),
            letter(body="no end"),
            b"Subject: bare\n\n",
            letter(body="a\r\nFrom x\r\n").replace(b"\n", b"\r\n"),
        ]
        target = MboxSink(self.folder / "all.mbox", False)
        for data in odd:
            self.assertFalse(target.has(given(data)))
            target.put(given(data, arrived=self.ARRIVED))
        target.close(True)
        self.assertIn(b"Sat Mar 14 15:03:00 2026\n", (self.folder / "all.mbox").read_bytes())
        again = MboxSink(self.folder / "all.mbox", False)
        self.assertTrue(all(again.has(given(data)) for data in odd if b"\r\n" not in data))
        again.put(given(letter("one more")))
        again.close(True)
        self.assertEqual(len(self.listed("all.mbox")), 5)

    def test_a_zip_grows_and_is_never_half_written(self) -> None:
        path = self.folder / "all.zip"
        for turn in range(3):
            target = ZipSink(path)
            for number in range(4):
                one = given(letter(f"L{number + turn}", body=f"{number + turn}\n"), "a/b")
                self.assertEqual(target.has(one), turn > 0 and number < 3)
                if not target.has(one):
                    target.put(one)
                self.assertEqual(path.exists(), turn > 0)
            target.close(True)
        self.assertEqual(sorted(self.subjects("all.zip")), [f"L{n}" for n in range(6)])

    def test_names_that_differ_only_in_what_a_disk_does_not_keep(self) -> None:
        target = EmlFolderSink(self.folder / "out")
        for subject in ("Tide", "TIDE", "Tide.", "Tide?", "Tide*", "Ti\u0000de"):
            target.put(given(letter(subject)))
        target.put(given(letter("same")))
        self.assertTrue(target.has(given(letter("same"))))
        names = [path.name for path in (self.folder / "out/in").iterdir()]
        self.assertEqual(len({name.casefold() for name in names}), 7)

    def test_what_stands_in_the_way(self) -> None:
        self.write("in.mbox", mbox(letter()))
        self.backup()
        self.write("file", b"mine")
        (self.folder / "dir.mbox").mkdir()
        (self.folder / "dir.zip").mkdir()
        self.write("file.mbox", mbox(letter("old")))
        for target, more, said in (
            ("file", [], "is a file"),
            ("maildir:file", [], "is a file"),
            ("dir.mbox", [], "--by-folder puts one"),
            ("dir.zip", [], "is a folder"),
            ("file.mbox", ["--by-folder"], "is a file"),
            ("file/below", [], "Not a directory"),
            ("pop://u@localhost:1/", [], "Connection refused"),
        ):
            done = self.run_program("restore", "bk", "--into", target, *more, code=None)
            self.assertIn(done.returncode, (2, 3), target)
            self.assertIn(said, done.stderr, target)
        self.assertEqual((self.folder / "file").read_bytes(), b"mine")
        self.assertEqual(self.subjects("file.mbox"), ["old"])

    def test_a_damaged_message_is_one_failure(self) -> None:
        self.write("in.mbox", mbox(*numbered(0, 9)))
        self.backup()
        (volume,) = (self.folder / "bk/data/volumes").iterdir()
        content = bytearray(volume.read_bytes())
        content[len(content) // 2] ^= 8
        volume.write_bytes(content)
        done = self.run_program("restore", "bk", "--into", "out", "--json", code=1)
        report = json.loads(done.stdout)
        self.assertEqual((report["chosen"], report["written"], report["failed"]), (9, 8, 1))
        self.assertIn("wexagraph verify", report["failures"][0]["reason"])
        self.assertEqual(len(list((self.folder / "out").rglob("*.eml"))), 8)


class Interrupted(RunTest):
    def test_killed_and_started_again_nothing_is_doubled(self) -> None:
        self.write("in.mbox", mbox(*numbered(0, 250)))
        self.run_program("backup", "in.mbox", "--into", "bk")
        wanted = sorted(digest(data) for data in numbered(0, 250))
        rng = random.Random(9)
        for target in ("eml", "maildir:md"):
            for _ in range(4):
                process = self.start("restore", "bk", "--into", target)
                time.sleep(0.3 + rng.random() * 0.4)
                process.kill()
                process.communicate()
            self.run_program("restore", "bk", "--into", target)
            root = self.folder / target.removeprefix("maildir:")
            restored = [
                path
                for path in root.rglob("*")
                if path.is_file() and not path.name.endswith(".part") and path.parent.name != "tmp"
            ]
            self.assertEqual(sorted(hashlib.sha256(path.read_bytes()).hexdigest() for path in restored), wanted)
        for target in ("all.mbox", "all.zip"):
            process = self.start("restore", "bk", "--into", target)
            time.sleep(0.5)
            process.kill()
            process.communicate()
            self.run_program("restore", "bk", "--into", target)
            self.assertEqual(len(self.listed(target)), 250)


class Tampered(BackupTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("in.mbox", mbox(*numbered(0, 12)))
        self.backup()
        self.root = self.folder / "bk"

    def test_a_damaged_manifest_is_not_written_on(self) -> None:
        path = self.root / "manifest-sha256.txt"
        whole = path.read_bytes()
        volume = (self.root / "data/volumes/000001.zip").read_bytes()
        for damaged in (
            whole.replace(b"000001", b"000007"),
            (b"e" if whole[:1] == b"f" else b"f") + whole[1:],
            whole[:40],
            b"",
        ):
            path.write_bytes(damaged)
            self.assertIn("was damaged, so nothing is written", str(self.backup(code=3)["said"]))
            self.assertIn("nothing is written", self.run_program("join", "bk", code=3).stderr)
            self.assertEqual((self.root / "data/volumes/000001.zip").read_bytes(), volume)
        self.run_program("verify", "bk", "--repair", "in.mbox")
        self.assertEqual(path.read_bytes(), whole)
        self.assert_whole("bk")

    def test_files_of_somebody_elses_stay(self) -> None:
        mine = {
            "data/volumes/holiday.zip": b"PK mine",
            "data/runs/notes.txt": b"mine",
            "data/volumes/sub/x": b"mine",
            ".wexagraph/kept": b"mine",
            "letter.txt": b"mine",
        }
        for name, content in mine.items():
            self.write(f"bk/{name}", content)
        self.write("in.mbox", mbox(*numbered(0, 14)))
        self.assertEqual(self.backup()["written"], 2)
        for name, content in mine.items():
            self.assertEqual((self.root / name).read_bytes(), content)
        said = self.run_program("verify", "bk", code=1).stdout
        self.assertEqual(said.count("Foreign: "), 4)

    def test_a_volume_that_no_list_has_is_taken_in_or_set_aside(self) -> None:
        volume = (self.root / "data/volumes/000001.zip").read_bytes()
        for tags in self.root.glob("tagmanifest*"):
            tags.unlink()
        other = self.folder / "other"
        self.write("more.mbox", mbox(*numbered(50, 55)))
        self.backup("more.mbox", "other")
        shutil.copyfile(other / "data/volumes/000001.zip", self.root / "data/volumes/000002.zip")
        (self.root / "data/volumes/000003.zip").write_bytes(b"not a volume at all")
        (self.root / "data/runs/2026-01-01T000000Z.jsonl").write_bytes(b"{not a list")
        done = self.run_program("backup", "in.mbox", "--into", "bk")
        self.assertIn("set aside", done.stderr)
        aside = sorted(path.name for path in (self.root / ".wexagraph/set-aside").iterdir())
        self.assertEqual(aside, ["1 000003.zip", "1 2026-01-01T000000Z.jsonl"])
        self.assertEqual((self.root / "data/volumes/000001.zip").read_bytes(), volume)
        self.assertTrue({digest(data) for data in numbered(50, 55)} <= set(self.stored("bk")))
        self.assert_whole("bk")

    def test_lists_and_names_that_attack(self) -> None:
        (path,) = (self.root / "data/runs").iterdir()
        lines = path.read_text("utf-8").splitlines()
        first = json.loads(lines[2])
        hostile = [
            {"folder": "../../up", "stamp": "\x1b[31m"},
            {**first, "place": "\x1b]0;x\x07", "arrived": "no date"},
            {"folder": "=cmd|' /C calc'!A0", "stamp": ""},
            {**first, "flags": ["\x1b[2J", "+1"]},
        ]
        content = "\n".join([*lines[:-1], *(json.dumps(one) for one in hostile), lines[-1]]) + "\n"
        path.write_text(content, "utf-8")
        manifest = self.root / "manifest-sha256.txt"
        known = [line for line in manifest.read_text().splitlines() if path.name not in line]
        manifest.write_text("\n".join([*known, f"{digest(path.read_bytes())}  data/runs/{path.name}"]) + "\n")
        for name in (*self.root.glob("tagmanifest*"), self.root / "catalogue.sqlite"):
            name.unlink()
        for command in (
            ["list", "bk"],
            ["list", "bk", "--csv"],
            ["folders", "bk"],
            ["runs", "bk"],
            ["restore", "bk", "--into", "deep/er/out"],
        ):
            done = self.run_program(*command, code=None)
            self.assertIn(done.returncode, (0, 1, 3), done.stderr)
            self.assertNotIn("\x1b", done.stdout + done.stderr)
        outside = [p for p in self.folder.rglob("*.eml") if "deep/er/out" not in p.as_posix()]
        self.assertEqual(outside, [])

    def test_another_kind_of_file_in_the_place_of_ours(self) -> None:
        (self.root / "data/volumes/000001.zip").unlink()
        (self.root / "data/volumes/000001.zip").symlink_to(self.folder / "in.mbox")
        said = self.run_program("verify", "bk", code=1).stdout
        self.assertIn("Altered: data/volumes/000001.zip", said)
        self.assertIn("1 file altered; 12 messages lost", said)
        self.assertIn("`wexagraph verify bk --repair SOURCE` mends", said)
        self.run_program("restore", "bk", "--into", "out", code=1)
        self.run_program("verify", "bk", "--repair", "in.mbox")
        self.assertFalse((self.root / "data/volumes/000001.zip").is_symlink())
        self.assertEqual(len(self.listed("in.mbox")), 12)  # what the link led to is as it was
        self.assert_whole("bk")


class OnABadLine(PeerTest):
    def restore(self, peer: Peer, code: int = 0, box: bytes = b"") -> dict[str, object]:
        self.write("in.mbox", box or mbox(*numbered(0, 5)))
        if not (self.folder / "bk").exists():
            self.run_program("backup", "in.mbox", "--into", "bk")
        self.write("own.toml", f'[accounts.peer]\nurl = "{peer.url}"\nretries = 3\n')
        done = self.run_program(
            "--config",
            "own.toml",
            "restore",
            "bk",
            "--into",
            "@peer",
            "--yes",
            "--json",
            code=code,
            env={"WEXAGRAPH_PASSWORD": "tidal-4471"},
        )
        self.assertNotIn("tidal-4471", done.stdout + done.stderr)
        return dict(json.loads(done.stdout)) if done.stdout else {"said": done.stderr}

    def test_a_server_that_takes_them(self) -> None:
        peer = self.peer(count=0)
        self.assertEqual(self.restore(peer)["written"], 5)
        appended = [line for line in peer.lines if "APPEND" in line]
        self.assertEqual(len(appended), 5)
        self.assertTrue(all('"14-Mar-2026 15:03:00 +0000"' in line for line in appended), appended[0][:200])
        self.assertTrue(any("CREATE" in line for line in peer.lines))

    def test_what_a_sender_may_write(self) -> None:
        """Messages without an ID are not taken for one another, and what stands for keywords is no command."""
        more = "Status: R\nX-Keywords: Filed, deleted, x) NIL, {9+}, \\Seen, (\n"
        peer = self.peer(count=0)
        report = self.restore(peer, box=mbox(letter("Letter 1", more=more), letter("Letter 2", more=more)))
        self.assertEqual((report["written"], report["already_there"], report["failed"]), (2, 0, 0))
        marks = [line.partition("(")[2].partition(")")[0] for line in peer.lines if "APPEND" in line]
        self.assertEqual(marks, ["filed nil \\Seen"] * 2)

    def test_one_that_it_refuses(self) -> None:
        for reason in (b"CANNOT", b"LIMIT"):

            def refuses(word: str, line: str, peer: Peer, reason: bytes = reason) -> bytes | None:
                is_second = word == "APPEND" and "Letter 2" in line
                return b"TAG NO [" + reason + b"] not this one\r\n" if is_second else None

            with self.subTest(reason):
                peer = self.peer(refuses, count=0)
                report = self.restore(peer, code=1)
                self.assertEqual((report["written"], report["failed"]), (4, 1))
                self.assertIn("not this one", str(report["failures"]))
                self.assertEqual(sum("APPEND" in line for line in peer.lines), 5, "it is not asked again")

    def test_an_account_that_is_full(self) -> None:
        def full(word: str, line: str, peer: Peer) -> bytes | None:
            return b"TAG NO [OVERQUOTA] too much\r\n" if word == "APPEND" and "Letter 2" in line else None

        peer = self.peer(full, count=0)
        self.assertIn("has no room left", str(self.restore(peer, code=3)["said"]))
        self.assertEqual(sum("APPEND" in line for line in peer.lines), 3)  # it is not asked again and again

    def test_a_folder_that_it_does_not_make(self) -> None:
        def refuses(word: str, line: str, peer: Peer) -> bytes | None:
            return b"TAG NO not here\r\n" if word == "CREATE" else None

        self.assertIn("does not make the folder", str(self.restore(self.peer(refuses, count=0), code=3)["said"]))

    def test_a_top_up_where_no_changes_are_counted(self) -> None:
        peer = self.peer(count=6)
        self.write("wexagraph.toml", f'[accounts.peer]\nurl = "{peer.url}"\n')
        env = {"WEXAGRAPH_PASSWORD": "tidal-4471"}
        for wanted in (6, 0):
            peer.lines.clear()
            done = self.run_program("--config", "wexagraph.toml", "backup", "@peer", "--into", "acc", "--json", env=env)
            self.assertEqual(json.loads(done.stdout)["written"], wanted)
            self.assertEqual(any("BODY.PEEK[]" in line for line in peer.lines), wanted > 0)
            self.assertFalse(any("STATUS" in line for line in peer.lines))
            self.assertFalse(any("STORE" in line or "EXPUNGE" in line or "SELECT" in line for line in peer.lines))


if __name__ == "__main__":
    os.environ.setdefault("TZ", "UTC")
    unittest.main()
