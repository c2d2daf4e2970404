"""Backups of a mailbox of 50,000 messages: first, again, verified, searched; and an account of 50,000 with nothing new."""

from __future__ import annotations

import hashlib
import os
import random
import subprocess
import sys
import tempfile
import zlib
from pathlib import Path

from benchmarks.imap import fill
from benchmarks.inputs import DATA, mailbox, sentence
from benchmarks.mailbox import COUNT, MEAN
from benchmarks.measure import PROGRAM, fresh, paired, ratio, run, seconds, table
from benchmarks.memory import peak_of
from tests.dovecot import PASSWORD, USER, Dovecot
from wexagraph.backups.catalogue import Catalogue
from wexagraph.backups.packing import Packed
from wexagraph.backups.volumes import Member

ROUNDS = 3


def main() -> None:
    path = mailbox(COUNT, MEAN)
    path.read_bytes()
    rows = _first(path)
    rows += _again_and_proved(path)
    rows += _searching()
    rows += _account()
    table("Backups", ["what", "Wexagraph", "beside it", "found", "wanted"], rows)


def _first(path: Path) -> list[list[str]]:
    """A first backup, search index and checksums included, against `zip -r -6` over the same messages as files."""
    kept = fresh(DATA / "backup")
    run(PROGRAM, "backup", str(path), "--into", str(kept))
    files = fresh(DATA / "files")
    for volume in sorted((kept / "data/volumes").glob("*.zip")):
        run("unzip", "-q", str(volume), "-d", str(files))
    os.sync()
    outs = [DATA / f"backup-{turn}" for turn in range(ROUNDS)]
    zips = [DATA / f"files-{turn}.zip" for turn in range(ROUNDS)]
    waiting, packing = list(outs), list(zips)
    mine, theirs = paired(
        ROUNDS,
        lambda: run(PROGRAM, "backup", str(path), "--into", str(waiting.pop())),
        lambda: run("zip", "-q", "-r", "-6", str(packing.pop()), ".", cwd=files),
    )
    peak = peak_of(["backup", str(path), "--into", str(fresh(DATA / "backup-memory"))])
    for place in (*outs, files, DATA / "backup-memory"):
        fresh(place)
    for made in zips:
        made.unlink()
    return [
        [
            f"first backup, {COUNT:,} messages, {path.stat().st_size / 1e6:.0f} MB",
            f"{min(mine):.1f} s",
            f"`zip -r -6` of them as files {min(theirs):.1f} s",
            f"{ratio(theirs, mine):.2f} of its rate",
            "at least 1",
        ],
        ["its memory, any process", f"{peak / 1024:.0f} MB", "", "", "at most 250 MB"],
    ]


def _again_and_proved(path: Path) -> list[list[str]]:
    kept = DATA / "backup"
    first = seconds(lambda: run(PROGRAM, "backup", str(path), "--into", str(fresh(DATA / "backup-first"))))
    again = min(seconds(lambda: run(PROGRAM, "backup", str(path), "--into", str(kept))) for _ in range(3))
    fresh(DATA / "backup-first")
    volumes = [str(volume) for volume in sorted((kept / "data/volumes").glob("*.zip"))]
    quick, sums = paired(
        ROUNDS,
        lambda: run(PROGRAM, "verify", str(kept)),
        lambda: run("sh", "-c", "find data -type f | xargs sha256sum", cwd=kept),
    )
    deep, tested = paired(
        ROUNDS,
        lambda: run(PROGRAM, "verify", "--deep", str(kept)),
        lambda: [run("unzip", "-tqq", volume) for volume in volumes],
    )
    return [
        [
            "the same again, nothing new",
            f"{again:.2f} s",
            f"the first {first:.1f} s",
            f"{again / first:.1%}",
            "under 2 %",
        ],
        [
            "`verify`",
            f"{min(quick):.2f} s",
            f"`sha256sum` {min(sums):.2f} s",
            f"{ratio(sums, quick):.2f} of its rate",
            "at least 0.8",
        ],
        [
            "`verify --deep`",
            f"{min(deep):.1f} s",
            f"`unzip -t` {min(tested):.1f} s",
            f"{ratio(tested, deep):.2f} of its rate",
            "at least 0.8",
        ],
    ]


