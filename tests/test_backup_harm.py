"""Backups in harm's way: killed at any instant, bits flipped, disks full, unwritable or gone."""

from __future__ import annotations

import hashlib
import json
import random
import shutil
import subprocess
import time
import zipfile
from collections import Counter
from pathlib import Path
from unittest import mock

import bagit

from tests.helpers import letter, mbox, rounds
from tests.running import RunTest
from wexagraph.backups.join import join
from wexagraph.backups.repair import repair
from wexagraph.backups.verify import verify
from wexagraph.demo.build import file, message, multipart, text, when
from wexagraph.output.folder import OutputFolder


def mails(start: int, stop: int) -> list[bytes]:
    """Letters of several sizes, some with what does not deflate."""
    rng = random.Random(start)
    mails = []
    for number in range(start, stop):
        if number % 6 == 0:
            parts = multipart(
                "mixed", text("Plan.\n"), file("p.bin", "application/octet-stream", rng.randbytes(90_000))
            )
            mails.append(
                message("a@b.example", "c@d.example", f"Plan {number}", when("2026-03-14", 9, number % 60), parts)
            )
        else:
            mails.append(letter(f"Letter {number}", body=f"Number {number}.\n" * (1 + number % 50)))
    return mails


class Harm(RunTest):
    def assert_sound(self, folder: str, once: bool = True) -> None:
        proved = verify(self.folder / folder, deep=True)
        self.assertTrue(proved.whole, proved.findings)
        digests: Counter[str] = Counter()
        for path in (self.folder / folder / "data/volumes").glob("*.zip"):
            with zipfile.ZipFile(path) as volume:
                digests.update(hashlib.sha256(volume.read(name)).hexdigest() for name in volume.namelist())
        if once:
            self.assertFalse([d for d, count in digests.items() if count > 1], "a message is stored twice")

    def held(self, folder: str) -> list[tuple[str, str]]:
        """What the backup holds at its last run: folder and digest, as exported and digested again."""
        out = self.folder / f"held-{time.monotonic_ns()}"
        self.run_program("restore", folder, "--into", out)
        held = [(p.parent.name, hashlib.sha256(p.read_bytes()).hexdigest()) for p in out.rglob("*.eml")]
        shutil.rmtree(out)
        return sorted(held)

    def killed(self, rng: random.Random, *arguments: object) -> None:
        """Run a command that is gone before one of its steps."""
        self.run_program(*arguments, code=None, end_before=rng.randrange(60))

    def test_killed_at_many_steps(self) -> None:
        rng = random.Random(60)
        folder = self.folder / "in"
        folder.mkdir()
        backup = ("backup", "in", "--into", "bk", "--volume-size", "1MB", "--jobs", "2")
        grown = 0
        for turn in range(rounds(12, 4)):
            # a first run and top-ups, each killed at random steps before it comes to its end; joins and copies too
            fresh = mails(grown, grown + 25)
            (folder / f"part-{turn}.mbox").write_bytes(mbox(*fresh))
            grown += 25
            for _ in range(4):
                self.killed(rng, *backup)
                self.assert_readable()
            if turn % 3 == 2:
                self.killed(rng, "join", "bk", "--volume-size", "4MB")
                self.assert_readable()
                self.run_program("join", "bk", "--volume-size", "4MB")
            if turn % 3:
                self.killed(rng, "copy", "bk", "--into", "bk2")
                copied = verify(self.folder / "bk2") if (self.folder / "bk2/bagit.txt").exists() else None
                self.assertTrue(copied is None or copied.whole, copied)
            self.run_program(*backup)
            self.assert_sound("bk")
        self.run_program("backup", "in", "--into", "undisturbed")
        self.assertEqual(self.held("bk"), self.held("undisturbed"))
        self.assertTrue(bagit.Bag(str(self.folder / "bk")).validate())
        self.run_program("copy", "bk", "--into", "bk2")
        self.assert_sound("bk2")
        self.assertEqual(self.held("bk2"), self.held("undisturbed"))

    def assert_readable(self) -> None:
        """Right after a kill, before anything was mended."""
        if (self.folder / "bk/bagit.txt").exists():
            proof = verify(self.folder / "bk", deep=True)
            self.assertTrue(proof.whole, proof.findings)

    def test_killed_while_only_the_end_was_left_to_do(self) -> None:
        """Every state that the last steps of a run can leave: each is whole, and the next run ends right."""
        self.write("in.mbox", mbox(*mails(0, 20)))
        self.run_program("backup", "in.mbox", "--into", "bk")
        self.write("in.mbox", mbox(*mails(0, 40)))
        self.run_program("backup", "in.mbox", "--into", "end")
        before, after = self.folder / "bk", self.folder / "after"
        shutil.copytree(before, after)
        self.run_program("backup", "in.mbox", "--into", "after")
        tags = ("tagmanifest-sha256.txt", "tagmanifest-sha512.txt")
        new = [
            p
            for p in sorted(after.rglob("*"))
            if p.is_file() and "data" in p.parts and not (before / p.relative_to(after)).exists()
        ]
        steps: list[list[Path]] = [
            [],
            new[:1],
            new,
            [*new, after / "manifest-sha256.txt"],
            [*new, after / "manifest-sha256.txt", after / "bag-info.txt", after / "catalogue.sqlite"],
        ]
        for number, done in enumerate(steps):
            place = self.folder / f"step-{number}"
            shutil.copytree(before, place)
            for name in tags if done else tags[:1]:
                (place / name).unlink()
            for path in done:
                shutil.copyfile(path, place / path.relative_to(after))
            proof = verify(place, deep=True)
            self.assertTrue(proof.whole, (number, proof.findings))
            report = json.loads(self.run_program("backup", "in.mbox", "--into", place, "--json").stdout)
            self.assertEqual(report["failed"], 0)
            self.assert_sound(place.name)
            self.assertEqual(self.held(place.name), self.held("end"), number)

    def test_a_join_that_ends_while_the_old_volumes_go(self) -> None:
        for turn in range(4):
            self.write("in.mbox", mbox(*mails(0, 10 * turn + 10)))
            self.run_program("backup", "in.mbox", "--into", "bk")
        unlink, gone = OutputFolder.unlink, []

        def killed(folder: OutputFolder, path: str) -> None:
            if path.startswith("data/volumes"):
                if gone:
                    raise KeyboardInterrupt
                gone.append(path)
            unlink(folder, path)

        with mock.patch.object(OutputFolder, "unlink", killed), self.assertRaises(KeyboardInterrupt):
            join(self.folder / "bk", 1_000_000_000)
        self.assertEqual(len(list((self.folder / "bk/data/volumes").iterdir())), 4)
        self.assert_readable()
        self.run_program("backup", "in.mbox", "--into", "bk")
        self.assertEqual(len(list((self.folder / "bk/data/volumes").iterdir())), 1)
        self.assert_sound("bk")

    def test_one_flipped_bit_anywhere(self) -> None:
        rng = random.Random(200)
        self.write("in.mbox", mbox(*mails(0, 30)))
        self.run_program("backup", "in.mbox", "--into", "bk")
        self.write("in.mbox", mbox(*mails(0, 45)))
        self.run_program("backup", "in.mbox", "--into", "bk")
        self.run_program("backup", "in.mbox", "--into", "bk")
        self.run_program("copy", "bk", "--into", "copy")
        root = self.folder / "bk"
        files = [p for p in sorted(root.rglob("*")) if p.is_file() and ".wexagraph" not in p.parts]
        whole = {p: p.read_bytes() for p in files}
        wanted = self.held("bk")
        for turn in range(200):
            # every file as often as any other: the small ones are the ones that lists depend on
            path = files[turn % len(files)] if turn < 120 else rng.choices(files, [len(whole[p]) for p in files])[0]
            content = bytearray(whole[path])
            at = rng.randrange(len(content))
            content[at] ^= 1 << rng.randrange(8)
            path.write_bytes(content)
            proof = verify(root)
            named = {finding.path for finding in proof.findings if finding.state != "foreign"}
            with self.subTest(path=path.name, at=at):
                self.assertEqual(named, {path.relative_to(root).as_posix()})
                if turn % 20 and turn % 3:
                    path.write_bytes(whole[path])
                elif turn % 20:
                    mended = repair(root, None, self.folder / "copy")
                    self.assertEqual((mended.whole, mended.repaired), (True, sorted(named)))
                    self.assertTrue(verify(root, deep=True).whole)
                else:
                    source = "in.mbox" if turn % 40 else "copy"
                    done = self.run_program("verify", "bk", "--repair", source, code=None)
                    self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
                    self.assertIn("Mended", done.stdout)
                    self.assertEqual(self.held("bk"), wanted)
            for other, content in whole.items():
                if not other.exists() or other.read_bytes() != content:
                    other.write_bytes(content)

    def test_a_hurt_directory_and_a_hurt_checksum(self) -> None:
        """After the repair each message is there once, and whole for programs that made none of it."""
        self.write("in.mbox", mbox(*mails(1, 6)))
        self.run_program("backup", "in.mbox", "--into", "bk")
        (volume,) = (self.folder / "bk/data/volumes").iterdir()
        whole = volume.read_bytes()
        central = whole.index(b"PK\x01\x02")
        for at, what in (
            (len(whole) - 22, "the end"),
            (central, "the directory"),
            (central + 16, "a CRC"),
            (14, "a CRC in front"),
        ):
            with self.subTest(what):
                content = bytearray(whole)
                content[at] ^= 0x41
                volume.write_bytes(content)
                if what.startswith("a CRC"):
                    listed = (self.folder / "bk/manifest-sha256.txt").read_bytes()
                    old, new = (hashlib.sha256(data).hexdigest().encode() for data in (whole, content))
                    self.write("bk/manifest-sha256.txt", listed.replace(old, new))
                    for tags in (self.folder / "bk").glob("tagmanifest*"):
                        tags.unlink()
                    self.assertIn("CRC-32", self.run_program("verify", "bk", "--deep", code=1).stdout)
                    self.write("bk/manifest-sha256.txt", listed)
                self.run_program("verify", "bk", "--repair", "in.mbox")
                tested = subprocess.run(["unzip", "-tqq", volume], capture_output=True, text=True, check=False)
                self.assertEqual((tested.returncode, tested.stdout), (0, ""))
                with zipfile.ZipFile(volume) as archive:
                    digests = [hashlib.sha256(archive.read(name)).hexdigest() for name in archive.namelist()]
                self.assertEqual(sorted(digests), sorted(hashlib.sha256(data).hexdigest() for data in mails(1, 6)))
                self.assert_sound("bk")
                whole = volume.read_bytes()
                central = whole.index(b"PK\x01\x02")

    def test_a_lost_volume_is_named_and_fetched_again(self) -> None:
        self.write("in.mbox", mbox(*mails(1, 6)))
        self.run_program("backup", "in.mbox", "--into", "bk")
        (volume,) = (self.folder / "bk/data/volumes").iterdir()
        volume.unlink()
        done = self.run_program("verify", "bk", code=1)
        self.assertIn("Missing: data/volumes/000001.zip", done.stdout)
        self.assertIn("Letter 3", done.stdout)
        self.assertIn(
            "is damaged",
            self.run_program("restore", "bk", "--into", "r", code=1).stdout.replace("can't be read", "is damaged"),
        )
        self.write("none.mbox", mbox(letter("Another")))
        done = self.run_program("verify", "bk", "--repair", "none.mbox", code=1)
        self.assertIn("Not mended: data/volumes/000001.zip", done.stdout)
        self.run_program("verify", "bk", "--repair", "in.mbox")
        self.assert_sound("bk")

    def test_a_foreign_file_is_named_and_left(self) -> None:
        self.write("in.mbox", mbox(*mails(1, 3)))
        self.run_program("backup", "in.mbox", "--into", "bk")
        self.write("bk/data/notes.txt", "mine")
        self.assertIn("Foreign: data/notes.txt", self.run_program("verify", "bk", code=1).stdout)
        self.run_program("backup", "in.mbox", "--into", "bk")
        self.assertEqual((self.folder / "bk/data/notes.txt").read_text(), "mine")

    def disk(self, size: str) -> Path:
        place = self.folder / "disk"
        place.mkdir()
        mounted = subprocess.run(
            ["mount", "-t", "tmpfs", "-o", f"size={size}", "none", place], capture_output=True, check=False
        )
        if mounted.returncode:
            self.skipTest("this machine does not let a test mount anything")
        self.addCleanup(subprocess.run, ["umount", "-l", place], capture_output=True)
        return place

    def test_a_full_disk(self) -> None:
        place = self.disk("1500k")
        self.write("in.mbox", mbox(*mails(1, 20)))
        self.run_program("backup", "in.mbox", "--into", place / "bk")
        self.write("in.mbox", mbox(*mails(1, 200)))
        done = self.run_program("backup", "in.mbox", "--into", place / "bk", code=3)
        self.assertIn("no space is left", done.stderr)
        proof = verify(place / "bk", deep=True)
        self.assertTrue(proof.whole, proof.findings)
        subprocess.run(["mount", "-o", "remount,size=30m", place], check=True)
        self.run_program("backup", "in.mbox", "--into", place / "bk")
        self.assert_sound("disk/bk")
        self.assertEqual(len(self.listed("disk/bk")), 199)

    def test_a_stick_that_is_pulled_out(self) -> None:
        self.write("in.mbox", mbox(*mails(0, 400)))
        self.run_program("backup", "in.mbox", "--subject", "Letter 1", "--into", "stick/bk")
        process = self.start("backup", "in.mbox", "--into", "stick/bk")
        time.sleep(0.6)
        (self.folder / "stick").rename(self.folder / "pulled")
        said = process.communicate()[1]
        self.assertIn(process.returncode, (0, 3), said)
        self.assertNotIn("Traceback", said)
        shutil.rmtree(self.folder / "stick", ignore_errors=True)
        (self.folder / "pulled").rename(self.folder / "stick")
        proof = verify(self.folder / "stick/bk", deep=True)
        self.assertTrue(proof.whole, proof.findings)
        self.run_program("backup", "in.mbox", "--into", "stick/bk")
        self.assert_sound("stick/bk")

    def test_two_at_once(self) -> None:
        self.write("in.mbox", mbox(*mails(0, 300)))
        first = self.start("backup", "in.mbox", "--into", "bk")
        time.sleep(0.5)
        second = self.run_program("backup", "in.mbox", "--into", "bk", code=None)
        first.communicate()
        codes = {first.returncode, second.returncode}  # whichever came first on a busy machine
        self.assertTrue(0 in codes and codes <= {0, 3}, second.stderr)
        self.assert_sound("bk")

    def test_ctrl_c_keeps_what_there_is(self) -> None:
        self.write("in.mbox", mbox(*mails(0, 1500)))
        process = self.start("backup", "in.mbox", "--into", "bk")
        while process.poll() is None and not (self.folder / "bk/.wexagraph/staged/run.jsonl").exists():
            time.sleep(0.01)
        time.sleep(0.2)
        process.send_signal(2)
        said = process.communicate()[1]
        self.assertIn(process.returncode, (0, 130), said)
        self.assert_sound("bk")
        self.run_program("backup", "in.mbox", "--into", "bk")
        self.assert_sound("bk")
        self.assertEqual(len(self.listed("bk")), 1500)

    def test_a_copy_that_was_killed_before_a_join(self) -> None:
        """What it had put and not yet listed is joined at the source meanwhile: the next copy knows it for its own."""
        for turn in range(3):
            self.write("in.mbox", mbox(*mails(0, 10 * turn + 10)))
            self.run_program("backup", "in.mbox", "--into", "bk")
            if turn == 1:
                self.run_program("copy", "bk", "--into", "bk2")
        for path in (self.folder / "bk/data/volumes").iterdir():
            shutil.copyfile(path, self.folder / "bk2/data/volumes" / path.name)
        for name in ("tagmanifest-sha256.txt", "tagmanifest-sha512.txt"):
            (self.folder / "bk2" / name).unlink()
        self.run_program("join", "bk")
        self.run_program("copy", "bk", "--into", "bk2")
        self.assert_sound("bk2")
        self.assertEqual(self.held("bk2"), self.held("bk"))

    def test_a_copy_that_is_of_another_backup(self) -> None:
        for name in ("a", "b"):
            self.write(f"{name}.mbox", mbox(letter(name)))
            self.run_program("backup", f"{name}.mbox", "--into", f"bk-{name}")
            time.sleep(1.1)
        done = self.run_program("copy", "bk-a", "--into", "bk-b", code=3)
        self.assertIn("it is not a copy of it", done.stderr)
        self.assert_sound("bk-b")
        self.write("a.mbox", mbox(*mails(0, 30)))
        self.run_program("copy", "bk-a", "--into", "bk-c")
        self.run_program("backup", "a.mbox", "--into", "bk-a")
        self.run_program("join", "bk-a")
        done = self.run_program("copy", "bk-a", "--into", "bk-c")
        self.assertIn("were joined removed", done.stdout.replace("that ", ""))
        self.assert_sound("bk-c")
        self.assertEqual(self.held("bk-a"), self.held("bk-c"))
