"""Messages to finished PDF: against a warm headless Chromium, against WeasyPrint, and two workers against one."""

from __future__ import annotations

import sys
import tempfile
from concurrent.futures import Future
from contextlib import suppress
from pathlib import Path

from benchmarks.chromium import Chromium
from benchmarks.inputs import messages
from benchmarks.measure import PROGRAM, paired, ratio, run, seconds, table
from wexagraph.demo.build import html, message, when
from wexagraph.errors import PageError
from wexagraph.messages.message import Message
from wexagraph.pages.composing.compose import compose
from wexagraph.pages.engines import engine
from wexagraph.pages.make import Job, make
from wexagraph.pages.options import PageOptions
from wexagraph.work.pool import ProcessWorkers
from wexagraph.work.worker import prepare

OPTIONS = PageOptions(zone="UTC")
BARE = PageOptions(zone="UTC", read_back=False)
HEAD = ["what", "a message", "beside it", "a message", "times its rate", "at least"]
_AT_ONCE = 26
_REST = 0.1
"""Seconds before each turn: the browser still clears up for a while after it has answered."""


def ours(data: list[bytes], with_engine: str = "plutoprint", options: PageOptions = OPTIONS) -> None:
    for each in data:
        make(Job(each, ("pdf",), options, with_engine))


def in_workers(data: list[bytes], count: int) -> None:
    with ProcessWorkers(count, 60) as pool:
        pool.submit(len, b"").result()
        futures: list[Future[object]] = [pool.submit(make, Job(message, ("pdf",), OPTIONS)) for message in data]  # type: ignore[misc]
        for future in futures:
            future.result()


def main(*folders: Path) -> None:
    """The tables of generated messages; or of HTML files in a folder, in the layouts that others wrote."""
    prepare()  # as a worker is
    for folder in folders:
        of_others(folder)
    if folders:
        return
    rich, plain = messages("html", 60), messages("text", 120)
    pages = [compose(Message(data), OPTIONS).html for data in rich]
    ours(rich[:2] + plain[:2])  # warm, as a worker is after its first message
    ours(rich[:1] + plain[:1], "weasyprint")
    # the engines are compared by making alone; what reading back costs is the last two rows
    rows = []
    rows.append(row("HTML messages, one worker", *_beside_chromium(rich, pages), 6))
    mine, theirs = paired(2, lambda: ours(rich[:20], options=BARE), lambda: ours(rich[:20], "weasyprint", BARE))
    rows.append(row("HTML messages, one worker", mine, 20, "the same with WeasyPrint", theirs, 12))
    mine, theirs = paired(3, lambda: ours(plain, options=BARE), lambda: ours(plain, "weasyprint", BARE))
    rows.append(row("text messages, one worker", mine, len(plain), "the same with WeasyPrint", theirs, 15))
    two, one = paired(3, lambda: in_workers(rich * 4, 2), lambda: in_workers(rich * 4, 1))
    rows.append(row("HTML messages, two workers", two, len(rich) * 4, "one worker", one, 1.8))
    for name, data in (("HTML", rich), ("text", plain)):
        with_it, without = paired(3, lambda: ours(data), lambda: ours(data, options=BARE))  # noqa: B023
        rows.append(row(f"{name} messages, read back", with_it, len(data), "not read back", without, 0.8))
    table("Messages to finished PDF", HEAD, rows)


def of_others(folder: Path) -> None:
    """The HTML files of a folder four times over, each a message, beside the browser and WeasyPrint: making alone, and
    the whole program with all that it does around that, from its start to its end."""
    texts = [path.read_text("utf-8", "replace") for path in sorted(folder.glob("*.html"))]
    data = [
        message("a@saltmere.example", "r@saltmere.example", "Mail of others", when("2026-03-14"), html(text))
        for text in texts
    ]
    ours(data[:5])
    whole = [_export(data * 4)]
    mine, count, _, theirs = _beside_chromium(data, [_endless(text) for text in texts], rounds=4)
    whole.append(_export(data * 4))
    setter, composed = engine("plutoprint"), [compose(Message(each), BARE) for each in data]
    alone = [seconds(lambda: [setter.render(page, BARE) for page in composed]) for _ in range(4)]
    browser = "Chromium, the original on one endless sheet"
    rows = [row("HTML of others, one worker", mine, count, browser, theirs, 6)]
    rows.append(row("the page engine alone in it", [min(alone)], count, browser, theirs, 6))
    rows.append(row("the same, `export --jobs 1` as a whole", [sum(whole) / 8], count, browser, theirs, 6))
    mine, theirs = paired(2, lambda: ours(data, options=BARE), lambda: _weasy(data))
    rows.append(row("HTML of others, one worker", mine, count, "the same with WeasyPrint", theirs, 12))
    table(f"{count} HTML files of others to finished PDF", HEAD, rows)


def _export(data: list[bytes]) -> float:
    with tempfile.TemporaryDirectory() as folder:
        mail, into = Path(folder, "mail"), Path(folder, "into")
        mail.mkdir()
        for number, each in enumerate(data):
            (mail / f"{number}.eml").write_bytes(each)
        return seconds(lambda: run(PROGRAM, "export", str(mail), "--into", str(into), "--jobs", "1", "--quiet"))


def _weasy(data: list[bytes]) -> None:
    for each in data:
        with suppress(PageError):
            make(Job(each, ("pdf",), BARE, "weasyprint"))


def _endless(html: str) -> str:
    return f"<style>@page{{size:174mm 5000mm;margin:0}}</style>{html}"


def _beside_chromium(data: list[bytes], pages: list[str], rounds: int = 3) -> tuple[list[float], int, str, list[float]]:
    """A few messages at a time, in turn: the two take so long that the machine would be another one in between. Of the
    rounds of each few the shortest counts, for both: what else the machine does lasts from one turn into the next."""
    mine: list[float] = []
    theirs: list[float] = []
    with Chromium() as browser:
        browser.pdf(pages[0])
        for at in range(0, len(data), _AT_ONCE):
            some = slice(at, at + _AT_ONCE)
            times = paired(
                rounds,
                lambda: ours(data[some], options=BARE),  # noqa: B023
                lambda: [browser.pdf(page) for page in pages[some]],  # noqa: B023
                rest=_REST,
            )
            mine.append(min(times[0]))
            theirs.append(min(times[1]))
    return [sum(mine)], len(data), "Chromium, from the cleaned HTML", [sum(theirs)]


def row(what: str, mine: list[float], count: int, beside: str, theirs: list[float], least: float) -> list[str]:
    return [
        what,
        f"{min(mine) / count * 1000:.1f} ms",
        beside,
        f"{min(theirs) / count * 1000:.1f} ms",
        f"{ratio(theirs, mine):.2f}",
        f"{least}",
    ]


if __name__ == "__main__":
    main(*map(Path, sys.argv[1:]))
