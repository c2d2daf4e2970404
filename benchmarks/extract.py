"""Attachments taken out of an mbox, against `base64 -d` over the same encoded bytes."""

from __future__ import annotations

import random
import shutil
from pathlib import Path

from benchmarks.inputs import DATA, letter, sentence
from benchmarks.measure import PROGRAM, fresh, paired, ratio, run, table

COUNT, SIZE = 5000, 200_000


def inputs() -> tuple[Path, Path]:
    """An mbox of 5,000 messages with an attachment each, 1 GB of them, and their encoded bytes alone."""
    path, encoded = DATA / "attachments.mbox", DATA / "attachments.base64"
    if not path.exists():
        DATA.mkdir(exist_ok=True)
        rng = random.Random(COUNT)
        with open(path, "wb") as box, open(encoded, "wb") as only:
            for number in range(COUNT):
                data = letter(rng, number, sentence(rng, 20) + "\n", attachment=SIZE)
                box.write(b"From bench@saltmere.example Thu Jan  1 00:00:00 2026\n" + data + b"\n")
                only.write(data.rpartition(b"\n\n")[2].rpartition(b"--b")[0])
    return path, encoded


def main() -> None:
    path, encoded = inputs()
    path.read_bytes()
    outs = [DATA / f"extract-{turn}" for turn in range(3)]
    for out in outs:
        fresh(out)
    waiting = list(outs)
    mine, theirs = paired(
        3,
        lambda: run(PROGRAM, "attachments", str(path), "--into", str(waiting.pop())),
        lambda: run("sh", "-c", f"base64 -d '{encoded}' > '{DATA / 'decoded'}'"),
    )
    made = sum(file.stat().st_size for file in outs[0].rglob("*.pdf"))
    for out in outs:
        shutil.rmtree(out)
    (DATA / "decoded").unlink()
    rows = [
        [
            f"{COUNT:,} attachments, {made / 1e9:.2f} GB",
            f"{min(mine):.2f} s",
            f"`base64 -d` {min(theirs):.2f} s",
            f"{ratio(theirs, mine):.2f} of its rate",
            "at least 0.5",
        ]
    ]
    table("Attachments taken out of an mbox", ["what", "Wexagraph", "beside it", "ratio", "wanted"], rows)


if __name__ == "__main__":
    main()
