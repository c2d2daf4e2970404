"""Standing orders: with nothing new, with little new, from arrival to the page, and what a watch costs that waits."""

from __future__ import annotations

import json
import os
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from benchmarks.imap import fill
from benchmarks.inputs import DATA, mailbox
from benchmarks.measure import PROGRAM, run, table
from tests.dovecot import PASSWORD, USER, Dovecot
from tests.helpers import letter
from tests.peers import Proxy

_ORDERS, _IDLE = 100, 180.0


Program = Callable[..., float]
"""Runs the program with arguments; gives the seconds that it took."""


def main() -> None:
    server, rows = Dovecot(), list[list[str]]()
    try:
        box = mailbox(50_000, 1000)
        fill(server, "Short", box, 50_000)
        with tempfile.TemporaryDirectory(dir=DATA) as name:
            folder = Path(name)
            proxy = Proxy(server.imaps)
            (folder / "own.toml").write_text(
                f'[accounts.office]\nurl = "imaps://{USER}@localhost:{server.imaps}/"\nauthority = "{server.authority}"\n'
                f'[accounts.counted]\nurl = "imaps://{USER}@localhost:{proxy.port}/"\nauthority = "{server.authority}"\n'
            )
            more = {"WEXAGRAPH_PASSWORD": PASSWORD, "XDG_CONFIG_HOME": name, "TZ": "UTC"}
            environment = {**os.environ, **more, "WEXAGRAPH_ORDERS": str(folder / "orders")}

            def program(*arguments: str) -> float:
                start = time.perf_counter()
                run(PROGRAM, "--config", "own.toml", *arguments, cwd=name, env=environment)
                return time.perf_counter() - start

            _little_new(server, program, rows)
            _watch(server, folder, environment, program, rows)
            _nothing_new(box, proxy, program, rows)
    finally:
        server.close()
    table("Standing orders", ["what", "found", "wanted"], rows)


def _nothing_new(box: Path, proxy: Proxy, program: Program, rows: list[list[str]]) -> None:
    for kind, source in (("account", "@counted"), ("file", str(box))):
        names = [f"{kind}-{number}" for number in range(_ORDERS)]
        for order in names:
            place = ("--folder", "Short") if kind == "account" else ()
            call = ("export", source, "--as", "eml", "--subject", "Fender mooring", *place, "--into", order)
            program("order", "add", order, "--", *call)
        for _ in range(2):
            program("order", "run", *names)
        before = proxy.round_trips
        seconds = min(program("order", "run", *names) for _ in range(3))
        if kind == "account":
            trips = (proxy.round_trips - before) / 3
            rows.append([f"{_ORDERS} orders, nothing new, one account of 50,000", f"{seconds:.2f} s", "under 3 s"])
            rows.append(["their round trips, login and listing of folders included", f"{trips:.0f}", ""])
        else:
            each = (seconds - min(program("order", "run", names[0]) for _ in range(3))) / (_ORDERS - 1)
            rows.append(["an order more, nothing new, on an mbox of 50,000", f"{each * 1000:.1f} ms", "under 20 ms"])


def _little_new(server: Dovecot, program: Program, rows: list[list[str]]) -> None:
    program("order", "add", "all", "--", "export", "@office", "--as", "eml", "--folder", "Short", "--into", "all")
    program("order", "run", "all")
    program("order", "run", "all")
    server.fill("Short", [letter(f"New {number}") for number in range(10)])
    server.forget_commands()
    seconds = program("order", "run", "all")
    bodies = sum(_count(line.split(" ")[4]) for line in server.commands() if "BODY.PEEK[]" in line)
    rows.append(["10 new of 50,010 chosen: messages read", f"{bodies}, in {seconds:.2f} s", "10"])


def _watch(server: Dovecot, folder: Path, environment: dict[str, str], program: Program, rows: list[list[str]]) -> None:
    for path in (folder / "orders").glob("*.toml"):
        path.unlink()
    for number in range(20):
        source = ("@office", "--folder", "INBOX") if number % 2 else (str(folder / "desk"),)
        (folder / "desk").mkdir(exist_ok=True)
        (folder / "desk/one.eml").write_bytes(letter("One"))
        program("order", "add", f"w{number}", "--on-arrival", "--", "export", *source, "--into", f"w{number}")
    process = subprocess.Popen(
        [PROGRAM, "--config", "own.toml", "order", "watch", "--json"],
        cwd=folder,
        env=environment,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert process.stdout is not None
    while "run" not in json.loads(process.stdout.readline()):
        continue
    time.sleep(5)
    used = _processor(process.pid)
    time.sleep(_IDLE)
    share = (_processor(process.pid) - used) / _IDLE
    memory = int(Path(f"/proc/{process.pid}/status").read_text().split("VmRSS:")[1].split()[0]) / 1024
    rows.append([f"a watch over 20 orders, {_IDLE:.0f} s with no mail: of a core", f"{share:.2%}", "under 1 %"])
    rows.append(["its memory", f"{memory:.0f} MB", "under 80 MB"])
    start = time.perf_counter()
    server.fill("INBOX", [letter("Arrived")])
    while not list((folder / "w1").rglob("*Arrived.pdf")):
        time.sleep(0.01)
    arrival = time.perf_counter() - start
    process.terminate()
    process.wait(60)
    (folder / "alone.eml").write_bytes(letter("Arrived"))
    alone = program("export", "alone.eml", "--into", "alone")
    rows.append(
        ["from arrival (IDLE) to the PDF", f"{arrival:.2f} s; `export` of that letter {alone:.2f} s", "1 s more"]
    )


def _count(numbers: str) -> int:
    """How many messages a sequence set names (RFC 9051, section 9)."""
    ends = [list(map(int, part.split(":"))) for part in numbers.split(",")]
    return sum(abs(each[-1] - each[0]) + 1 for each in ends)


def _processor(number: int) -> float:
    """Seconds of processor that a process has used."""
    fields = Path(f"/proc/{number}/stat").read_text().rpartition(") ")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


if __name__ == "__main__":
    main()
