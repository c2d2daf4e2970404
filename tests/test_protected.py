"""Protected mail, made by openssl and gpg, opened and proved: what is said of it in lists, pages and registers, by hand, in
orders and in cases; what stays closed; and what is done to deceive."""

from __future__ import annotations

import csv
import json
import os
import re
import shutil
import signal
import subprocess
import tempfile
import time
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from tests.helpers import PROGRAM, ProgramTest, letter
from tests.protected_mail import ENTITY, INSIDE, PASSWORD, Keys, mail

OPENPGP = shutil.which("gpg") is not None


@contextmanager
def _folder() -> Iterator[Path]:
    with tempfile.TemporaryDirectory(prefix="wx-") as folder:  # a short path: the agent listens at a socket in it
        yield Path(folder)


class Protected(ProgramTest):
    keys: Keys
    maxDiff = None

    @classmethod
    def setUpClass(cls) -> None:
        cls.keys = Keys(cls.enterClassContext(_folder()), gpg=OPENPGP)
        cls.addClassCleanup(cls.keys.close)

    def with_keys(self, *names: str, known: tuple[str, ...] = ("root.pem", "withdrawals.pem")) -> tuple[str, ...]:
        home = self.keys.home
        keys = [word for name in names or ("clerk.p12", "clerk-ec.p12") for word in ("--key", str(home / name))]
        trusted = [word for name in known for word in ("--known", str(home / name))]
        return (*keys, "--key-password", "env:TIDE", *trusted)

    def run_program(self, *arguments: object, **options):  # type: ignore[no-untyped-def]
        return super().run_program(*arguments, env={"TIDE": PASSWORD}, **options)

    def words(self, *keys: str) -> dict[str, tuple[str, str]]:
        """What a list says of each message: how it was closed, and of its signatures."""
        done = self.run_program("list", "in", "--columns", "subject,protected,signed", "--csv", *keys)
        return {row["subject"]: (row["protected"], row["signed"]) for row in csv.DictReader(done.stdout.splitlines())}

    def test_smime(self) -> None:
        """Whatever openssl writes is opened and proved as openssl does it."""
        k, signed = self.keys, self.keys.signed()
        changed = signed.replace(b"Pelican. K", b"Pelicam. K")
        cases = {
            "aes": (k.encrypted(), "opened", ""),
            "triple des": (k.encrypted(ENTITY, "clerk", "-des3"), "opened", ""),
            "gcm": (k.encrypted(ENTITY, "clerk", "-aes-256-gcm"), "opened", ""),
            "elliptic": (k.encrypted(ENTITY, "clerk-ec"), "opened", ""),
            "elliptic gcm": (k.encrypted(ENTITY, "clerk-ec", "-aes-128-gcm"), "opened", ""),
            "for another": (k.encrypted(ENTITY, "else"), "closed", ""),
            "signed": (signed, "", "holds"),
            "opaque": (k.signed(ENTITY, "ines", "-nodetach"), "", "holds"),
            "without attributes": (k.signed(ENTITY, "ines", "-noattr"), "", "holds"),
            "signed inside": (k.encrypted(signed), "opened", "holds"),
            "three layers": (k.signed(k.encrypted(signed).decode()), "opened", "holds"),
            "changed": (changed, "", "changed"),
            "by another": (k.signed(ENTITY, "mallory"), "", "other signer"),
            "unknown root": (k.signed(ENTITY, "stranger"), "", "signer unknown"),
            "ended": (k.signed(ENTITY, "old"), "", "expired"),
            "taken back": (k.signed(ENTITY, "gone"), "", "withdrawn"),
            "of a server": (k.signed(ENTITY, "server"), "", "signer unknown"),
            "cut off": (k.encrypted()[:900], "damaged", ""),
            "camellia": (k.encrypted(ENTITY, "clerk", "-camellia256"), "opened", ""),
            "of two": (k.signed(ENTITY, "ines", "-signer", "mallory.pem", "-inkey", "mallory.key"), "", "other signer"),
            "in an old way": (k.signed(ENTITY, "ines", "-md", "sha1"), "", "holds"),
            "without certificate": (k.signed(ENTITY, "mallory", "-nocerts"), "", "signer unknown"),
        }
        oaep = ("cms", "-encrypt", "-binary", "-aes256", "-recip", "clerk.pem", "-keyopt", "rsa_padding_mode:oaep")
        cases["oaep"] = (k.openssl(*oaep, data=ENTITY.encode()), "opened", "")
        for subject, (content, _, _) in cases.items():
            self.write(f"in/{subject}.eml", mail(content, subject))
        wanted = {subject: (protected, signed) for subject, (_, protected, signed) in cases.items()}
        self.assertEqual(self.words(*self.with_keys()), wanted)
        self.assertEqual(self.words()["aes"], ("closed", ""), "without keys")
        self.assertEqual(self.words()["signed"], ("", "not checked"))
        for subject, (_, protected, _) in cases.items():
            shown = self.run_program("show", "in", self._id(subject), *self.with_keys(), "--json").stdout
            told = json.loads(shown)
            self.assertEqual("KITTIWAKE" in told["text"], protected in ("opened", ""), subject)
            if protected == "opened":
                self.assertEqual(
                    "protection-unproved" in {note["code"] for note in told["notes"]}, "gcm" not in subject
                )
        old = json.loads(self.run_program("show", "in", self._id("signed"), *self.with_keys(), "--json").stdout)
        self.assertEqual([layer["state"] for layer in old["protection"]], ["holds"])
        self.assertIn(
            "Ines Carvalho <ines@saltmere.example>; its certificate is known through root.pem", shown and str(old)
        )

    def _id(self, subject: str) -> str:
        done = self.run_program("list", "in", "--columns", "id", "--csv", "--subject", subject)
        lines = self.run_program("list", "in", "--columns", "id,subject", "--csv").stdout.splitlines()
        self.assertTrue(done.stdout)
        return next(row["id"] for row in csv.DictReader(lines) if row["subject"] == subject)

    @unittest.skipUnless(OPENPGP, "gpg is not installed")
    def test_openpgp(self) -> None:
        k = self.keys
        clear = k.gpg("ines", "--armor", "--clear-sign", data=f"{INSIDE}\n".encode())
        inline = k.gpg("ines", "--armor", "--encrypt", "-r", "clerk", data=INSIDE.encode())
        text = b"Content-Type: text/plain; charset=utf-8\r\n\r\n"
        cases = {
            "encrypted": (k.pgp_encrypted(), "opened", ""),
            "signed inside": (k.pgp_encrypted(ENTITY, "--sign"), "opened", "holds"),
            "signed": (k.pgp_signed(), "", "holds"),
            "changed": (k.pgp_signed().replace(b"Pelican. K", b"Pelicam. K"), "", "changed"),
            "unknown key": (k.pgp_signed(ENTITY, "stranger"), "", "signer unknown"),
            "clear": (text + clear, "", "holds"),
            "more beside it": (text + b"Pay at once.\n\n" + clear, "", "holds in part"),
            "in the text": (text + b"Dear clerk,\n\n" + inline, "opened", ""),
            "cut off": (k.pgp_encrypted()[:700] + b"\r\n--pg--\r\n", "damaged", ""),
            "before its key ended": (k.pgp_signed(ENTITY, "ended"), "", "holds"),
        }
        for subject, (content, _, _) in cases.items():
            self.write(f"in/{subject}.eml", mail(content, subject))
        wanted = {subject: (protected, signed) for subject, (_, protected, signed) in cases.items()}
        keys = self.with_keys("clerk-secret.asc", known=("ines.asc", "ended.asc"))
        self.assertEqual(self.words(*keys), wanted)
        by_another = mail(k.pgp_signed(), "by another", "Mallory <mallory@saltmere.example>")
        self.write("in/x.eml", by_another)
        self.assertEqual(self.words(*keys)["by another"], ("", "other signer"))
        self.write("env/.keep", "")
        own = {"GNUPGHOME": str(k.home / "gpg-clerk"), "TIDE": PASSWORD}
        done = super().run_program("list", "in", "--columns", "subject,protected", "--key", "gpg", env=own)
        self.assertRegex(done.stdout, r"encrypted +opened")

    @unittest.skipUnless(OPENPGP, "gpg is not installed")
    def test_nothing_of_a_key_stays(self) -> None:
        """Neither folder nor agent, also after a kill."""
        self.write("in/a.eml", mail(self.keys.pgp_encrypted(), "a"))
        place = self.enterContext(_folder())
        call = ["wexagraph", "show", "in", self._id("a"), *self.with_keys("clerk-secret.asc", known=())]
        run = subprocess.Popen(
            [PROGRAM, *call[1:]],
            cwd=self.folder,
            env=os.environ | {"TMPDIR": str(place), "TIDE": PASSWORD, "GNUPGHOME": str(place)},
            stdout=subprocess.PIPE,
        )
        while not list(place.glob("*/gpg-*")) and run.poll() is None:
            time.sleep(0.01)
        run.send_signal(signal.SIGKILL)
        run.communicate()
        ends = time.monotonic() + 60
        while time.monotonic() < ends and (self._agents(place) or list(place.glob("*/gpg-*"))):
            time.sleep(0.1)
        self.assertEqual(self._agents(place), [])
        self.assertEqual(list(place.glob("*/gpg-*")), [], "no key lies there")
        done = super().run_program(*call[1:], env={"TMPDIR": str(place), "TIDE": PASSWORD})
        self.assertIn("KITTIWAKE", done.stdout)
        self.assertEqual(list(place.glob("wexagraph-*")), [])

    @staticmethod
    def _agents(place: Path) -> list[str]:
        out = []
        for process in Path("/proc").glob("[0-9]*"):
            try:
                line = (process / "cmdline").read_bytes().decode().replace("\0", " ")
            except OSError:
                continue
            out += [line] if "gpg-agent" in line and str(place) in line else []
        return out

    def test_a_key_makes_those_files_again_and_no_others(self) -> None:
        """Originals are as they came; without the key later, what was opened stays. By hand, bound, in an order, in a
        case."""
        self.write("in/plain.eml", letter("Plain"))
        self.write("in/closed.eml", mail(self.keys.encrypted(), "closed"))
        self.write("in/signed.eml", mail(self.keys.signed(), "signed"))
        for more in ((), ("--bind", "all")):
            into = f"out{len(more)}"
            call = ("export", "in", "--into", into, "--as", "pdf,eml", *more)
            self.run_program(*call)
            self.assertNotIn("KITTIWAKE", self._text(into, "closed") if not more else "")
            before = {path: path.read_bytes() for path in (self.folder / into).rglob("*.pdf")}
            done = self.run_program(*call, *self.with_keys()).stdout
            self.assertIn("3 messages chosen: " + ("3 written" if more else "2 written, 1 already there"), done)
            changed = [path for path, content in before.items() if path.read_bytes() != content]
            self.assertEqual(len(changed), 1 if more else 2)
            self.assertIn("KITTIWAKE", self._text(into, ""))
            for again in (call, (*call, *self.with_keys())):
                self.assertIn("0 written, 3 already there", self.run_program(*again).stdout)
            told = csv.DictReader((self.folder / into / "register.csv").read_text("utf-8-sig").splitlines())
            words = {row["Subject"]: (row["Protected"], row["Signed"]) for row in told}
            self.assertEqual(words, {"Plain": ("", ""), "closed": ("opened", ""), "signed": ("", "holds")})
            originals = {path.read_bytes() for path in (self.folder / "in").glob("*.eml")}
            self.assertEqual({path.read_bytes() for path in (self.folder / into).rglob("*.eml")}, originals)
        self.run_program("order", "add", "daily", "--", "export", "in", "--into", "by", *self.with_keys())
        self.run_program("order", "run", "daily")
        self.assertIn("KITTIWAKE", self._text("by", "closed"))
        self.run_program("case", "open", "B-7", "Berth 7", "--records", "records")
        self.run_program("file", "in", "--case", "B-7", "--records", "records", *self.with_keys())
        self.assertIn("KITTIWAKE", self._text("records", "closed"))
        found = self.run_program("find", "KITTIWAKE", "--records", "records").stdout
        self.assertIn("closed", found)
        taken = self.run_program("attachments", "in", "--into", "taken", *self.with_keys()).stdout
        self.assertTrue(list((self.folder / "taken").rglob("*berths.csv")), taken)
        done = self.run_program(
            "register", "in", "--into", "r.csv", "--columns", "subject,protected,signed", *self.with_keys()
        )
        rows = {
            row["Subject"]: row for row in csv.DictReader((self.folder / "r.csv").read_text("utf-8-sig").splitlines())
        }
        self.assertEqual((rows["closed"]["Protected"], rows["signed"]["Signed"]), ("opened", "holds"), done.stdout)
        found = self.run_program("list", "in", "--text", "KITTIWAKE", "--columns", "subject", *self.with_keys()).stdout
        self.assertIn("closed", found)

    def test_an_order_chooses_as_a_clerk_does(self) -> None:
        """By what is inside: what the first run finds, and what has come since."""
        ways = {
            "text": ("--text", "KITTIWAKE"),
            "subject": ("--subject", "true subject"),
            "all": (),
        }
        inner = "Subject: The true subject\r\n" + ENTITY.replace("boundary", 'hp="cipher"; boundary', 1)
        self.write("in/plain.eml", letter("Plain"))
        self.write("in/first.eml", mail(self.keys.encrypted(inner), "first"))
        for name, way in ways.items():
            call = ("export", "in", "--as", "eml,pdf", *way, *self.with_keys())
            self.run_program("order", "add", name, "--", *call, "--into", f"by-{name}")
        for round in ("first", "second"):
            self.write(f"in/{round}.eml", mail(self.keys.encrypted(inner), round))
            self.write(f"in/{round}-other.eml", mail(self.keys.encrypted("Content-Type: text/plain\r\n\r\nNo"), "n"))
            for name, way in ways.items():
                call = ("export", "in", "--as", "eml,pdf", *way, *self.with_keys())
                self.run_program(*call, "--into", f"hand-{name}")
                self.run_program("order", "run", name)
                hand, order = (
                    {path.name: path.read_bytes() for path in (self.folder / f"{by}-{name}").rglob("*.eml")}
                    for by in ("hand", "by")
                )
                found = (1 if round == "first" else 2) * (1 if way else 2) + (not way)
                self.assertEqual((len(hand), set(order)), (found, set(hand)), name)
                self.assertEqual(order, hand, name)

    def test_a_colleague_with_other_keys(self) -> None:
        """What one clerk has opened stays opened, whoever exports into that folder next."""
        self.write("in/one.eml", mail(self.keys.encrypted(), "one"))
        self.write("in/two.eml", mail(self.keys.encrypted(ENTITY, "clerk-ec"), "two"))
        call = ("export", "in", "--into", "out")
        one, two = self.with_keys("clerk.p12"), self.with_keys("clerk-ec.p12")
        self.run_program(*call, *one)
        self.assertNotIn("KITTIWAKE", self._text("out", "two"))
        for keys, written in ((two, 1), (one, 0), (two, 0), ((), 0), (self.with_keys(), 2), (one, 0)):
            self.assertIn(f"{written} written, {2 - written} already", self.run_program(*call, *keys).stdout)
            for name in ("one", "two"):
                self.assertIn("KITTIWAKE", self._text("out", name))

    def test_beside_what_is_signed(self) -> None:
        """What is written into a signed message where no signature covers it never passes for signed."""
        signed = self.keys.signed()
        end = signed.rstrip().rpartition(b"\n")[2].rstrip()
        self.assertTrue(end.startswith(b"--") and end.endswith(b"--"), end)
        third = end[:-2] + b"\r\nContent-Type: text/plain\r\n\r\nPay to 4711.\r\n" + end
        cases = {
            "whole": (signed, "holds"),
            "behind": (signed + b"\r\nPay to 4711.\r\n", "holds in part"),
            "third": (signed.replace(end, third), "holds in part"),
        }
        for name, (content, _) in cases.items():
            self.write(f"in/{name}.eml", mail(content, name))
        self.assertEqual(
            {name: signed for name, (_, signed) in self.words(*self.with_keys()).items()},
            {name: word for name, (_, word) in cases.items()},
        )
        self.run_program("export", "in", "--into", "out", *self.with_keys())
        for name in cases:
            page = self._text("out", name).replace("\n", " ")
            self.assertEqual("stands outside" in page, name != "whole", name)

    def _text(self, into: str, name: str) -> str:
        paths = [path for path in (self.folder / into).rglob("*.pdf") if name in path.name]
        self.assertTrue(paths)
        return "".join(
            subprocess.run(["pdftotext", path, "-"], capture_output=True, text=True).stdout for path in paths
        )

    def test_the_header_inside(self) -> None:
        """It counts where what is around it was opened or holds, and never for who wrote it."""
        inner = ENTITY.replace("boundary", 'hp="cipher"; boundary', 1)
        inner = f"Subject: The true subject\r\nFrom: Mallory <mallory@saltmere.example>\r\n{inner}"
        wrapped = "Content-Type: message/rfc822; forwarded=no\r\n\r\n" + inner
        k = self.keys
        self.write("in/a.eml", mail(k.encrypted(inner), "..."))
        self.write("in/b.eml", mail(k.encrypted(k.signed(wrapped)), "[...]"))
        self.write("in/c.eml", mail(k.signed(inner), "Outside"))
        self.write("in/d.eml", mail(k.signed(inner).replace(b"Pelican. K", b"Pelicam. K"), "Changed"))
        self.write("in/e.eml", mail(k.signed(inner, "stranger"), "Stranger"))
        done = self.run_program("list", "in", "--columns", "from,subject", "--csv", *self.with_keys())
        rows = [(row["from"], row["subject"]) for row in csv.DictReader(done.stdout.splitlines())]
        ines = "Ines Carvalho <ines@saltmere.example>"
        subjects = ["The true subject"] * 3 + ["Changed", "Stranger"]
        self.assertEqual(rows, [(ines, subject) for subject in subjects])
        self.run_program("export", "in", "--into", "out", *self.with_keys())
        names = [path.stem.rpartition(" - ")[2] for path in sorted((self.folder / "out").rglob("*.pdf"))]
        self.assertEqual(
            sorted(set(names)),
            ["Changed", "Stranger", "The true subject", "The true subject (2)", "The true subject (3)"],
        )
        register = (self.folder / "out" / "register.csv").read_text("utf-8-sig")
        self.assertIn("the outer one says otherwise (Subject: Outside)", register)
        self.assertIn("inside, From: Mallory", register)

    def test_deceits(self) -> None:
        """A signed part among others is not the message; nothing of a part reaches another; nothing asks a network."""
        k, signed = self.keys, self.keys.signed()
        begin = b'Content-Type: text/html\r\n\r\n<p>Pay to 4711.</p><img src="http://evil.saltmere.example/'
        mixed = b'Content-Type: multipart/mixed; boundary="m"\r\n\r\n--m\r\n'
        self.write("in/beside.eml", mail(mixed + begin + b'x">\r\n--m\r\n' + signed + b"\r\n--m--\r\n", "beside"))
        torn = (
            mixed
            + begin
            + b"\r\n--m\r\n"
            + k.encrypted()
            + b'\r\n--m\r\nContent-Type: text/html\r\n\r\n">\r\n--m--\r\n'
        )
        self.write("in/torn.eml", mail(torn, "torn"))
        self.issue_by_a_leaf()
        self.write("in/leaf.eml", mail(k.signed(ENTITY, "leaf", "-certfile", "ines.pem"), "leaf"))
        words = self.words(*self.with_keys())
        self.assertEqual(words["beside"], ("", "holds in part"))
        self.assertEqual(words["torn"], ("opened", ""))
        self.assertEqual(words["leaf"], ("", "signer unknown"), "a certificate for mail issues none")
        self.run_program("export", "in", "--into", "out", "--as", "html,pdf", *self.with_keys())
        for path in (self.folder / "out").rglob("*.html"):
            self.assertNotRegex(path.read_text("utf-8"), r'(?i)(?:src|href)="http://evil')
        self.assertIn("KITTIWAKE", self._text("out", "torn"))
        self.assertIn("stands outside", self._text("out", "beside").replace("\n", " "))

    def issue_by_a_leaf(self) -> None:
        k = self.keys
        shutil.copy(k.home / "ines.pem", k.home / "ines-root.pem")
        shutil.copy(k.home / "ines.key", k.home / "ines-root.key")
        k.issue("leaf", "Ines Carvalho", "ines@saltmere.example", root="ines-root")

    def test_what_is_refused(self) -> None:
        self.write("in/a.eml", letter("Berth"))
        self.write("no.p12", b"no key at all")
        cases = {
            ("--key", "no.p12", "--key-password", "env:TIDE"): "it is no PKCS#12 file and no secret key of OpenPGP",
            ("--key", "none.p12", "--key-password", "env:TIDE"): "none.p12 can't be read",
            ("--key", str(self.keys.home / "clerk.p12")): "there is no terminal to ask at",
            ("--known", "no.p12"): "holds no certificate, withdrawal list or public key",
            ("--key", "@office"): "no key is called @office",
        }
        for call, wanted in cases.items():
            said = self.run_program("list", "in", *call, code=2).stderr
            self.assertIn(wanted, said)
            self.assertNotIn(PASSWORD, said)
        wrong = super().run_program("list", "in", *self.with_keys(), env={"TIDE": "fog"}, code=2).stderr
        self.assertIn("its password is another", wrong)
        far = ("export", "in", "--into", "out", "--cluster", "tcp://127.0.0.1:1", *self.with_keys())
        self.assertIn("keys do not leave this machine", self.run_program(*far, code=2).stderr)
        order = ("order", "add", "x", "--", "export", "in", "--into", "out", "--key", "no.p12", "--key-password", "fog")
        self.assertTrue(re.search("keeps no secret|never stands", self.run_program(*order, code=2).stderr))
