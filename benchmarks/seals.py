"""Sealing and stamping folders of different sizes, beside openssl with the same key over the same list; and a seal in each
PDF, beside the export without."""

from __future__ import annotations

import hashlib
import os
import tempfile
from itertools import count
from pathlib import Path

from benchmarks.inputs import messages
from benchmarks.measure import PROGRAM, paired, ratio, run, table
from tests.authority import Authority

LIST = "manifest-sha256.txt"


def main() -> None:
    rows = []
    with tempfile.TemporaryDirectory() as place:
        authority = Authority(Path(place) / "ca")
        os.environ["TIDE"] = authority.password
        call = ("--seal", str(authority.home / "seal.p12"), "--seal-password", "env:TIDE", "--stamp", authority.url)
        key = ("-signer", str(authority.home / "seal.pem"), "-inkey", str(authority.home / "seal.key"))
        for lines_in in (100, 50_000):
            folder = Path(place) / str(lines_in)
            folder.mkdir()
            lines = (f"{hashlib.sha256(b'%d' % number).hexdigest()}  desk/{number}.eml\n" for number in range(lines_in))
            (folder / LIST).write_text("".join(lines))

            def ours(folder: Path = folder) -> None:
                for ending in ("p7s", "tsr"):
                    (folder / f"{LIST}.{ending}").unlink(missing_ok=True)
                run(PROGRAM, "seal", str(folder), *call)

            def theirs(folder: Path = folder) -> None:
                out = ("-binary", "-outform", "DER", "-out", str(folder / "theirs.p7s"))
                run("openssl", "cms", "-sign", "-in", str(folder / LIST), *key, *out)
                question = str(folder / "question.tsq")
                run("openssl", "ts", "-query", "-data", str(folder / LIST), "-sha256", "-cert", "-out", question)
                config = ("-config", str(authority.home / "tsa.cnf"))
                run("openssl", "ts", "-reply", *config, "-queryfile", question, "-out", str(folder / "theirs.tsr"))

            own, others = paired(5, ours, theirs)
            size = sum((folder / f"{LIST}.{ending}").stat().st_size for ending in ("p7s", "tsr"))
            seconds = sorted(own)[len(own) // 2]
            rows.append(
                [
                    f"{lines_in:,}",
                    f"{seconds:.2f} s",
                    f"{ratio(own, others):.1f}",
                    f"{size / 1000:.1f} kB",
                    "1 s, 10 kB",
                ]
            )
        each = _each(Path(place), call[:4])
        authority.close()
    table(
        "Sealing (`seals`)",
        ["files in the list", "seal and stamp", "times openssl's", "beside the list", "wanted"],
        rows,
    )
    table("Sealing each PDF (`seals`)", ["run", "seconds", "times the export alone", "at most"], [each])


def _each(place: Path, key: tuple[str, ...]) -> list[str]:
    """An export of a thousand letters to PDF with a seal in each, beside the same without."""
    path, fresh = place / "in.mbox", count()
    path.write_bytes(
        b"".join(b"From x\n" + message + b"\n" for message in (*messages("text", 700), *messages("html", 300)))
    )

    def export(*more: str) -> None:
        run(PROGRAM, "export", str(path), "--into", str(place / f"out-{next(fresh)}"), *more)

    sealed, alone = paired(3, lambda: export(*key, "--seal-each"), export)
    seconds = sorted(sealed)[len(sealed) // 2]
    return ["1,000 letters to PDF, each sealed", f"{seconds:.1f}", f"{ratio(sealed, alone):.2f}", "1.6"]


if __name__ == "__main__":
    main()
