"""An IMAP account on Dovecot: against a bare fetch by the standard library, over a slow line, chosen by the server."""

from __future__ import annotations

import mailbox as standard
import os
import pwd
import tempfile
from pathlib import Path

from benchmarks.inputs import DATA, mailbox
from benchmarks.measure import PROGRAM, paired, ratio, run, table
from tests.dovecot import PASSWORD, USER, Dovecot
from tests.peers import Proxy


def fill(server: Dovecot, folder: str, path: Path, most: int) -> None:
    """Put the messages of an mbox into a Maildir of the server, file by file."""
    place = server.root / "mail" / f".{folder}"
    for name in ("cur", "new", "tmp"):
        (place / name).mkdir(parents=True)
    box = standard.mbox(path)
    for number, key in enumerate(box.keys()):
        if number == most:
            break
        (place / "cur" / f"{1_770_000_000 + number}.M{number}.bench:2,").write_bytes(box.get_bytes(key))
    owner = pwd.getpwnam("mail")
    for owned in [place, *place.rglob("*")]:
        os.chown(owned, owner.pw_uid, owner.pw_gid)


def bare(server: Dovecot) -> None:
    """One FETCH of all bodies, and nothing done with them."""
    client = server.client()
    client.select("Post", readonly=True)
    client.uid("FETCH", "1:*", "(BODY.PEEK[])")
    client.logout()


def main() -> None:
    server = Dovecot()
    rows = []
    try:
        fill(server, "Post", mailbox(5000, 14_000), 5000)
        fill(server, "Short", mailbox(50_000, 1000), 50_000)
        with tempfile.TemporaryDirectory(dir=DATA) as folder:
            work = Path(folder)
            environment = {**os.environ, "WEXAGRAPH_PASSWORD": PASSWORD, "XDG_CONFIG_HOME": folder, "TZ": "UTC"}

            def program(port: int, *arguments: str) -> None:
                toml = (
                    f'[accounts.office]\nurl = "imaps://{USER}@localhost:{port}/"\nauthority = "{server.authority}"\n'
                )
                (work / "own.toml").write_text(toml)
                run(PROGRAM, "--config", "own.toml", *arguments, cwd=folder, env=environment)

            outs = [work / f"out-{turn}" for turn in range(20)]

            def export(port: int, *more: str) -> Path:
                out = outs.pop()  # nothing is removed in between: a disk that is busy forgetting is slow
                program(port, "export", "@office", "--into", str(out), "--as", "eml", *more)
                return out

            os.sync()
            bare(server)
            program(server.imaps, "list", "@office", "--csv", "--folder", "Short", "--newest", "1")
            mine, theirs = paired(3, lambda: export(server.imaps, "--folder", "Post"), lambda: bare(server))
            rows.append(
                [
                    "export 5,000 messages, 70 MB, as EML",
                    f"{min(mine):.2f} s",
                    f"one bare `UID FETCH` by imaplib {min(theirs):.2f} s",
                    f"{ratio(theirs, mine):.2f} of its rate",
                    "0.5",
                ]
            )
            slow = Proxy(server.imaps, delay=0.1)
            program(slow.port, "list", "@office", "--csv", "--folder", "Post")
            rows.append(
                ["list 5,000 messages, 100 ms a round trip", "", "", f"{slow.round_trips} round trips", "at most 30"]
            )
            slow = Proxy(server.imaps, delay=0.1)
            out = export(slow.port, "--folder", "Short", "--before", "2019-02-21")
            made = len(list(out.rglob("*.eml")))
            rows.append(
                [f"export {made:,} small ones", "", "", f"{slow.round_trips} round trips", "at most 40 for 1,000"]
            )
            server.forget_commands()
            subject = "Fender mooring"
            out = export(server.imaps, "--folder", "Short", "--subject", subject)
            bodies = sum(line.count(",") + 1 for line in server.commands() if "BODY.PEEK[]" in line)
            made = len(list(out.rglob("*.eml")))
            rows.append([f"export {made} of 50,000", "", "", f"{bodies} bodies fetched", f"{made}"])
            fill(server, "Few", mailbox(5000, 14_000), 300)
            far = Proxy(server.imaps, delay=0.04)
            program(far.port, "list", "@office", "--csv", "--folder", "Few")
            read, plain = paired(
                3,
                lambda: export(far.port, "--folder", "Few", "--body", "e"),
                lambda: export(far.port, "--folder", "Few"),
            )
            rows.append(
                [
                    "export 300 by a word of the text, 40 ms a round trip",
                    f"{min(read):.2f} s",
                    f"all 300 without it {min(plain):.2f} s",
                    f"{ratio(read, plain):.1f} times as long",
                    "at most 2",
                ]
            )
    finally:
        server.close()
    table("An account over IMAP", ["what", "Wexagraph", "beside it", "found", "wanted"], rows)


if __name__ == "__main__":
    main()
