"""Every kind of source through the program: recognised from what is there, read without touching it."""

from __future__ import annotations

import io
import os
import re
import stat
import subprocess
import zipfile

from tests.helpers import PROGRAM, ProgramTest, letter, mbox


class Kinds(ProgramTest):
    def folders(self, source: object, code: int = 0) -> dict[str, int]:
        output = self.run_program("folders", source, "--csv", code=code).stdout
        return {line.split(",")[0]: int(line.split(",")[1]) for line in output.split("\n")[1:] if line}

    def test_one_message(self) -> None:
        self.write("post", letter("No suffix"))
        self.assertEqual(self.folders("post"), {"post": 1})
        self.assertEqual(self.subjects("post"), ["No suffix"])

    def test_a_folder_of_messages_and_below(self) -> None:
        self.write("in/one.eml", letter("one"))
        self.write("in/2026/March/two", letter("two"))
        self.write("in/2026/notes.txt", "no mail at all")
        self.assertEqual(self.folders("in"), {"2026/March": 1, "in": 1})

    def test_an_mbox_whatever_its_name(self) -> None:
        self.write("archive.dat", mbox(letter("one"), letter("two")))
        self.assertEqual(self.folders("archive.dat"), {"archive": 2})

    def test_a_folder_of_mboxes(self) -> None:
        self.write("in/Berths.mbox", mbox(letter("one")))
        self.write("in/Old/Dredging", mbox(letter("two"), letter("three")))
        self.assertEqual(self.folders("in"), {"Berths": 1, "Old/Dredging": 2})

    def test_a_maildir_with_folders_and_flags(self) -> None:
        self.write("md/cur/100.a.host:2,RS", letter("seen"))
        self.write("md/new/101.b.host", letter("new"))
        self.write("md/tmp/102.c.host", letter("half delivered"))
        self.write("md/.Berths.East/cur/103.d.host:2,F", letter("east"))
        self.write("md/.&ANw-bersee/new/104.e.host", letter("overseas"))
        (self.folder / "md/.Berths/cur").mkdir(parents=True)
        (self.folder / "md/.Berths/new").mkdir()
        self.assertEqual(self.folders("md"), {"Berths": 0, "Berths/East": 1, "INBOX": 2, "Übersee": 1})
        rows = {row["subject"]: row for row in self.listed("md")}
        self.assertEqual(rows["seen"]["flags"], "answered seen")
        self.assertEqual(rows["east"]["flags"], "flagged")
        self.assertEqual(rows["new"]["flags"], "")

    def test_a_maildir_whose_names_are_not_unique(self) -> None:
        for place, subject in (("cur/1.quay:2,S", "seen"), ("cur/1.quay:2,", "once more"), ("new/1.quay", "new")):
            self.write(f"post/{place}", letter(subject))
        (self.folder / "post/tmp").mkdir()
        self.assertEqual(sorted(self.subjects("post")), ["new", "once more", "seen"])
        self.run_program("export", "post", "--into", "out", "--as", "eml")
        self.assertEqual(len({(self.folder / "out" / name).read_bytes() for name in self.made("out")}), 3)

    def test_zips_of_all_of_these(self) -> None:
        with zipfile.ZipFile(self.folder / "all.zip", "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("letters/one.eml", letter("one"))
            archive.writestr("box.mbox", mbox(letter("two"), letter("three")))
            archive.writestr("md/cur/1.a:2,S", letter("four"))
            archive.writestr("inner.zip", b"PK\x05\x06" + bytes(18))
        done = self.run_program("list", "all.zip", "--csv", code=1)
        for word in ("one", "two", "three", "four"):
            self.assertIn(word, done.stdout)
        self.assertIn("inner.zip", done.stderr)

    def test_a_message_whose_from_field_lost_its_colon(self) -> None:
        data = b"From Ines <ines@quaysurvey.example>\nSubject: No colon\n\nNothing is cut off.\n"
        self.write("in/a.eml", data)
        self.run_program("export", "in", "--into", "out", "--as", "eml")
        self.assertEqual((self.folder / "out" / self.made("out")[0]).read_bytes(), data)

    def test_errors_name_what_was_looked_for(self) -> None:
        self.write("notes.txt", "this is no mail")
        self.write("empty", "")
        (self.folder / "nothing").mkdir()
        self.write("broken.zip", b"PK\x03\x04 and then nothing of use")
        os.mkfifo(self.folder / "pipe")
        for source, words in [
            ("notes.txt", "is not a mailbox that Wexagraph can read"),
            ("empty", "is empty"),
            ("nothing", "holds no mail"),
            ("broken.zip", "can't be opened as a ZIP"),
            ("pipe", "is a pipe or a device"),
            ("nots.txt", "Did you mean notes.txt?"),
            ("no/where/at-all", "does not exist"),
            ("ftp://somewhere/", "is not an account"),
        ]:
            with self.subTest(source):
                done = self.run_program("folders", source, code=2 if "://" in source else 3)
                self.assertIn(words, done.stderr)
                self.assertEqual(done.stdout, "")

    def test_reading_changes_nothing(self) -> None:
        self.write("md/new/1.a", letter("new"))
        self.write("md/cur/2.b:2,", letter("old"))
        self.write("box", mbox(letter("x")))
        before = self.state()
        for source in ("md", "box"):
            self.run_program("folders", source)
            self.run_program("list", source, "--body", "survey")
            self.run_program("export", source, "--into", "out", "--as", "eml,mbox,zip")
        self.assertEqual(self.state(), before)

    def state(self) -> dict[str, tuple[bytes, int]]:
        state = {}
        for top in ("md", "box"):
            root = self.folder / top
            for path in [root, *root.rglob("*")] if root.is_dir() else [root]:
                about = path.stat()
                state[str(path)] = (b"" if path.is_dir() else path.read_bytes(), about.st_mtime_ns)
        return state

    def test_a_read_only_source(self) -> None:
        path = self.write("box", mbox(letter("x")))
        path.chmod(stat.S_IRUSR)
        self.assertEqual(self.subjects("box"), ["x"])


class Mbox(ProgramTest):
    def out(self, content: bytes) -> list[bytes]:
        """The messages that an export of an mbox gives, in the order of their subjects."""
        self.write("box", content)
        self.run_program("export", "box", "--into", "out", "--as", "eml", "--name", "{subject}")
        return [(self.folder / "out" / name).read_bytes() for name in self.made("out", ".eml")]

    def test_from_lines_are_restored(self) -> None:
        body = "Dear all,\n\nFrom the first of May.\n>From that day.\n>>From it.\n> From here\nFromage\n"
        given = letter("a", body=body)
        self.assertEqual(self.out(mbox(given)), [given])

    def test_a_from_line_in_the_text_that_nobody_quoted(self) -> None:
        given = letter("a", body="Dear all,\n\nFrom now on the fee is 12 crowns.\n")
        content = b"From x@y.example Sat Mar 14 15:03:00 2026\n" + given + b"\n"
        self.assertEqual(self.out(content), [given])

    def test_line_ends_of_the_other_kind(self) -> None:
        given = [letter(name).replace(b"\n", b"\r\n") for name in ("a", "b")]
        content = b"".join(b"From x@y.example Sat Mar 14 15:03:00 2026\r\n" + data + b"\r\n" for data in given)
        self.assertEqual(self.out(content), given)

    def test_cut_short(self) -> None:
        whole = mbox(letter("a"), letter("b", body="second words\n"))
        output = self.out(whole[:-9])
        self.assertEqual(len(output), 2)
        self.assertEqual(output[0], letter("a"))

    def test_separators_in_odd_places(self) -> None:
        """Messages around the size of the reader's blocks, so that separators fall on every side of an edge."""
        given = []
        for number in range(40):
            size = 4 * 1024 * 1024 // 8 + (number * 37) % 1100 - 300
            given.append(letter(f"m{number:02d}", body="x" * 75 + "\n" + "knots and bends\n" * (size // 16)))
        self.assertEqual(self.out(mbox(*given)), given)

    def test_separators_without_a_date(self) -> None:
        given = [letter("a"), letter("b")]
        self.assertEqual(self.out(b"".join(b"From someone\n" + data + b"\n" for data in given)), given)

    def test_status_and_keywords(self) -> None:
        self.write(
            "box",
            mbox(
                letter("a", more="Status: RO\nX-Status: AF\nX-Keywords: case-7, done\n"),
                letter("b", more="Status: O\n"),
            ),
        )
        rows = {row["subject"]: row["flags"] for row in self.listed("box")}
        self.assertEqual(rows, {"a": "answered case-7 done flagged seen", "b": ""})
        self.assertEqual(self.subjects("box", "--keyword", "done"), ["a"])
        self.assertEqual(self.subjects("box", "--unseen"), ["b"])

    def test_the_separators_date_stands_in(self) -> None:
        self.write("box", b"From a@b.example Sat Mar 14 15:03:00 2026\nSubject: undated\n\nx\n")
        self.assertEqual(self.listed("box")[0]["date"], "2026-03-14T15:03:00+00:00")


class Ids(ProgramTest):
    def test_they_stay_while_a_mailbox_grows(self) -> None:
        path = self.write("box", mbox(letter("a"), letter("b")))
        before = {row["subject"]: row["id"] for row in self.listed("box")}
        path.write_bytes(path.read_bytes() + mbox(letter("c")))
        after = {row["subject"]: row["id"] for row in self.listed("box")}
        self.assertEqual({s: after[s] for s in before}, before)
        self.assertEqual(len(set(after.values())), 3)
        self.assertTrue(all(re.fullmatch(r"[0-9a-z]{10}", id) for id in after.values()))

    def test_they_stay_when_a_flag_changes(self) -> None:
        self.write("md/new/1.a", letter("a"))
        before = self.listed("md")[0]["id"]
        (self.folder / "md/cur").mkdir()
        os.rename(self.folder / "md/new/1.a", self.folder / "md/cur/1.a:2,S")
        self.assertEqual(self.listed("md")[0]["id"], before)

    def test_show(self) -> None:
        self.write("in/one.eml", letter("one", body="Hello \x1b[31mred\u202e\n"))
        id = self.listed("in")[0]["id"]
        output = self.run_program("show", "in", id, "--headers").stdout
        for words in ("Subject  one", "Ines Halden <ines.halden@quaysurvey.example>", "Hello [31mred", "text/plain"):
            self.assertIn(words, output)
        self.assertNotIn("\x1b", output)
        self.assertNotIn("\u202e", output)
        self.assertIn("there is no message 'nonsense'", self.run_program("show", "in", "nonsense", code=2).stderr)


class Unreadable(ProgramTest):
    """What can't be read is said and counted, and the rest comes out."""

    def test_a_file_that_fails_when_read(self) -> None:
        self.write("in/good.eml", letter("good"))
        os.symlink("/proc/self/mem", self.folder / "in/bad.eml")
        os.symlink("/nowhere/at/all", self.folder / "in/gone.eml")
        done = self.run_program("export", "in", "--follow-links", "--into", "out", "--as", "eml", code=1)
        self.assertIn("2 messages chosen: 1 written, 0 already there, 1 failed.", done.stdout)
        self.assertIn("bad.eml", done.stdout)
        self.assertIn("gone.eml", done.stdout)
        self.assertEqual(len(self.made("out", ".eml")), 1)

    def test_a_damaged_member_of_a_zip(self) -> None:
        path = self.folder / "in.zip"
        with zipfile.ZipFile(path, "w", zipfile.ZIP_STORED) as archive:
            archive.writestr("a.eml", letter("a"))
            archive.writestr("b.eml", letter("b", body="second body " * 30))
        data = path.read_bytes()
        path.write_bytes(data.replace(b"second body", b"sabotage!!!", 1))
        done = self.run_program("export", "in.zip", "--into", "out", "--as", "eml", code=1)
        self.assertIn("1 written, 0 already there, 1 failed", done.stdout)

    def test_damage_in_every_way_of_packing(self) -> None:
        inner = io.BytesIO()
        with zipfile.ZipFile(inner, "w") as archive:
            archive.writestr("x.eml", letter("inside"))
        for method in (zipfile.ZIP_DEFLATED, zipfile.ZIP_BZIP2, zipfile.ZIP_LZMA):
            path = self.folder / f"{method}.zip"
            with zipfile.ZipFile(path, "w", method) as archive:
                for name in ("a.eml", "b.eml", "c.eml"):
                    archive.writestr(name, letter(name, body="the pilot boards at the buoy\n" * 90))
                archive.writestr("d.mbox", mbox(letter("d")))
                archive.writestr("e.zip", inner.getvalue()[:-30])
            data = bytearray(path.read_bytes())
            for name in (b"b.eml", b"d.mbox"):
                at = data.index(name) + len(name)
                data[at + 9 : at + 20] = b"\xee" * 11
            path.write_bytes(data)
            done = self.run_program("export", path, "--into", f"out{method}", "--as", "eml", code=1)
            self.assertIn("3 messages chosen: 2 written, 0 already there, 1 failed.", done.stdout)
            for name in ("b.eml", "d.mbox", "e.zip"):
                self.assertIn(name, done.stdout)
            self.run_program("list", path, code=1)

    def test_a_zip_bomb(self) -> None:
        with zipfile.ZipFile(self.folder / "in.zip", "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("good.eml", letter("good"))
            with archive.open("bomb.eml", "w", force_zip64=True) as file:
                file.write(letter("bomb"))
                for _ in range(300):
                    file.write(bytes(1024 * 1024))
        done = self.run_program("export", "in.zip", "--into", "out", "--as", "eml", code=1)
        self.assertIn("refused", done.stdout)
        self.assertEqual(len(self.made("out", ".eml")), 1)

    def test_a_locked_zip_member(self) -> None:
        path = self.folder / "in.zip"
        with zipfile.ZipFile(path, "w") as archive:
            archive.writestr("a.eml", letter("a"))
            archive.writestr("b.eml", letter("b"))
        data = bytearray(path.read_bytes())
        data[data.rindex(b"PK\x01\x02") + 8] |= 1  # the encryption bit in the last central entry
        path.write_bytes(data)
        done = self.run_program("list", "in.zip", code=1)
        self.assertIn("locked with a password", done.stderr)

    def test_symbolic_links_to_folders_are_not_followed(self) -> None:
        self.write("in/a.eml", letter("a"))
        os.symlink(self.folder / "in", self.folder / "in/loop")
        done = self.call_program("list", "in", "--follow-links", code=1)
        self.assertIn("1 message,", done.stdout)
        self.assertIn("a symbolic link to a folder, which is not followed", done.stderr)


class NotAllowed(ProgramTest):
    def test_what_may_not_be_read_or_written_has_not_gone(self) -> None:
        self.write("in/a.eml", letter())
        for name in ("in", "out"):
            (self.folder / name).mkdir(exist_ok=True)
            (self.folder / name).chmod(0o500 if name == "out" else 0)
        for command in (
            ["list", "in"],
            ["list", "in/a.eml"],
            ["export", "in", "--into", "x"],
            ["backup", "box", "--into", "out/bk"],
            ["export", "box", "--into", "out/x"],
        ):
            self.write("box", mbox(letter()))
            done = subprocess.run(
                ["setpriv", "--bounding-set=-dac_override,-dac_read_search", PROGRAM, *command],
                cwd=self.folder,
                capture_output=True,
                text=True,
                check=False,
            )
            self.assertNotEqual(done.returncode, 0, command)
            self.assertIn("ermission denied", done.stdout + done.stderr, command)
            self.assertNotIn("has gone", done.stderr)
            self.assertNotIn("does not exist", done.stderr)
