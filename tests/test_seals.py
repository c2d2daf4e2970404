"""Seals and time stamps: made by us and proved by openssl, whose own authority answers; altered in each way, and named."""

from __future__ import annotations

import hashlib
import json
import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing, contextmanager
from pathlib import Path
from unittest import mock

import bagit

from tests.authority import Authority
from tests.helpers import ProgramTest, letter, mbox, rounds
from tests.tagged_pdf import check_tagged, conforms
from wexagraph.output.target import Target

LIST = "manifest-sha256.txt"


class Sealing(ProgramTest):
    authority: Authority

    @classmethod
    def setUpClass(cls) -> None:
        cls.home = cls.enterClassContext(_folder())
        cls.authority = Authority(cls.home)
        cls.addClassCleanup(cls.authority.close)

    def setUp(self) -> None:
        super().setUp()
        self.authority.mood = ""
        self.write("in.mbox", mbox(*(letter(f"Berth {number}") for number in range(2))))

    def key(self, name: str = "seal.p12") -> tuple[str, ...]:
        return ("--seal", str(self.home / name), "--seal-password", "env:TIDE")

    def run_program(self, *arguments: object, **options):  # type: ignore[no-untyped-def]
        return super().run_program(*arguments, env={"TIDE": self.authority.password}, **options)

    def export(self, *more: str, code: int = 0, formats: str = "eml") -> str:
        call = ("export", "in.mbox", "--as", formats, "--into", "out", *self.key(), *more)
        done = self.run_program(*call, code=code)
        return done.stdout + done.stderr

    def verify(self, *roots: Path, code: int = 0) -> str:
        known = [word for root in roots for word in ("--known", str(root))]
        return self.run_program("verify", "out", *known, code=code).stdout

    def prove(self, folder: str = "out", home: Path | None = None, place: str = "", name: str = LIST) -> None:
        """As HOW-TO-PROVE.txt says, without our program."""
        home, at = home or self.home, f"{place}{name}"
        cms = ("openssl", "cms", "-verify", "-binary", "-inform", "DER", "-in", f"{at}.p7s", "-content", at)
        by = (
            "-certfile",
            "seal-certificates.pem",
            "-CAfile",
            home / "root.pem",
            "-purpose",
            "any",
            "-out",
            "/dev/null",
        )
        stamp = ("openssl", "ts", "-verify", "-data", at, "-in", f"{at}.tsr", "-CAfile", home / "stamps-root.pem")
        for command in ((*cms, *by), (*stamp, "-untrusted", "seal-certificates.pem")):
            done = subprocess.run(list(map(str, command)), cwd=self.folder / folder, capture_output=True, text=True)
            self.assertEqual(done.returncode, 0, done.stderr)
            output = (self.folder / folder / "HOW-TO-PROVE.txt").read_text()
            self.assertIn(f"{command[1]} -verify", output)
        if not place:
            for each in {name, LIST}:
                check = ("sha256sum", "--check", "--strict", "--quiet", each)
                subprocess.run(check, cwd=self.folder / folder, check=True)

    def test_openssl_proves_what_was_sealed(self) -> None:
        said = self.export("--stamp", self.authority.url)
        self.assertIn("Sealed by Port of Saltmere.", said)
        self.assertIn("Stamped: 20", said)
        self.prove()
        self.assertLess(sum((self.folder / f"out/{LIST}.{end}").stat().st_size for end in ("p7s", "tsr")), 10_000)
        self.assertIn("is not proved: nothing in --known leads to its certificate", self.verify())
        output = self.verify(self.home / "root.pem", self.home / "stamps-root.pem")
        self.assertIn("Its certificate is known through root.pem.", output)
        self.assertIn("Its certificate is known through stamps-root.pem.", output)
        self.assertIn("0 missing, 0 altered; 0 foreign", output)
        self.assertNotIn(self.authority.password, "".join(map(str, (self.folder / "out").rglob("*"))))
        for path in (self.folder / "out").rglob("*"):
            self.assertFalse(path.is_file() and b"tide" in path.read_bytes(), path)
        asked = self.authority.asked
        self.assertNotIn("Sealed", self.export("--stamp", self.authority.url), "it is sealed so already")
        self.assertEqual(self.authority.asked, asked)

    def test_an_earlier_seal_is_kept_with_its_list(self) -> None:
        self.export("--stamp", self.authority.url)
        before = (self.folder / "out" / LIST).read_bytes()
        self.export("--stamp", self.authority.url, formats="eml,text")
        self.assertEqual((self.folder / "out/seals/0001" / LIST).read_bytes(), before)
        self.prove()
        self.prove(place="seals/0001/")
        self.run_program("export", "in.mbox", "--as", "eml,text,html", "--into", "out")
        self.assertFalse((self.folder / f"out/{LIST}.p7s").exists(), "nothing says that what is new was sealed")
        report = json.loads(self.run_program("verify", "out", "--json").stdout)
        self.assertEqual([one["list"] for one in report["seals"]], [f"seals/000{n}/{LIST}" for n in (1, 2)])
        (self.folder / "share").mkdir()
        self.run_program("deliver", "out", "--into", "share")
        self.run_program("verify", "share/out")
        self.prove("share/out", place="seals/0002/")

    def test_killed_while_it_grows(self) -> None:
        """Whichever step was the last, the next run leaves a folder whose seals hold."""
        self.export("--stamp", self.authority.url)
        shutil.copytree(self.folder / "out", self.folder / "before")
        grow = ("export", "in.mbox", "--as", "eml,text", "--into", "out", *self.key(), "--stamp", self.authority.url)
        self.run_program(*grow, end_before=10_000)
        for step in range(0, self.steps, rounds(1, 9)):
            shutil.rmtree(self.folder / "out")
            shutil.copytree(self.folder / "before", self.folder / "out")
            self.run_program(*grow, code=None, end_before=step)
            self.run_program(*grow)
            output = json.loads(self.run_program("verify", "out", "--json").stdout)
            self.assertTrue(output["whole"], step)
            self.assertEqual({one["list"].rpartition("/")[2] for one in output["seals"]}, {LIST})
            self.assertGreaterEqual(len(output["seals"]), 2, step)

    def test_while_another_run_writes(self) -> None:
        """Nothing is sealed that changes meanwhile; whoever seals second finds it sealed."""
        self.run_program("export", "in.mbox", "--as", "eml", "--into", "out")
        call = ("seal", "out", *self.key(), "--stamp", self.authority.url)
        secret = mock.patch.dict("os.environ", {"TIDE": self.authority.password})
        with closing(Target(self.folder / "out")), mock.patch("wexagraph.seals.sealing._PATIENCE", 0.1), secret:
            done = self.call_program(*call, code=3)
            self.assertIn("is being written to", done.stderr)
        self.assertFalse((self.folder / f"out/{LIST}.p7s").exists())
        with ThreadPoolExecutor(2) as clerks:
            said = list(clerks.map(lambda _: self.run_program(*call).stdout, range(2)))
        self.assertEqual(sum("Sealed by" in each for each in said), 1)
        self.assertFalse((self.folder / "out/seals").exists())
        self.prove()

    def test_a_sealed_case_is_packed_and_proved(self) -> None:
        records = ("--records", "records")
        self.run_program("case", "open", "7", "Fog", *records)
        self.run_program("file", "in.mbox", "--case", "7", "--as", "eml", *records)
        self.run_program("seal", "records/7 Fog", *self.key(), "--stamp", self.authority.url)
        self.run_program("case", "pack", "7", "--into", "fog.zip", *records)
        self.run_program("verify", "fog.zip")
        self.run_program("case", "unpack", "fog.zip", "--records", "elsewhere")
        self.prove("elsewhere/7 Fog")
        self.run_program("case", "rename", "7", "8", *records)
        self.run_program("verify", "records")

    def test_a_mail_folder_of_that_name(self) -> None:
        self.write("box/seals.mbox", mbox(letter("Seal rescue")))
        self.run_program("export", "box", "--as", "eml", "--into", "out", *self.key())
        self.assertEqual([path.partition("/")[0] for path in self.made("out", ".eml")], ["seals_"])
        self.verify()

    def test_by_hand_as_an_order_and_afterwards(self) -> None:
        self.run_program(
            *("order", "add", "daily", "--", "export", "in.mbox", "--as", "eml", "--into", "out"),
            *(*self.key(), "--stamp", self.authority.url),
        )
        self.assertNotIn(self.authority.password, self.run_program("order", "show", "daily").stdout)
        self.run_program("order", "run", "daily")
        self.prove()
        self.run_program("export", "in.mbox", "--as", "eml", "--into", "later")
        self.run_program("seal", "later", *self.key(), "--stamp", self.authority.url)
        self.prove("later")
        self.run_program("case", "open", "7", "Fog", "--records", "records")
        self.run_program("file", "in.mbox", "--case", "7", "--records", "records", "--as", "eml")
        self.run_program("seal", "records/7 Fog", *self.key(), "--stamp", self.authority.url)
        self.prove("records/7 Fog")
        output = self.run_program("verify", "records", "--known", self.home / "root.pem").stdout
        self.assertIn("Sealed by Port of Saltmere (7 Fog/manifest-sha256.txt)", output)

    def test_a_backup(self) -> None:
        """Sealed by the list that proves its list; topped up, copied, mended, what was sealed is kept."""
        call = ("backup", "in.mbox", "--into", "out", *self.key(), "--stamp", self.authority.url)
        self.assertIn("Sealed by Port of Saltmere.", self.run_program(*call).stdout)
        tags = "tagmanifest-sha256.txt"
        self.prove(name=tags)
        self.assertIn("Its certificate is known through root.pem", self.verify(self.home / "root.pem"))
        self.write("in.mbox", mbox(*(letter(f"Berth {number}") for number in range(3))))
        self.run_program(*call)
        self.prove(name=tags)
        self.prove(name=tags, place="seals/0001/")
        self.assertIn(f"(seals/0001/{tags})", self.verify())
        bagit.Bag(str(self.folder / "out")).validate()
        self.run_program("copy", "out", "--into", "twin")
        self.prove("twin", name=tags)
        self.run_program("verify", "twin")
        volume = next((self.folder / "out/data/volumes").iterdir())
        volume.write_bytes(volume.read_bytes()[:-20])
        self.verify(code=1)
        self.run_program("verify", "out", "--repair", "twin", code=None)
        self.verify()
        (self.folder / f"twin/{tags}.p7s").write_bytes(b"nothing")
        self.assertIn("the seal does not hold", self.run_program("verify", "twin", code=1).stdout)

    def test_a_packed_case_and_a_certificate(self) -> None:
        """One file each, with seal and stamp beside it."""
        records, seals = ("--records", "records"), (*self.key(), "--stamp", self.authority.url)
        self.run_program("case", "open", "7", "Fog", "--keep", "1d", *records)
        self.run_program("file", "in.mbox", "--case", "7", "--as", "eml", *records)
        self.run_program("case", "pack", "7", "--into", "fog.zip", *records, *seals)
        self.prove_file(self.folder / "fog.zip")
        known = ("--known", self.home / "root.pem", "--known", self.home / "stamps-root.pem")
        self.assertIn("known through root.pem", self.run_program("verify", "fog.zip", *known).stdout)
        stamp = self.folder / "fog.zip.tsr"
        whole = stamp.read_bytes()
        stamp.write_bytes(whole[:-9] + b"altered!!")
        self.assertIn("the stamp does not hold", self.run_program("verify", "fog.zip", code=1).stdout)
        self.run_program("case", "unpack", "fog.zip", "--records", "elsewhere")
        self.run_program("case", "close", "7", *records)
        plan = self.folder / "records/fileplan.toml"
        plan.write_text(re.sub(r"(opened|closed) = 20\d\d", r"\1 = 2020", plan.read_text()))
        self.authority.mood = "refuse"
        done = self.run_program("case", "dispose", "7", "--yes", *records, *seals, code=1)
        self.assertIn("Not stamped", done.stdout + done.stderr)
        (paper,) = (self.folder / "records/disposed").rglob("*.pdf")
        self.assertIn("Sealed by Port of Saltmere", self.run_program("verify", paper).stdout)

    def prove_file(self, path: Path) -> None:
        cms = ("openssl", "cms", "-verify", "-binary", "-inform", "DER", "-in", f"{path}.p7s", "-content", path)
        by = ("-CAfile", self.home / "root.pem", "-purpose", "any", "-out", "/dev/null")
        stamp = ("openssl", "ts", "-verify", "-data", path, "-in", f"{path}.tsr", "-CAfile")
        for command in ((*cms, *by), (*stamp, self.home / "stamps-root.pem")):
            done = subprocess.run(list(map(str, command)), capture_output=True, text=True)
            self.assertEqual(done.returncode, 0, done.stderr)

    def test_another_kind_of_key(self) -> None:
        other = Authority(self.folder / "ca", "P-256")
        self.addCleanup(other.close)
        self.run_program("export", "in.mbox", "--as", "eml", "--into", "out")
        call = ("--seal", other.home / "seal.p12", "--seal-password", "env:TIDE", "--stamp", other.url)
        self.run_program("seal", "out", *call)
        self.prove(home=other.home)
        self.assertIn("known through root.pem", self.verify(other.home / "root.pem"))
        output = self.verify(self.home / "root.pem")
        self.assertIn("That it is Port of Saltmere is not proved", output, "a root of the same name is another root")
        self.run_program("seal", "out", *self.key(), "--stamp", self.authority.url)
        self.prove()
        self.prove(home=other.home, place="seals/0001/")
        output = self.verify(self.home / "root.pem", other.home / "root.pem")
        self.assertEqual(output.count("Sealed by Port of Saltmere"), 2, "another's seal is kept")

    def test_each_pdf_by_itself(self) -> None:
        """A seal comes behind a PDF that is else as it would be, whatever it is; poppler proves it."""
        forms = {
            "single": ("--stamp", self.authority.url),
            "bound": ("--bind", "all", "--run-on"),
            "numbered": ("--numbered", "HARB-"),
            "archival": ("--archival", "--cover"),
            "locked": ("--password", "file:word"),
        }
        self.write("word", "fog")
        for name, options in forms.items():
            call = ("export", "in.mbox", *options, "--into")
            if name != "single":
                self.run_program(*call, f"{name}-plain")
            done = self.run_program(*call, name, *self.key(), "--seal-each")
            self.assertIn(f"Sealed each by itself: {1 if name == 'bound' else 2} PDF", done.stdout)
            for path in sorted((self.folder / name).rglob("*.pdf")):
                with self.subTest(path.relative_to(self.folder)):
                    self._check_signature(path, "fog" if name == "locked" else "")
                    plain = self.folder / f"{name}-plain" / path.relative_to(self.folder / name)
                    if plain.exists() and name != "locked":
                        self.assertTrue(path.read_bytes().startswith(plain.read_bytes()))
                        self.assertLess(path.stat().st_size - plain.stat().st_size, 20_000)
                    check_tagged(self, path, "fog" if name == "locked" else "")
                    self.assertEqual(conforms(path, "3a") if name == "archival" else [], [])
            before = {path: path.read_bytes() for path in (self.folder / name).rglob("*.pdf")}
            again = self.run_program(*call, name, *self.key(), "--seal-each").stdout
            self.assertNotIn("Sealed each", again)
            self.assertEqual({path: path.read_bytes() for path in before}, before, name)
        said = self.run_program("verify", "single").stdout
        self.assertIn("Sealed each by itself, and the seal holds: 2 of 2 PDFs.", said)

    def test_killed_between_its_number_and_its_seal(self) -> None:
        """Whichever step was the last, each number stands once on its page, and each PDF is sealed."""
        call = ("export", "in.mbox", "--into", "out", "--numbered", "HARB-", *self.key(), "--seal-each")
        self.run_program(*call, end_before=10_000)
        for step in range(0, self.steps, rounds(2, 17)):
            shutil.rmtree(self.folder / "out")
            self.run_program(*call, code=None, end_before=step)
            self.run_program(*call)
            for at, path in enumerate(sorted((self.folder / "out").rglob("*.pdf")), 1):
                self._check_signature(path, "")
                text = subprocess.run(["pdftotext", path, "-"], capture_output=True, text=True).stdout
                self.assertEqual(re.findall(r"HARB-0*\d+", text), [f"HARB-{at:06}"], step)
            self.run_program("verify", "out")

    def _check_signature(self, path: Path, password: str) -> None:
        call = ["pdfsig", *(("-upw", password) if password else ()), str(path)]
        said = subprocess.run(call, capture_output=True, text=True).stdout
        for wanted in ("Signature is Valid", "ETSI.CAdES.detached", "Total document signed", "Port of Saltmere"):
            self.assertIn(wanted, said)
        self.assertEqual(said.count("Signature #"), 1)
        check = subprocess.run(["qpdf", f"--password={password}", "--check", str(path)], capture_output=True, text=True)
        self.assertEqual(check.returncode, 0, check.stderr)

    def test_a_pdf_whose_own_seal_does_not_hold(self) -> None:
        """Whoever changes a PDF, and the list with it, is found by the seal of the PDF."""
        self.run_program("export", "in.mbox", "--into", "out", *self.key(), "--seal-each")
        path = sorted((self.folder / "out").rglob("*.pdf"))[0]
        before = hashlib.sha256(path.read_bytes()).hexdigest()
        content = path.read_bytes()
        for wrong in (content[:400] + b"x" + content[401:], content + b"\n% more\n"):
            path.write_bytes(wrong)
            listed = self.folder / "out" / LIST
            kept = listed.read_text("utf-8")
            listed.write_text(kept.replace(before, hashlib.sha256(wrong).hexdigest()), "utf-8")
            said = self.run_program("verify", "out", code=1).stdout
            self.assertIn("its own seal does not hold", said)
            listed.write_text(kept, "utf-8")

    def test_each_waits_for_its_stamp(self) -> None:
        self.authority.mood = "refuse"
        call = ("export", "in.mbox", "--into", "out", *self.key(), "--seal-each", "--stamp", self.authority.url)
        self.assertIn("Not stamped", self.run_program(*call, code=1).stdout)
        self.assertNotIn("Signature #", self._signatures())
        self.authority.mood = ""
        self.assertIn("Sealed each by itself: 2 PDFs.", self.run_program(*call).stdout)
        self.assertEqual(self._signatures().count("Signature is Valid"), 2)
        alone = self.run_program("export", "in.mbox", "--into", "other", "--seal-each", code=2).stderr
        self.assertIn("add --seal KEY", alone)

    def _signatures(self) -> str:
        paths = sorted((self.folder / "out").rglob("*.pdf"))
        return "".join(subprocess.run(["pdfsig", path], capture_output=True, text=True).stdout for path in paths)

    @unittest.skipUnless(shutil.which("softhsm2-util"), "there is no token in software here")
    def test_a_key_on_a_token(self) -> None:
        """It signs where it lies; @office of the configuration names it and where its PIN is."""
        tokens = self.folder / "tokens"
        tokens.mkdir()
        self.write("softhsm2.conf", f"directories.tokendir = {tokens}\n")
        env = {"SOFTHSM2_CONF": str(self.folder / "softhsm2.conf"), "TIDE": "1234"}
        for kind in ("rsa:2048", "P-256"):
            home = self.folder / kind.partition(":")[0]
            authority = Authority(home, kind)
            self.addCleanup(authority.close)
            name = f"quay-{home.name}"
            call = [sys.executable, "-m", "tests.token_in_software", name, home / "seal.p12", authority.password]
            subprocess.run(call, check=True, env=os.environ | env, capture_output=True)
            uri = f"pkcs11:token={name};object=seal?module-path=/usr/lib/softhsm/libsofthsm2.so"
            self.write("own/wexagraph.toml", f'[keys.office]\nfile = "{uri}"\npassword-variable = "TIDE"\n')
            call = ("--config", "own/wexagraph.toml", "export", "in.mbox", "--into", home.name)
            call += ("--stamp", authority.url, "--seal")
            said = super().run_program(*call, "@office", "--seal-each", env=env).stdout
            self.assertIn("Sealed by Port of Saltmere", said)
            self.prove(home.name, home)
            for path in (self.folder / home.name).rglob("*.pdf"):
                self._check_signature(path, "")
            wrong = super().run_program(*call, uri, "--seal-password", "env:TIDE", env=env | {"TIDE": "4321"}, code=2)
            self.assertIn("the token refuses the PIN", wrong.stderr)
            lost = super().run_program(
                *call, uri.replace("=seal", "=gull"), "--seal-password", "env:TIDE", env=env, code=2
            )
            self.assertIn("has 0 keys of that name", lost.stderr)
        self.assertIn("no key is called @ofice. Did you mean @office?", self._refused("@ofice"))
        self.assertIn("a key on a token is named as pkcs11:", self._refused("pkcs11:token=quay"))

    def _refused(self, key: str) -> str:
        call = ("--config", "own/wexagraph.toml", "export", "in.mbox", "--into", "none", "--seal", key)
        return super().run_program(*call, "--seal-password", "env:TIDE", env={"TIDE": "1"}, code=2).stderr

    def test_a_name_for_a_key(self) -> None:
        """By hand, in an order and afterwards; a working folder's file names none."""
        self.write("own/wexagraph.toml", f'[keys.office]\nfile = "{self.home}/seal.p12"\npassword-variable = "TIDE"\n')
        config, seal = ("--config", "own/wexagraph.toml"), ("--seal", "@office", "--stamp", self.authority.url)
        self.run_program(*config, "export", "in.mbox", "--into", "out", "--as", "eml", *seal)
        self.prove()
        self.run_program(*config, "order", "add", "daily", "--", "export", "in.mbox", "--into", "by", *seal)
        self.run_program(*config, "order", "run", "daily")
        self.prove("by")
        self.write("wexagraph.toml", '[keys.office]\nfile = "other.p12"\n')
        refused = self.run_program("export", "in.mbox", "--into", "none", "--seal", "@office", code=2).stderr
        self.assertIn("[keys] is taken from the user's own configuration folder", refused)
        (self.folder / "wexagraph.toml").unlink()
        self.write("own/wexagraph.toml", '[keys.office]\nfile = "x.p12"\npassword = "tide"\n')
        refused = self.run_program(*config, "folders", "in.mbox", code=2).stderr
        self.assertIn("a password does not belong in this file", refused)

    def test_a_stamp_that_can_not_be_had(self) -> None:
        for mood, said in (
            ("refuse", "answers 503"),
            ("garbage", "has not answered with a time stamp"),
            ("other", "has answered another question"),
        ):
            with self.subTest(mood):
                self.authority.mood = mood
                shutil.rmtree(self.folder / "out", ignore_errors=True)
                output = self.export("--stamp", self.authority.url, code=1)
                self.assertIn("Not stamped: ", output)
                self.assertIn(said, output)
                self.assertEqual(len(self.made("out", ".eml")), 2)
                self.assertIn("Sealed by Port of Saltmere.", output)
                self.assertFalse((self.folder / f"out/{LIST}.tsr").exists())
                self.assertIn("0 altered; 0 foreign", self.verify())
        call = ("export", "in.mbox", "--as", "eml", "--into", "bare", "--stamp", "http://127.0.0.1:9/")
        self.run_program(*call, code=1)
        self.assertIn("0 altered; 0 foreign", self.run_program("verify", "bare").stdout)
        output = self.export("--stamp", "http://127.0.0.1:9/", code=1)
        self.assertIn("can't be asked", output)
        self.authority.mood = ""
        self.assertIn("Stamped: ", self.run_program("seal", "out", "--stamp", self.authority.url).stdout)
        self.prove()

    def test_what_is_refused(self) -> None:
        self.write("no.p12", b"nothing")
        for call, said in (
            (("--seal", "none.p12", "--seal-password", "env:TIDE"), "can't be read"),
            (("--seal", "no.p12", "--seal-password", "env:TIDE"), "no PKCS#12 file, or its password is another"),
            (("--seal", str(self.home / "seal.p12"), "--seal-password", "tide"), "never stands on the command line"),
            (("--seal", str(self.home / "seal.p12")), "there is no terminal to ask at"),
            (("--seal-password", "env:TIDE"), "add --seal KEY"),
            (("--stamp", "ftp://stamps.saltmere.example/"), "http:// or https://"),
        ):
            with self.subTest(call):
                done = self.run_program("export", "in.mbox", "--as", "eml", "--into", "out", *call, code=2)
                self.assertIn(said, done.stderr)
        self.assertFalse((self.folder / "out").exists(), "before any work")
        self.assertIn("nothing to seal", self.run_program("seal", ".", *self.key(), code=2).stderr)
        self.run_program("export", "in.mbox", "--as", "eml", "--into", "out")
        self.assertIn("say what to do", self.run_program("seal", "out", code=2).stderr)
        call = ("seal", "out", "--renew", "--stamp", self.authority.url)
        self.assertIn("no stamp that could be renewed", self.run_program(*call, code=2).stderr)
        self.assertIn("it holds no certificate", self.run_program("verify", "out", "--known", "no.p12", code=2).stderr)

    def test_renewed_stamps_prove_longer(self) -> None:
        later = Authority(self.folder / "ca", days=3000)
        self.addCleanup(later.close)
        self.export("--stamp", self.authority.url)
        self.export("--stamp", self.authority.url, formats="eml,text")
        before = json.loads(self.run_program("verify", "out", "--json").stdout)["seals"]
        self.run_program("seal", "out", "--renew", "--stamp", later.url)
        after = json.loads(self.run_program("verify", "out", "--json").stdout)["seals"]
        for one, renewed in zip(before, after, strict=True):
            self.assertEqual(one["since"], renewed["since"])
            self.assertLess(one["until"], renewed["until"])
        place = self.folder / "out/seals/0002"
        check = ("sha512sum", "--check", "--strict", "--quiet", place / "stamps-sha512.txt")
        subprocess.run(check, cwd=self.folder / "out", check=True)
        stamp = ("openssl", "ts", "-verify", "-data", "stamps-sha512.txt", "-in", "stamps-sha512.txt.tsr")
        by = ("-untrusted", "../../seal-certificates.pem", "-CAfile", later.home / "stamps-root.pem")
        subprocess.run([*stamp, *by], cwd=place, check=True, capture_output=True)
        first = ("openssl", "ts", "-verify", "-data", f"../../{LIST}", "-in", f"../../{LIST}.tsr")
        known = ("-untrusted", "../../seal-certificates.pem", "-CAfile", self.home / "stamps-root.pem")
        for days, old, new in ((100, 0, 0), (2000, 1, 0), (3500, 1, 1)):  # by openssl's clock
            for command, code in (((*first, *known), old), ((*stamp, *by), new)):
                late = ["faketime", "-f", f"+{days}d", *command]
                done = subprocess.run(late, cwd=place, capture_output=True, text=True)
                self.assertEqual(done.returncode, code, (days, done.stderr))
        self.run_program("seal", "out", "--renew", "--stamp", later.url)
        self.verify()

    def test_alterations_are_named(self) -> None:
        """Of each file of a sealed folder: altered, cut short, taken away, exchanged."""
        self.export("--stamp", self.authority.url)
        self.export("--stamp", self.authority.url, formats="eml,text")
        self.run_program("seal", "out", "--renew", "--stamp", self.authority.url)
        self.verify()
        shutil.copytree(self.folder / "out", self.folder / "whole")
        other = Authority(self.folder / "ca")
        self.addCleanup(other.close)
        self.run_program("export", "in.mbox", "--as", "eml,text", "--into", "theirs")
        call = ("--seal", other.home / "seal.p12", "--seal-password", "env:TIDE", "--stamp", other.url)
        self.run_program("seal", "theirs", *call)

        def altered(at: int) -> Callable[[Path], None]:
            def change(path: Path) -> None:
                data = bytearray(path.read_bytes())
                data[at % len(data)] ^= 1
                path.write_bytes(data)

            return change

        files = [
            path for path in (self.folder / "whole").rglob("*") if path.is_file() and ".wexagraph" not in path.parts
        ]
        changes: list[tuple[str, Callable[[Path], None]]] = [
            *((f"byte {at}", altered(at)) for at in (0, 400, -200)),
            ("cut", lambda path: path.write_bytes(path.read_bytes()[:-30]) and None),  # type: ignore[arg-type]
            ("gone", Path.unlink),
        ]
        count, dice = 0, random.Random(42)
        for original in files:
            path = self.folder / "out" / original.relative_to(self.folder / "whole")
            for what, change in dice.sample(changes, rounds(5, 1)):
                change(path)
                count += 1
                done = self.run_program("verify", "out", code=None)
                self.assertIn(path.name, done.stdout + done.stderr, (what, done.stdout))
                if f"Worked in: {path.name}" not in done.stdout:  # a register: said, and nothing need be wrong with it
                    self.assertIn(done.returncode, (1, 3), (path.name, what, done.stdout))
                path.parent.mkdir(exist_ok=True)
                shutil.copyfile(original, path)
        self.assertGreater(count, rounds(40, 10))
        for name in (f"{LIST}.p7s", f"{LIST}.tsr"):
            shutil.copyfile(self.folder / "theirs" / name, self.folder / "out" / name)
            self.verify(code=1)
            shutil.copyfile(self.folder / "whole" / name, self.folder / "out" / name)
        shutil.rmtree(self.folder / "out/seals")
        for name in (f"{LIST}.p7s", f"{LIST}.tsr", "seal-certificates.pem", "HOW-TO-PROVE.txt"):
            (self.folder / "out" / name).unlink()
        self.assertIn("the folder was sealed, and no seal of it is left", self.verify(code=1))
        self.write("out/seals/0001/more.txt", "theirs")
        self.assertIn("1 foreign", self.verify(code=1))


@contextmanager
def _folder() -> Iterator[Path]:
    with tempfile.TemporaryDirectory(prefix="wexagraph-authority-") as place:
        yield Path(place)
