"""Sealing and stamping folders of different sizes, beside openssl with the same key over the same list."""

from __future__ import annotations

import hashlib
import os
import tempfile
from pathlib import Path

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
        for count in (100, 50_000):
            folder = Path(place) / str(count)
            folder.mkdir()
            lines = (f"{hashlib.sha256(b'%d' % number).hexdigest()}  desk/{number}.eml\n" for number in range(count))
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
                [f"{count:,}", f"{seconds:.2f} s", f"{ratio(own, others):.1f}", f"{size / 1000:.1f} kB", "1 s, 10 kB"]
            )
        authority.close()
    table(
        "Sealing (`seals`)",
        ["files in the list", "seal and stamp", "times openssl's", "beside the list", "wanted"],
        rows,
    )


if __name__ == "__main__":
    main()
