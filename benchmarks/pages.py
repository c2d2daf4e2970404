"""Messages to finished PDF: against a warm headless Chromium, against WeasyPrint, and two workers against one."""

from __future__ import annotations

from concurrent.futures import Future

from benchmarks.chromium import Chromium
from benchmarks.inputs import messages
from benchmarks.measure import paired, ratio, table
from wexagraph.exports.pool import Workers
from wexagraph.messages import Message
from wexagraph.pages.compose import compose
from wexagraph.pages.make import Job, make
from wexagraph.pages.options import PageOptions

OPTIONS = PageOptions(zone="UTC")
BARE = PageOptions(zone="UTC", read_back=False)
_AT_ONCE = 6


def ours(data: list[bytes], engine: str = "plutoprint", options: PageOptions = OPTIONS) -> None:
    for message in data:
        make(Job(message, ("pdf",), options, engine))


def in_workers(data: list[bytes], count: int) -> None:
    with Workers(count, 60) as pool:
        pool.submit(len, b"").result()
        futures: list[Future[object]] = [pool.submit(make, Job(message, ("pdf",), OPTIONS)) for message in data]  # type: ignore[misc]
        for future in futures:
            future.result()


def main() -> None:
    rich, plain = messages("html", 60), messages("text", 120)
    pages = [compose(Message(data), OPTIONS).html for data in rich]
    ours(rich[:2] + plain[:2])  # warm, as a worker is
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
    table(
        "Messages to finished PDF", ["what", "a message", "beside it", "a message", "times its rate", "at least"], rows
    )


def _beside_chromium(data: list[bytes], pages: list[str]) -> tuple[list[float], int, str, list[float]]:
    """A few messages at a time, in turn: the two take so long that the machine would be another one in between."""
    mine: list[float] = []
    theirs: list[float] = []
    with Chromium() as browser:
        browser.pdf(pages[0])
        for at in range(0, len(data), _AT_ONCE):
            some = slice(at, at + _AT_ONCE)
            found = paired(
                3,
                lambda: ours(data[some], options=BARE),  # noqa: B023
                lambda: [browser.pdf(page) for page in pages[some]],  # noqa: B023
            )
            mine += found[0]
            theirs += found[1]
    return [sum(mine) / 3], len(data), "Chromium, from the cleaned HTML", [sum(theirs) / 3]


def row(what: str, mine: list[float], count: int, beside: str, theirs: list[float], least: float) -> list[str]:
    return [
        what, f"{min(mine) / count * 1000:.1f} ms", beside, f"{min(theirs) / count * 1000:.1f} ms",
        f"{ratio(theirs, mine):.2f}", f"{least}",
    ]  # fmt: skip


if __name__ == "__main__":
    main()