def _searching() -> list[list[str]]:
    """`list --text`, less the start of the program, on a catalogue of 500,000 messages made for it."""
    place = fresh(DATA / "large")
    (place / "data/volumes").mkdir(parents=True)
    (place / "data/runs").mkdir()
    (place / "bagit.txt").write_text("BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n")
    (place / "manifest-sha256.txt").write_text("")
    catalogue = Catalogue(place / "catalogue.sqlite", writing=True)
    rng = random.Random(500_000)
    base = catalogue._base  # the benchmark writes what 500,000 messages would have left, not the messages
    base.execute("INSERT INTO run VALUES (1,'2026-01-01T000000Z','made up',0,0,0,0,0,'whole')")
    base.execute("INSERT INTO folder VALUES (1,'made up','all','','2026-01-01T000000Z')")
    for number in range(500_000):
        word = f"ship{number % 25_000:05d}"
        header = f"From: a@b.example\nSubject: {word} at the quay\nDate: Sat, 14 Mar 2026 15:03:00 +0000".encode()
        digest = hashlib.blake2b(str(number).encode(), digest_size=32).digest()
        words = (f"{word} at the quay", "a@b.example", sentence(rng, 60), "")
        packed = Packed(digest, 1000, zlib.crc32(digest), 8, b"", "", None, header, "[]", words)
        catalogue.add_message(packed, 1, Member("x.eml", 0, 0, 1000, 8, 0))
        base.execute("INSERT INTO holding VALUES (1,?,?,'s','','',1,?)", (f"{number:09d}", number + 1, 1 << 40))
    catalogue.commit()
    catalogue.close()

    def listing(word: str) -> None:
        run(PROGRAM, "list", str(place), "--text", word)

    listing("ship00001")
    searched, start = paired(5, lambda: listing("ship00007"), lambda: listing("nothing-of-that-name"))
    bare = min(seconds(lambda: run(sys.executable, "-c", _OPENING, str(place))) for _ in range(3))
    fresh(place)
    return [
        [
            "`list --text`, 20 found of 500,000",
            f"{min(searched):.2f} s",
            f"nothing found {min(start):.2f} s, start and opening alone {bare:.2f} s",
            f"{min(searched) - bare:.2f} s",
            "under 0.1 s",
        ]
    ]


_OPENING = "import sys; from pathlib import Path; import wexagraph.cli.listing; from wexagraph.backups.source import BackupSource; BackupSource(Path(sys.argv[1])).close()"


def _account() -> list[list[str]]:
    server = Dovecot()
    try:
        fill(server, "Short", mailbox(50_000, 1000), 50_000)
        with tempfile.TemporaryDirectory(dir=DATA) as folder:
            toml = f'[accounts.office]\nurl = "imaps://{USER}@localhost:{server.imaps}/"\nauthority = "{server.authority}"\n'
            (Path(folder) / "own.toml").write_text(toml)
            environment = {**os.environ, "WEXAGRAPH_PASSWORD": PASSWORD, "XDG_CONFIG_HOME": folder, "TZ": "UTC"}

            def backup() -> None:
                command = [PROGRAM, "--config", "own.toml", "backup", "@office", "--into", "bk", "--folder", "Short"]
                subprocess.run(command, cwd=folder, env=environment, check=True, capture_output=True)

            first = seconds(backup)
            times = []
            for _ in range(3):
                server.forget_commands()
                times.append(seconds(backup))
            asked = [line for line in server.commands() if "STATUS" in line or "FETCH" in line or "SEARCH" in line]
    finally:
        server.close()
    return [
        ["50,000 messages on IMAP, first", f"{first:.1f} s", "", "", ""],
        [
            "the same again, nothing new",
            f"{min(times):.2f} s",
            "",
            f"{len(asked)} round trip for the folder",
            "under 1 s, at most 5",
        ],
    ]


if __name__ == "__main__":
    main()
