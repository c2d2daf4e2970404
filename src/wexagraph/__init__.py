"""Wexagraph: mail to files that stand alone.

The core as a library: open a source, choose, export, read the report.

    import wexagraph

    with wexagraph.open_source("saltmere/harbour.mbox") as source:
        choice = wexagraph.Choice(criteria=(wexagraph.Criterion("from", "pilots.example"),))
        report = wexagraph.export(source, "out", choice)
    print(report.written, report.failed)
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from wexagraph.app.opening import open_source
    from wexagraph.app.registers import register
    from wexagraph.errors import CallError, MessageError, PageError, SourceError, TargetError, WexagraphError
    from wexagraph.exports.options import ExportOptions
    from wexagraph.exports.run import export
    from wexagraph.messages.message import Message
    from wexagraph.naming.patterns import NamePattern
    from wexagraph.pages import PageOptions
    from wexagraph.reports import ExportReport
    from wexagraph.selection.choice import Choice
    from wexagraph.selection.criteria import Criterion
    from wexagraph.sources.base import Envelope, Source

_HOMES = {
    "wexagraph.errors": (
        "CallError",
        "MessageError",
        "PageError",
        "SourceError",
        "TargetError",
        "WexagraphError",
    ),
    "wexagraph.exports.options": ("ExportOptions",),
    "wexagraph.exports.report": ("ExportReport",),
    "wexagraph.exports.run": ("export",),
    "wexagraph.messages.message": ("Message",),
    "wexagraph.naming.patterns": ("NamePattern",),
    "wexagraph.pages": ("PageOptions",),
    "wexagraph.selection.choice": ("Choice",),
    "wexagraph.selection.criteria": ("Criterion",),
    "wexagraph.sources.base": ("Envelope", "Source"),
    "wexagraph.app.opening": ("open_source",),
    "wexagraph.app.registers": ("register",),
}
__all__ = [
    "CallError",
    "Choice",
    "Criterion",
    "Envelope",
    "ExportOptions",
    "ExportReport",
    "Message",
    "MessageError",
    "NamePattern",
    "PageError",
    "PageOptions",
    "Source",
    "SourceError",
    "TargetError",
    "WexagraphError",
    "export",
    "open_source",
    "register",
]


def __getattr__(name: str) -> Any:
    """Load a public name when it is first used: a worker or a short command imports no more than it needs."""
    from importlib import import_module

    for home, names in _HOMES.items():
        if name in names:
            return getattr(import_module(home), name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
