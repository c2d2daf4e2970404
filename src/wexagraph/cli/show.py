"""`wexagraph show SOURCE ID`"""

from __future__ import annotations

import hashlib
from datetime import UTC
from typing import Any

import click

from wexagraph.app.locales import zone_name
from wexagraph.app.option_table import KEYS
from wexagraph.app.rows import Flag, Option
from wexagraph.cli.exits import OK, SOME_FAILED
from wexagraph.cli.listing import find
from wexagraph.cli.options import option, options
from wexagraph.cli.parameters import AS_OF, JSON, LINKS, PRINT, SALVAGE, SOURCE, ZONE, opened
from wexagraph.cli.reports import print_json, print_on_paper
from wexagraph.cli.terminal import make_console, make_table
from wexagraph.errors import CallError
from wexagraph.messages.blocks import HtmlBlock, MessageBlock, TextBlock
from wexagraph.messages.dates import in_zone
from wexagraph.messages.filetypes import KINDS
from wexagraph.messages.message import Message
from wexagraph.messages.visible_text import html_to_text
from wexagraph.pages.options import PageOptions
from wexagraph.selection.choice import Choice
from wexagraph.sources.base import Envelope, Source
from wexagraph.text import lines, one_line, size

_MOST_PARTS = 500


@click.command("show")
@SOURCE
@click.argument("id", metavar="ID")
@ZONE
@AS_OF
@LINKS
@SALVAGE
@options(*KEYS)
@option(Option("headers", "All header fields, as they were written.", False, Flag(), safe=True))
@PRINT
@JSON
@click.pass_context
def command(
    context: click.Context,
    source: str,
    id: str,
    zone: str | None,
    headers: bool,
    printer: str | None,
    as_json: bool,
    **_: Any,
) -> int:
    """One message of SOURCE: its headers, its text, its parts. `wexagraph list` gives the ID."""
    timezone = PageOptions(zone=zone_name(zone)).timezone()
    with opened(context, source) as mailbox:
        envelope = next(find(mailbox, id), None)
        if envelope is None:
            raise CallError(f"there is no message {id!r} in {source}. `wexagraph list {source}` gives the IDs.")
        data = mailbox.read(envelope)
        if printer is not None:
            return _on_paper(mailbox, envelope, zone, printer)
        message = mailbox.message(data)
    header = message.header
    moment, date_notes = envelope.date()
    if as_json:
        print_json(_as_dict(envelope, data, message, headers))
        return OK
    rows = [("Subject", header.subject or "(no subject)")]
    for label, name in (("From", b"from"), ("To", b"to"), ("Cc", b"cc")):
        text = ", ".join(str(address) for address in header.addresses(name))
        if text:
            rows.append((label, text))
    shown = in_zone(moment, timezone) if moment and timezone else moment
    rows.append(("Date", f"{shown:%A %d %B %Y, %H:%M (UTC%z)}" if shown else "undated"))
    rows += [
        ("ID", envelope.id),
        ("Folder", envelope.folder),
        ("Flags", ", ".join(sorted(envelope.flags)) or "none"),
        ("Size", size(len(data))),
        ("SHA-256", hashlib.sha256(data).hexdigest()),
    ]
    for label, text in rows:
        click.echo(click.style(f"{label:9}", fg="magenta") + one_line(text))
    if headers:
        click.echo()
        for field, value in header.fields():
            click.echo(one_line(f"{field}: {value.decode('utf-8', 'replace')}"))
    click.echo()
    click.echo(lines(_text(message)).strip("\n") or "(no text)")
    click.echo()
    _parts(message)
    for note in [*date_notes, *message.notes()]:
        click.secho(f"Note: {one_line(str(note))}", dim=True)
    return OK


def _on_paper(mailbox: Source, envelope: Envelope, zone: str | None, printer: str) -> int:
    """Print the page of a message, as an export makes it. Returns the exit code."""
    from wexagraph.app.options import export_options
    from wexagraph.app.printing import checked_printer, pdfs_of_export
    from wexagraph.exports.run import export
    from wexagraph.temporary import TemporaryFolder

    checked_printer()
    with TemporaryFolder() as folder:
        options = export_options({"zone": zone, "jobs": 1})
        report = export(mailbox, folder / "page", Choice(ids=frozenset([envelope.id])), options)
        for failure in report.failures:
            click.secho(f"No page: {one_line(failure.reason)}", fg="red", err=True)
        printed = print_on_paper(pdfs_of_export(folder / "page", False), printer)
    return OK if printed and report.complete else SOME_FAILED


def _as_dict(envelope: Envelope, data: bytes, message: Message, headers: bool) -> dict[str, Any]:
    """The message as plain values; its date in UTC."""
    header, (moment, date_notes) = message.header, envelope.date()

    def people(name: bytes) -> list[dict[str, str]]:
        return [{"name": one.name, "address": one.address} for one in header.addresses(name)]

    fields = {name: people(name.encode()) for name in ("from", "to", "cc", "bcc")}
    written = [[name, value.decode("utf-8", "replace")] for name, value in header.fields()]
    parts = [
        {
            "number": part.number,
            "type": part.type,
            "name": part.filename,
            "size": None if part.children else part.size(),
        }
        for part in list(message.root.walk())[:_MOST_PARTS]
    ]
    notes = [{"code": note.code, "text": str(note)} for note in [*date_notes, *message.notes()]]
    return {
        "id": envelope.id,
        "folder": envelope.folder,
        "date": moment.astimezone(UTC).isoformat() if moment else None,
        **fields,
        "subject": header.subject,
        "flags": sorted(envelope.flags),
        "size": len(data),
        "sha256": hashlib.sha256(data).hexdigest(),
        "text": _text(message),
        "parts": parts,
        "notes": notes,
        **(_proved(message) if message.keys is not None else {}),
        **({"headers": written} if headers else {}),
    }


def _proved(message: Message) -> dict[str, Any]:
    """What was opened and proved, layer by layer, and the marks of sending domains."""
    layers, marks = message.layers, message.marks
    return {"protection": [one.as_dict() for one in layers], "marks": [one.as_dict() for one in marks]}


def _text(message: Message) -> str:
    out = []
    for block in message.blocks(plain=True):
        if isinstance(block, TextBlock):
            out.append(block.text)
        elif isinstance(block, HtmlBlock):
            out.append(html_to_text(block.html))
        elif isinstance(block, MessageBlock):
            inner = Message(block.data, block.depth, block.keys)
            heading = f"--- message inside: {inner.header.subject}, from {inner.header.sender} ---"
            out.append(f"{heading}\n{_text(inner)}")
    return "\n\n".join(out)


def _parts(message: Message) -> None:
    table = make_table("Part", "Type", "Name", ">Size")
    for part in list(message.root.walk())[:_MOST_PARTS]:
        table.add_row(
            part.number,
            KINDS.get(part.type, one_line(part.type)) if part.filename else one_line(part.type),
            one_line(part.filename),
            "" if part.children else size(part.size()),
        )
    make_console().print(table)
