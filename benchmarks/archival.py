"""Every message as PDF/A-3b: approved by the validator, opened anew, with its original in it byte for byte."""

from __future__ import annotations

import io

import pikepdf
import pikepdf.pdfa

from benchmarks.grammar import generated
from benchmarks.measure import table
from benchmarks.messages import fixtures
from wexagraph.pages.make import Job, make
from wexagraph.pages.options import PageOptions
from wexagraph.work.pool import ProcessWorkers

OPTIONS = PageOptions(zone="UTC", archival=True)
COUNT = 2000


def proved(data: bytes) -> tuple[bool, bool]:
    """Whether the page that is made of a message is approved, and whether it holds the message; runs in a worker."""
    made = make(Job(data, ("pdf",), OPTIONS))
    with pikepdf.open(io.BytesIO(made.files["pdf"])) as document:
        held = document.attachments["original message.eml"].get_file().read_bytes() == data
        return pikepdf.pdfa.check(document, "3b").passed, held


def main() -> None:
    rows = []
    for name, made in (("demo mailbox", fixtures()), ("generated from the grammar", generated(COUNT))):
        with ProcessWorkers(2, 120) as pool:
            results = [future.result() for future in [pool.submit(proved, each.data) for each in made]]
        passed, held = (sum(one) for one in zip(*results, strict=True))
        rows.append([name, f"{len(results)}", f"{passed / len(results):.2%}", f"{held / len(results):.2%}", "100 %"])
    table("Messages as PDF/A-3b", ["messages", "number", "approved", "original held", "wanted"], rows)


if __name__ == "__main__":
    main()
