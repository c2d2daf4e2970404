"""Whether what an export folder says of itself agrees: its journal, its list of checksums, its registers.

A file that was taken out together with its line in the list is missed by the journal; a message that was taken out of
the journal too still has its row in the register, and in a case its line in the log (`app/proving.py`).
"""

from __future__ import annotations

import shutil
from collections.abc import Iterator, Mapping
from contextlib import closing

from wexagraph.errors import TargetError
from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.register import keys_of, rows_in
from wexagraph.naming.paths import MANIFEST, REGISTERS
from wexagraph.output.folder import OWN, OutputFolder
from wexagraph.reports import Finding
from wexagraph.tables.living.keys import message_digest
from wexagraph.temporary import TemporaryFolder
from wexagraph.text import one_line, shortened

JOURNAL = f"{OWN}/journal.sqlite"
_SHOWN = 3


def disagreements(root: OutputFolder, listed: Mapping[str, str]) -> Iterator[Finding]:
    """What one of them has and another lacks. `listed` are the digests of the list of checksums by path. A folder
    without a journal that can be read has nothing to compare with."""
    if root.stamp(JOURNAL) is None:
        return
    with TemporaryFolder() as copies:
        for ending in ("", "-journal"):  # a copy is read: a proof changes nothing
            if root.stamp(JOURNAL + ending) is not None:
                with root.reader(JOURNAL + ending) as old, open(copies / f"journal.sqlite{ending}", "xb") as copy:
                    shutil.copyfileobj(old, copy, 1 << 20)
        try:
            with closing(Journal(copies / "journal.sqlite", reading=True)) as journal:
                if not journal.is_empty():
                    recorded = journal.files.listing(MANIFEST)
                    as_written = recorded is not None and recorded.sha256 == root.digest(MANIFEST)
                    if not as_written:
                        yield from _of_list(journal, listed)
                    yield from _of_registers(root, journal, as_written)
        except TargetError:  # of another version, or damaged: the next export makes it again
            return


def _of_list(journal: Journal, listed: Mapping[str, str]) -> Iterator[Finding]:
    known: dict[str, set[str]] = {}
    for path, digest in journal.files.checksums():
        known.setdefault(path, set()).add(digest)
    for path, digests in known.items():
        if path not in listed:
            yield Finding(path, "missing", "the journal knows it, and the list of checksums has no line for it")
        elif listed[path] not in digests and path not in REGISTERS.values():
            yield Finding(path, "altered", "its line in the list of checksums is another than the journal knows")
    for path in listed.keys() - known.keys():
        yield Finding(path, "foreign", "the list of checksums has it, and the journal does not know it")


def _of_registers(root: OutputFolder, journal: Journal, as_written: bool) -> Iterator[Finding]:
    """Of registers that nobody has touched, where the list is `as_written`, the digest says enough."""
    subjects = {message_digest((row.digest or row.id).encode()): row.facts[4] for row in rows_in(journal)}
    for name in REGISTERS.values():
        recorded = journal.files.listing(name)
        if recorded is None or (as_written and recorded.sha256 == root.digest(recorded.path)):
            continue
        keys = keys_of(root, recorded.path)
        if keys is None:
            continue
        if lacking := [one_line(text) for key, text in subjects.items() if key not in keys]:
            yield Finding(recorded.path, "altered", f"it has no row of {_some(lacking)}")
        if strange := len(keys - subjects.keys()):
            rows = f"{strange:,} row{'s' * (strange != 1)} of messages"
            yield Finding(recorded.path, "altered", f"it has {rows} that the journal does not know")


def _some(subjects: list[str]) -> str:
    shown = ", ".join(repr(shortened(text, 60)) for text in subjects[:_SHOWN])
    more = len(subjects) - _SHOWN
    return f"{shown} and {more:,} more" if more > 0 else shown
