"""Places in files that messages can be put into, told by what a path looks like."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

from wexagraph.errors import CallError, TargetError
from wexagraph.output.sinks.base import Sink
from wexagraph.output.sinks.eml_folder import EmlFolderSink
from wexagraph.output.sinks.maildir import MaildirSink
from wexagraph.output.sinks.mbox import MboxSink
from wexagraph.output.sinks.zip import ZipSink
from wexagraph.output.target import keep_apart

MAILDIR = "maildir:"
_SUFFIX = re.compile(r"\.[A-Za-z]{2,4}")
SINKS: list[tuple[Callable[[str], bool], Callable[[Path, bool, Path | None], Sink]]] = [
    (lambda into: into.startswith(MAILDIR), lambda path, by_folder, empty: MaildirSink(path, empty)),
    (lambda into: into.lower().endswith(".mbox"), MboxSink),
    (lambda into: into.lower().endswith(".zip"), lambda path, by_folder, empty: ZipSink(path, empty)),
    (lambda into: True, lambda path, by_folder, empty: EmlFolderSink(path, empty)),
]
"""All kinds of sink in files: whether one is meant by a path, and how it is opened. A new kind is a line before the
last."""


def open_sink(into: str, by_folder: bool = False, source: str = "", empty: Path | None = None) -> Sink:
    """The sink that a path names: an mbox (.mbox), a ZIP (.zip), a Maildir (maildir:PATH), else a folder of EML.

    `empty` is a folder with nothing in it, for a dry run. Raises TargetError, and CallError where the sink lies in the
    folder of the source.
    """
    path = Path(into.removeprefix(MAILDIR)).expanduser()
    if next(n for n, (meant, _) in enumerate(SINKS) if meant(into)) == len(SINKS) - 1:
        _refuse_other_suffix(into, path)
    keep_apart(source, path, around=True)
    try:
        return next(make for meant, make in SINKS if meant(into))(path, by_folder, empty)
    except OSError as error:
        raise TargetError(f"{into} can't be used: {error.strerror or error}.") from error


def _refuse_other_suffix(into: str, path: Path) -> None:
    """Who names a file of a kind that is not ours would be surprised by a folder of that name. Raises CallError."""
    if _SUFFIX.fullmatch(path.suffix) and not into.endswith("/") and not path.is_dir():
        raise CallError(
            f"messages can't be put into a {path.suffix} file. Possible are NAME.mbox, NAME.zip, maildir:PATH, an IMAP "
            f"account, or a folder for EML files ({into}/ makes one of that name)."
        )
