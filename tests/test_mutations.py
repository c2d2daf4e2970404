"""Messages changed at random: no fault, nothing lost, sums that agree."""

from __future__ import annotations

import random
import re

from tests.helpers import named_rows, rounds
from tests.running import RunTest


class Mutations(RunTest):
    def test_thousands(self) -> None:
        """Real-looking messages, changed at random: none is a fault, and the sums agree."""
        from wexagraph.demo import make_mailbox

        seeds = [
            data
            for messages in make_mailbox(self.folder / "demo").messages.values()
            for data in messages
            if len(data) < 40_000
        ]
        rng = random.Random(5000)
        count = rounds(5000, 1000)
        changed = [mutated(rng, rng.choice(seeds)) for _ in range(count)]
        for number, data in enumerate(changed):
            self.write(f"in/{number % 50:02}/{number:04}.eml", data)
            if number % 8 == 0:  # a page is the dear part
                self.write(f"some/{number:04}.eml", data)
        self.assertLess(self.exported("in", "out", "eml,html,text", count), 10)
        failed = self.exported("some", "pages", "pdf", count // 8)
        self.assertLess(failed, 4)
        self.assertEqual(len(self.made("out", ".eml")), count)
        self.assertEqual(len(self.made("pages", ".pdf")), count // 8 - failed)
        emls = sorted((self.folder / "out" / name).read_bytes() for name in self.made("out", ".eml"))
        self.assertEqual(emls, sorted(changed))
        with open(self.folder / "out/register.csv", encoding="utf-8-sig", newline="") as table:
            self.assertEqual(len(named_rows(table)), count)
        self.run_program("list", "in", "--csv")
        self.run_program("list", "in", "--text", "mooring")
        self.assert_clean(self.folder / "out")

    def exported(self, source: str, into: str, formats: str, count: int) -> int:
        """Export a source of so many messages. Returns how many failed."""
        done = self.run_program("export", source, "--into", into, "--as", formats, "--patience", "60", code=None)
        self.assertIn(done.returncode, (0, 1), done.stderr)
        sums = re.search(r"([\d,]+) messages chosen: ([\d,]+) written, 0 already there, ([\d,]+) failed", done.stdout)
        assert sums is not None, done.stdout
        read, written, failed = (int(number.replace(",", "")) for number in sums.groups())
        self.assertEqual((read, written + failed), (count, count))
        return failed


def mutated(rng: random.Random, data: bytes) -> bytes:
    """A message with a few of the things done to it that happen to messages, and some that do not."""
    out = bytearray(data)
    for _ in range(rng.randrange(1, 6)):
        at, kind = rng.randrange(len(out) + 1), rng.randrange(9)
        if kind == 0:
            out[at : at + rng.randrange(200)] = b""
        elif kind == 1:
            out[at:at] = rng.randbytes(rng.randrange(1, 30))
        elif kind == 2:
            del out[at:]
        elif kind == 3:
            out[at:at] = out[rng.randrange(len(out) + 1) :][: rng.randrange(400)]
        elif kind == 4:
            out = bytearray(bytes(out).replace(b"\n", rng.choice([b"\r\n", b"\r", b"\n\n"]), rng.randrange(1, 40)))
        elif kind == 5:
            out[at:at] = rng.choice(
                [b"=?utf-8?B?", b"--", b"<table>" * 40, b"\0", b"</div>", b"&#x1F6A2;", b"=C3", b"<style>"]
            )
        elif kind == 6:
            old, new = rng.choice(
                [
                    (b"text/", b"application/"),
                    (b"utf-8", b"utf-16"),
                    (b"base64", b"quoted-printable"),
                    (b"multipart/mixed", b"multipart/alternative"),
                    (b'"', b""),
                    (b":", b": ;"),
                ]
            )
            out = bytearray(bytes(out).replace(old, new))
        elif kind == 7 and out:
            for _ in range(rng.randrange(1, 20)):
                out[rng.randrange(len(out))] ^= 1 << rng.randrange(8)
        else:
            out[at:at] = "ﷺ‮𝒳\u0301é".encode()
        if not out:
            return b""
    return bytes(out)
