"""Makes all files of each message in a process of its own, and prints what it took, a line a message: `python -m
tests.one_message FILE...`."""

from __future__ import annotations

import json
import os
import resource
import signal
import sys
import time
from pathlib import Path

from wexagraph.backups.packing import pack
from wexagraph.exports.options import ExportOptions
from wexagraph.exports.plan import wishes
from wexagraph.messages.headers import Header, header_end
from wexagraph.pages.make import Job, make
from wexagraph.pages.options import PageOptions
from wexagraph.sources.base import Envelope

MOST_SECONDS = 60


def take(path: str) -> None:
    """Make everything of one message; print seconds, megabytes and notes."""
    data = Path(path).read_bytes()
    started = time.process_time()  # other tests run beside it
    envelope = Envelope("f", "1", len(data), Header(data[: header_end(data)]))
    list(wishes([envelope], ExportOptions()))
    pack(data)
    try:
        made = make(Job(data, ("pdf", "html", "text"), PageOptions(attachments=("embed", "pages"))))
        notes = sorted({note.code for note in made.notes})
    except Exception as error:  # told, so that the test can judge it
        notes = [f"{type(error).__name__}: {error}"[:300]]
    spent = time.process_time() - started
    held = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(json.dumps({"seconds": round(spent, 2), "megabytes": round(held), "notes": notes}), flush=True)


def main() -> None:
    for path in sys.argv[1:]:
        child = os.fork()
        if not child:
            signal.alarm(MOST_SECONDS)  # ends it, whatever it does
            take(path)
            os._exit(0)
        _, status = os.waitpid(child, 0)
        if status:
            reason = "it hangs" if os.WTERMSIG(status) == signal.SIGALRM else f"it ends with {status}"
            print(json.dumps({"seconds": MOST_SECONDS, "megabytes": 0, "notes": [reason]}), flush=True)


if __name__ == "__main__":
    main()
