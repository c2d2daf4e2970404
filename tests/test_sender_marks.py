"""Marks of sending domains (DKIM): put on by dkimpy, proved here with keys of a file or of a name server that is really
asked; and what is honestly to be said of them."""

from __future__ import annotations

import base64
import csv
import json

import dkim
from cryptography.hazmat.primitives.asymmetric import ed25519, rsa
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, PublicFormat

from tests.helpers import ProgramTest
from tests.name_server import NameServer

LETTER = (
    b"From: Ines Carvalho <ines@saltmere.example>\r\nTo: clerk@saltmere.example\r\nSubject: %s\r\n"
    b"Date: Mon, 09 Mar 2026 10:15:00 +0000\r\nMessage-ID: <%s@saltmere.example>\r\n\r\nBerth 7  is free. \r\n\r\n\r\n"
)
RELAXED, SIMPLE = (b"relaxed", b"relaxed"), (b"simple", b"simple")


class Marks(ProgramTest):
    @classmethod
    def setUpClass(cls) -> None:
        cls.rsa = rsa.generate_private_key(65537, 2048)
        cls.short = rsa.generate_private_key(65537, 1024)
        cls.ed = ed25519.Ed25519PrivateKey.generate()
        ders = {
            name: key.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
            for name, key in (("s1", cls.rsa), ("short", cls.short))
        }
        packed = {name: base64.b64encode(der).decode() for name, der in ders.items()}
        raw = base64.b64encode(cls.ed.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw)).decode()
        cls.records = {
            "s1._domainkey.saltmere.example": f"v=DKIM1; k=rsa; p={packed['s1']}",
            "test._domainkey.saltmere.example": f"v=DKIM1; t=y; p={packed['s1']}",
            "gone._domainkey.saltmere.example": "v=DKIM1; p=",
            "short._domainkey.saltmere.example": f"v=DKIM1; p={packed['short']}",
            "ed._domainkey.saltmere.example": f"v=DKIM1; k=ed25519; p={raw}",
            "s1._domainkey.list.example": f"v=DKIM1; p={packed['s1']}",
        }

    def marked(self, subject: str, selector: str = "s1", domain: str = "saltmere.example", form=RELAXED, **more):  # type: ignore[no-untyped-def]
        letter = LETTER % (subject.encode(), subject.encode().replace(b" ", b"."))
        key = self.short if selector == "short" else self.rsa
        if selector == "ed":
            secret = self.ed.private_bytes(Encoding.Raw, PrivateFormat.Raw, NoEncryption())
            packed, more = base64.b64encode(secret), more | {"signature_algorithm": b"ed25519-sha256"}
        else:
            packed = key.private_bytes(Encoding.PEM, PrivateFormat.TraditionalOpenSSL, NoEncryption())
        return dkim.sign(letter, selector.encode(), domain.encode(), packed, canonicalize=form, **more) + letter

    def write_all(self) -> dict[str, str]:
        """Letters, and what is to be said of each."""
        good = self.marked("good")
        cases = {
            "good": (good, "holds"),
            "simple": (self.marked("simple", form=SIMPLE), "holds"),
            "curve": (self.marked("curve", "ed"), "holds"),
            "blanks": (self.marked("blanks").replace(b"7  is", b"7 is"), "holds"),
            "changed": (self.marked("changed").replace(b"is free", b"is let"), "changed"),
            "header": (self.marked("header").replace(b"Subject: header", b"Subject: headed"), "does not fit"),
            "taken back": (self.marked("taken back", "gone"), "key taken back"),
            "lost": (self.marked("lost", "lost"), "no key"),
            "by a list": (self.marked("by a list", domain="list.example"), "holds, another domain"),
            "partly": (self.marked("partly", length=True) + b"Pay at once.\r\n", "holds"),
            "tests": (self.marked("tests", "test"), "holds"),
            "short key": (self.marked("short key", "short"), "holds"),
            "none": (LETTER % (b"none", b"none"), ""),
        }
        for subject, (content, _) in cases.items():
            self.write(f"in/{subject}.eml", content)
        cases["headed"] = cases.pop("header")
        return {subject: word for subject, (_, word) in cases.items()}

    def words(self, *options: str) -> dict[str, str]:
        done = self.run_program("list", "in", "--columns", "subject,sender_mark", "--csv", *options)
        return {row["subject"]: row["sender_mark"] for row in csv.DictReader(done.stdout.splitlines())}

    def test_by_a_file(self) -> None:
        wanted = self.write_all()
        lines = [f'{name}. 300 IN TXT "{text[:200]}" "{text[200:]}"' for name, text in self.records.items()]
        self.write("keys.txt", "; of the domains\n" + "\n".join(lines) + "\n")
        words = self.words("--sender-keys", "keys.txt")
        unknown = {"lost": "unchanged, not checked"}  # a file does not tell what is not in the DNS
        self.assertEqual(words, wanted | unknown)
        self.run_program("export", "in", "--into", "out", "--sender-keys", "keys.txt")
        register = list(csv.DictReader((self.folder / "out" / "register.csv").read_text("utf-8-sig").splitlines()))
        self.assertEqual({row["Subject"]: row["Sender mark"] for row in register}, wanted | unknown)
        notes = {row["Subject"]: row["Notes"] for row in register}
        for subject, said in (
            ("good", "a domain is no person"),
            ("partly", "what follows may be anybody's"),
            ("tests", "for tests"),
            ("short key", "proves little today"),
            ("by a list", "another domain than that of the From address"),
        ):
            self.assertIn(said, notes[subject])
        self.assertNotIn("genuine", "".join(notes.values()))

    def test_by_a_name_server(self) -> None:
        """Each name is asked once, and none without the option; what was answered is kept, and sealed with the rest."""
        wanted = self.write_all()
        server = NameServer(self.records)
        self.addCleanup(server.close)
        self.assertEqual(self.words(), dict.fromkeys(wanted, ""))
        self.run_program("export", "in", "--into", "quiet", "--evidence")
        self.assertEqual(server.asked.total(), 0)
        self.run_program("export", "in", "--into", "out", "--ask-dns", server.address)
        self.assertEqual(set(server.asked.values()), {1})
        rows = csv.DictReader((self.folder / "out" / "register.csv").read_text("utf-8-sig").splitlines())
        self.assertEqual({row["Subject"]: row["Sender mark"] for row in rows}, wanted)
        kept = self.folder / "out" / "sender-keys.txt"
        self.assertIn("sender-keys.txt", (self.folder / "out" / "manifest-sha256.txt").read_text("utf-8"))
        self.assertIn("0 altered; 0 foreign", self.run_program("verify", "out").stdout)
        words = self.words("--sender-keys", str(kept))
        self.assertEqual(words, wanted | {"lost": "unchanged, not checked"}, "what is kept proves the same later")
        before = kept.read_bytes()
        self.run_program("export", "in", "--into", "out", "--ask-dns", server.address)
        self.assertEqual(kept.read_bytes(), before)

    def test_evidence_tells_what_needs_no_key(self) -> None:
        self.write("in/a.eml", self.marked("good"))
        self.write("in/b.eml", self.marked("changed").replace(b"is free", b"is let"))
        self.run_program("export", "in", "--into", "out", "--evidence", "--as", "html")
        texts = {
            path.stem.rpartition(" - ")[2]: path.read_text("utf-8") for path in (self.folder / "out").rglob("*.html")
        }
        self.assertIn("its text is unchanged since a sending domain marked it", texts["good"])
        self.assertIn("changed since a sending domain marked it (lists do that)", texts["changed"])

    def test_what_our_server_wrote(self) -> None:
        """The first word of that name counts; others came with the message."""
        ours = b"Authentication-Results: mx.saltmere.example; dkim=pass header.d=saltmere.example\r\n"
        theirs = b"Authentication-Results: mx.saltmere.example; dkim=fail\r\nAuthentication-Results: other.example; spf=pass\r\n"
        self.write("in/a.eml", ours + theirs + LETTER % (b"a", b"a"))
        id = self.run_program("list", "in", "--columns", "id", "--csv").stdout.split()[1]
        told = json.loads(self.run_program("show", "in", id, "--our-server", "mx.saltmere.example", "--json").stdout)
        (said,) = [note["text"] for note in told["notes"] if note["code"] == "server-said"]
        self.assertIn("dkim=pass header.d=saltmere.example", said)
        self.assertNotIn("dkim=fail", said)

    def test_servers_on_the_way(self) -> None:
        """What a list's server says of how a letter came to it (ARC): sealed by dkimpy, twice."""
        letter = b"Authentication-Results: mx.list.example; dkim=pass header.d=saltmere.example\r\n" + self.marked("a")
        pem = self.rsa.private_bytes(Encoding.PEM, PrivateFormat.TraditionalOpenSSL, NoEncryption())
        sealed = letter
        for domain, server in ((b"list.example", b"mx.list.example"), (b"saltmere.example", b"mx.saltmere.example")):
            said = b"Authentication-Results: " + server + b"; arc=pass\r\n"
            sealed = (said if domain == b"saltmere.example" else b"") + sealed
            lines = dkim.arc_sign(sealed, b"s1", domain, pem, server)
            sealed = b"".join(lines) + sealed
        self.write("in/a.eml", sealed)
        self.write("in/b.eml", sealed.replace(b"is free", b"is let"))
        self.write("in/c.eml", sealed.replace(b"arc=pass", b"arc=none", 1))
        self.write("keys.txt", "".join(f'{name} TXT "{text}"\n' for name, text in self.records.items()))
        rows = self.run_program("list", "in", "--columns", "id", "--csv").stdout.split()[1:]
        codes = []
        for id in rows:
            told = json.loads(self.run_program("show", "in", id, "--sender-keys", "keys.txt", "--json").stdout)
            codes.append(next(note["code"] for note in told["notes"] if note["code"].startswith("relay-")))
        self.assertEqual(codes, ["relay-holds", "relay-changed", "relay-wrong"])

    def test_what_is_refused(self) -> None:
        self.write("in/a.eml", LETTER % (b"a", b"a"))
        self.write("keys.txt", "saltmere.example TXT x\n")
        for call, said in (
            (("--sender-keys", "keys.txt"), "line 1: write NAME._domainkey.DOMAIN"),
            (("--sender-keys", "none.txt"), "none.txt can't be read"),
            (("--ask-dns", "ns.saltmere.example"), "it is the IP address of a name server"),
        ):
            self.assertIn(said, self.run_program("list", "in", *call, code=2).stderr)
