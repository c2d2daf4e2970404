"""Delivering 5,000 files of 42 MB: to a folder beside `cp`, to Apache beside `curl`, to OpenSSH beside `scp`; and 50,000 files that are there."""

from __future__ import annotations

import hashlib
import os
import random
import shutil
import subprocess
import tempfile
from pathlib import Path
from statistics import median

from benchmarks.inputs import DATA
from benchmarks.measure import PROGRAM, paired, ratio, run, table
from benchmarks.memory import peak_of
from tests.s3 import SECRET, Storage
from tests.sshd import Sshd
from tests.webdav import PASSWORD, USER, Apache


def made(folder: Path, count: int, size: int) -> Path:
    """A folder of files with its list of checksums, as an export has it."""
    dice, lines = random.Random(39), []
    for number in range(count):
        path = folder / f"{number % 50:02d}" / f"{number:05d}.eml"
        path.parent.mkdir(parents=True, exist_ok=True)
        content = dice.randbytes(min(size, 1_000_000)) * max(1, size // 1_000_000)
        path.write_bytes(content)
        lines.append(f"{hashlib.sha256(content).hexdigest()}  {path.relative_to(folder).as_posix()}\n")
    (folder / "manifest-sha256.txt").write_text("".join(lines))
    return folder


def main() -> None:
    apache, sshd, storage = Apache(), Sshd(), Storage()
    try:
        with tempfile.TemporaryDirectory(dir=DATA) as home:
            work = Path(home)
            files, many = made(work / "files", 5000, 8400), made(work / "many", 50_000, 100)
            environment = {
                **os.environ,
                "WEXAGRAPH_PASSWORD": PASSWORD,
                "XDG_CONFIG_HOME": home,
                "XDG_STATE_HOME": home,
                **sshd.environment,
            }
            turns = iter(range(1000))

            def place() -> Path:
                folder = work / f"place-{next(turns)}"
                folder.mkdir()
                return folder

            def at_apache() -> str:
                folder = apache.root / f"place-{next(turns)}"
                folder.mkdir()
                for inner in (folder, *(folder / f"{number:02d}" for number in range(50))):
                    inner.mkdir(exist_ok=True)
                    if os.getuid() == 0:
                        shutil.chown(inner, "www-data", "www-data")
                return folder.name

            def deliver(folder: Path, to: str) -> None:
                run(PROGRAM, "--config", "own.toml", "deliver", str(folder), "--into", to, cwd=home, env=environment)

            def to_apache() -> None:
                url = f"{apache.url}{at_apache()}"
                (work / "own.toml").write_text(f'[places.court]\nurl = "{url}"\nauthority = "{apache.authority}"\n')
                deliver(files, "@court")

            def curl() -> None:
                name = at_apache()
                lines = [f'user = "{USER}:{PASSWORD}"\ncacert = "{apache.authority}"\nsilent\noutput = /dev/null\n']
                for path in sorted(files.rglob("*.eml")):
                    to = f"https://localhost:{apache.port}/{name}/{path.relative_to(files).as_posix()}"
                    lines.append(f'upload-file = "{path}"\nurl = "{to}"\n')
                (work / "curl").write_text("".join(lines))
                subprocess.run(("curl", "--config", work / "curl"), check=True, stdout=subprocess.DEVNULL)

            def at_sshd() -> Path:
                folder = sshd.root / f"place-{next(turns)}"
                folder.mkdir()
                return folder

            def to_sshd() -> None:
                url = f"{sshd.url}{at_sshd().name}"
                (work / "own.toml").write_text(f'[places.court]\nurl = "{url}"\nauthority = "{sshd.known}"\n')
                deliver(files, "@court")

            def scp() -> None:
                words = ("scp", "-q", "-r", "-P", str(sshd.port), "-i", sshd.key)
                known = ("-o", f'UserKnownHostsFile="{sshd.known}"')
                subprocess.run((*words, *known, files, f"localhost:{at_sshd()}"), check=True)

            def copy() -> None:
                folder = place()
                subprocess.run(("cp", "-r", files, folder), check=True)
                subprocess.run(("sync", "-f", folder), check=True)

            (work / "own.toml").write_text("")
            there = place()
            deliver(many, str(there))
            rows = []
            for name, ours, beside, theirs, wanted in (
                ("5,000 files to WebDAV at Apache, read back, with MOVE", to_apache, "curl, PUT alone", curl, "0.35"),
                (
                    "5,000 files to SFTP at OpenSSH, read back",
                    to_sshd,
                    *("scp -r", scp, "0.5"),
                ),
                ("5,000 files to a folder, read back", lambda: deliver(files, str(place())), "cp -r, sync", copy, ""),
            ):
                mine, its = paired(3, ours, theirs)
                took = [f"{median(mine):.1f} s", beside, f"{median(its):.1f} s"]
                rows.append([name, *took, f"{ratio(its, mine):.2f}", wanted])
            again, nothing = paired(3, lambda: deliver(many, str(there)), lambda: run(PROGRAM, "--version"))
            took = [f"{median(again):.1f} s", "`--version`", f"{median(nothing):.2f} s"]
            rows.append(["50,000 files that are there", *took, "", "at most 3 s"])
            large = made(work / "large", 1, 1_000_000_000)
            for name, url, authority in (
                ("WebDAV", f"{apache.url}{at_apache()}", apache.authority),
                ("SFTP", f"{sshd.url}{at_sshd().name}", sshd.known),
                ("S3", f"{storage.url}large", storage.authority),
            ):
                (work / "own.toml").write_text(f'[places.court]\nurl = "{url}"\nauthority = "{authority}"\n')
                call = ["--config", str(work / "own.toml"), "deliver", str(large), "--into", "@court"]
                secret = SECRET if name == "S3" else PASSWORD
                peak = peak_of(call, environment | {"WEXAGRAPH_PASSWORD": secret}) / 1024
                rows.append(
                    [f"a gigabyte in one file to {name}: memory", f"{peak:.0f} MB", "", "", "", "at most 100 MB"]
                )
            table("Delivering (`deliver`)", ["what", "took", "beside it", "took", "times its rate", "at least"], rows)
    finally:
        apache.close()
        sshd.close()
        storage.close()
