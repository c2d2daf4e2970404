"""Seeded mutations of what the readers read: whatever comes, they give an answer or an error of ours.

`python -m tests.test_fuzz 100000` runs so many a reader; what fails is written to `tests/fuzzed`, to become a row here.
"""

from __future__ import annotations

import io
import json
import random
import sys
import tempfile
import unittest
import zipfile
from collections.abc import Callable
from pathlib import Path

from tests.helpers import letter, mbox
from wexagraph.backups import runlists
from wexagraph.backups.bag import read_sums
from wexagraph.backups.indexing import described
from wexagraph.backups.packing import pack
from wexagraph.backups.runlists import FolderChange, Holding
from wexagraph.backups.volumes import VolumeWriter, salvage
from wexagraph.errors import WexagraphError
from wexagraph.languages import Language
from wexagraph.messages.dates import parse_date
from wexagraph.messages.filetypes import recognise
from wexagraph.messages.headers import Header
from wexagraph.messages.message import Message
from wexagraph.messages.visible_text import html_to_text
from wexagraph.pages.cleaning.css import declarations, stylesheet
from wexagraph.pages.composing.cards import calendar_cards, vcard_cards
from wexagraph.sources import open_source
from wexagraph.sources.imap.responses import fetched, leaves, numbers, parse
from wexagraph.sources.utf7 import decode_utf7

PIECES = [
    b"\0",
    b"\xff",
    b"\xe9",
    b"\n",
    b"\r\n",
    b"\n\n",
    b'"',
    b"\\",
    b"(",
    b")",
    b"{9}",
    b"<",
    b">",
    b"=?",
    b"?=",
    b"--b",
    b":",
    b";",
    b"=",
    b"%",
    b"&",
    b"\x1b",
    b"\xed\xa0\x80",
    b"9" * 30,
    b"-1",
    b"[" * 50,
    b"/" * 3,
    b"../",
    b"From ",
    b"PK\x03\x04",
    b"PK\x05\x06",
]


def mutated(seed: bytes, rng: random.Random) -> bytes:
    """The seed with some bytes changed, cut, doubled or put in."""
    data = bytearray(seed)
    for _ in range(rng.randint(1, 6)):
        at = rng.randrange(len(data) + 1)
        kind = rng.randrange(5)
        if kind == 0 and data:
            data[at % len(data)] = rng.randrange(256)
        elif kind == 1:
            del data[at : at + rng.randrange(1, 40)]
        elif kind == 2:
            data[at:at] = rng.choice(PIECES)
        elif kind == 3:
            data[at:at] = data[max(0, at - rng.randrange(60)) : at]
        else:
            data[at : at + 1] = rng.choice(PIECES)
    return bytes(data)


