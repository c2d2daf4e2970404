"""Makes all files of one message in a process of its own, and prints seconds and megabytes: `python -m tests.one_message FILE`."""

from __future__ import annotations

import json
import resource
import sys
import time
from pathlib import Path

from wexagraph.backups.packing import pack
from wexagraph.exports.options import ExportOptions
from wexagraph.exports.plan import wishes
from wexagraph.messages import Header
from wexagraph.messages.headers import header_end
from wexagraph.pages.make import Job, make
from wexagraph.pages.options import PageOptions
from wexagraph.sources import Envelope


def main() -> None:
    data = Path(sys.argv[1]).read_bytes()
    started = time.monotonic()
    envelope = Envelope("f", "1", len(data), Header(data[: header_end(data)]))
    list(wishes([envelope], ExportOptions()))
    pack(data)
    try:
        made = make(Job(data, ("pdf", "html", "text"), PageOptions(attachments=("embed", "pages"))))
        notes = sorted({note.code for note in made.notes})
    except Exception as error:  # told, so that the test can judge it
        notes = [f"{type(error).__name__}: {error}"[:300]]
    spent = time.monotonic() - started
    held = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(json.dumps({"seconds": round(spent, 2), "megabytes": round(held), "notes": notes}))


if __name__ == "__main__":
    main()