class Reader:
    """What reads, a seed for it, and the folder that it may use."""

    def __init__(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="wexagraph-fuzz-"))

    def path(self, data: bytes, name: str) -> Path:
        (self.folder / name).write_bytes(data)
        return self.folder / name

    def readers(self) -> dict[str, tuple[bytes, Callable[[bytes], object]]]:
        writer = VolumeWriter(self.folder / "seed.zip")
        for n in range(3):
            writer.add(f"a/{n}.eml", pack(letter(f"Letter {n}")))
        writer.close()
        holding = Holding("in", "1", "s", "ab" * 32, 5, ("seen",), "2026-03-14T15:03:00+00:00")
        run = (
            runlists.head_line("2026-03-14T150300Z", "s")
            + runlists.folder_line(FolderChange("in"))
            + runlists.line(holding.line("x"))
            + runlists.line({"gone": "2"})
            + runlists.line({"end": "whole", "added": 1})
        )
        zipped = io.BytesIO()
        with zipfile.ZipFile(zipped, "w") as archive:
            archive.writestr("a.eml", letter())
        parts = letter(
            more='Content-Type: multipart/mixed; boundary="b"\n',
            body="--b\nContent-Type: text/html\n\n<p style=\"color:red\">x</p>\n--b\nContent-Type: image/png; name*=utf-8''a%20b.png\nContent-Transfer-Encoding: base64\n\niVBORw0KGgo=\n--b--\n",
        )
        fetch = b'1 (UID 7 FLAGS (\\Seen $x) INTERNALDATE "14-Mar-2026 15:03:00 +0000" RFC822.SIZE 10 BODYSTRUCTURE ("TEXT" "PLAIN" ("charset" "x") NIL NIL "7BIT" 10 1 NIL ("inline" ("filename" "a"))))'
        return {
            "message": (
                parts,
                lambda d: [Message(d).blocks(), Message(d).attachments, Message(d).notes(), Message(d).header.fields()],
            ),
            "header": (
                letter().partition(b"\n\n")[0],
                lambda d: [Header(d).subject, Header(d).sender, Header(d).date(), Header(d).addresses(b"to")],
            ),
            "mbox": (mbox(letter("One"), letter("Two")), lambda d: self._all(self.path(d, "x.mbox"))),
            "zip": (zipped.getvalue(), lambda d: self._all(self.path(d, "x.zip"))),
            "volume": (
                (self.folder / "seed.zip").read_bytes(),
                lambda d: [*described(self.path(d, "v.zip")), *salvage(self.path(d, "v.zip"))],
            ),
            "run list": (run, lambda d: runlists.read(self.path(d, "r.jsonl"), whole=False)),
            "sums": (
                b"ab" * 32 + b"  data/x\n" + b"cd" * 32 + b"  data/y\n",
                lambda d: read_sums(self.path(d, "m.txt")),
            ),
            "imap": (fetch, lambda d: [parse([d]), [leaves(f.get("BODYSTRUCTURE")) for f in fetched([d])]]),
            "search": (b"SEARCH 1 2 3 ALL 1:5,9", lambda d: _ours(lambda: numbers([d]))),
            "date": (b"Sat, 14 Mar 2026 15:03:00 +0000 (WET)", lambda d: parse_date(d.decode("latin-1"))),
            "utf7": (b"Office.&ANw-ber&-x", lambda d: decode_utf7(d.decode("latin-1"))),
            "css": (
                b"@media screen{.a,b>c[d=e]{color:red;background:url(x) no-repeat;width:calc(1px + 2%)}} p{margin:0}",
                lambda d: [
                    stylesheet(d.decode("latin-1"), ".s", 700, lambda _: None),
                    declarations(d.decode("latin-1"), lambda _: None),
                ],
            ),
            "html": (
                b'<table width=5><tr><td colspan=2 style="x:y">a<br>b</table><p>c',
                lambda d: html_to_text(d.decode("latin-1")),
            ),
            "calendar": (
                b'BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nDTSTART;TZID=Europe/Lisbon:20260314T150300\r\nRRULE:FREQ=DAILY;COUNT=3\r\nATTENDEE;CN="A":mailto:a@b.example\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n',
                lambda d: [calendar_cards(d, None, Language()), vcard_cards(d, Language())],
            ),
            "kind": (zipped.getvalue(), recognise),
        }

    def _all(self, path: Path) -> None:
        with open_source(path) as source:
            for folder in source.folders():
                for envelope in source.envelopes(folder):
                    source.read(envelope)
                    source.attachments(envelope)


def _ours(action: Callable[[], object]) -> object:
    try:
        return action()
    except ValueError as error:
        return str(error)  # what `numbers` says of a list that is none


class Fuzz(unittest.TestCase):
    COUNT = 600

    def test_every_reader(self) -> None:
        reader = Reader()
        for name, (seed, read) in reader.readers().items():
            rng = random.Random(f"{name} 26")
            for turn in range(self.COUNT):
                data = mutated(seed, rng)
                try:
                    read(data)
                except WexagraphError:
                    continue
                except Exception as error:
                    kept = Path(__file__).parent / "fuzzed"
                    if self.COUNT > 1000:
                        kept.mkdir(exist_ok=True)
                        (kept / f"{name}-{turn}").write_bytes(data)
                    self.fail(
                        f"{name}, turn {turn}: {type(error).__name__}: {error}: {json.dumps(data.decode('latin-1'))[:300]}"
                    )


if __name__ == "__main__":
    Fuzz.COUNT = int(sys.argv.pop(1)) if sys.argv[1:] else Fuzz.COUNT
    unittest.main()
