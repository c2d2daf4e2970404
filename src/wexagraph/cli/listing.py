"""`wexagraph list SOURCE [CHOICE]`"""

from __future__ import annotations

import os
import re
import shutil
import sys
from collections import deque
from collections.abc import Iterable, Iterator
from datetime import tzinfo
from typing import Any

import click

from wexagraph.app.zones import zone_name
from wexagraph.cli.exits import OK, SOME_FAILED
from wexagraph.cli.parameters import CSV, JSON, SOURCE, ZONE, choosing, make_choice, opened, say_troubles
from wexagraph.cli.terminal import machine_output
from wexagraph.messages.dates import in_zone
from wexagraph.pages.options import PageOptions
from wexagraph.selection import Choice
from wexagraph.selection.explaining import why_none
from wexagraph.sources import Envelope, Partition, Source, reopen
from wexagraph.tables.columns import Column, heading, named, row
from wexagraph.text import one_line, shortened, size, to_json

_LARGE = 64 * 1024 * 1024  # bytes of a source that are worth starting processes for
_SHARE = 16 * 1024 * 1024
_SNIPPETS = 50  # so many of the best are read again for the place where the words stand
Listed = tuple[Source, Envelope, tzinfo | None]
COLUMNS: list[Column[Listed]] = [
    Column("id", lambda listed: listed[1].id),
    Column("folder", lambda listed: one_line(listed[1].folder)),
    Column("date", lambda listed: _moment(listed[1], listed[2])),
    Column("from", lambda listed: one_line(str(listed[1].header.sender))),
    Column("subject", lambda listed: one_line(listed[1].header.subject)),
    Column("size", lambda listed: listed[1].size),
    Column("attachments", lambda listed: _attached(*listed[:2])),
    Column("flags", lambda listed: one_line(" ".join(sorted(listed[1].flags)))),
]
"""The columns of a list for programs. A new one is a line here."""
MORE: list[Column[Listed]] = [
    Column("from_address", lambda listed: one_line(listed[1].header.sender.address)),
    Column("to", lambda listed: _people(listed[1], b"to")),
    Column("cc", lambda listed: _people(listed[1], b"cc")),
    Column("bcc", lambda listed: _people(listed[1], b"bcc")),
    Column("message_id", lambda listed: one_line(listed[1].header.text(b"message-id"))),
    Column("arrived", lambda listed: _arrived(listed[1], listed[2])),
]
"""Columns that are there for the asking, by --columns."""
_WIDTHS = {"id": 10, "date": 16, "size": 10, "flags": 16, "arrived": 16, "folder": 16}  # others have 24 cells
_MOMENTS = ("date", "arrived")
_SENT = re.compile(
    "sent|sent (items|mail|messages)|gesendet(e elemente|e objekte)?|(itens |elementos )?enviad[oa]s|"
    "(éléments |messages )?envoyés|(posta )?inviata|verzonden( items)?|wysłane",
    re.IGNORECASE,
)


@click.command("list")
@SOURCE
@choosing
@ZONE
@click.option("--columns", metavar="NAMES", help="These alone, in this order: date,to,subject.")
@CSV
@JSON
@click.pass_context
def command(
    context: click.Context,
    source: str,
    zone: str | None,
    columns: str | None,
    as_csv: bool,
    as_json: bool,
    **choice_values: Any,
) -> int:
    """The messages of SOURCE: ID, date, from, size, attachments, subject. Sent mail has "to" in place of "from".

    The ID names a message to `show` and `export --id`. It stays the same while the mailbox is not rewritten.
    """
    name = zone_name(zone)
    choice = make_choice(choice_values, name)
    timezone = PageOptions(zone=name).timezone()
    wanted = named([*COLUMNS, *MORE], columns) if columns else None
    with opened(context, source) as mailbox:
        choice = choice.settled(mailbox)
        if as_csv:
            count = _csv(mailbox, choice, wanted or COLUMNS)
        elif as_json:
            count = _json(mailbox, choice, wanted)
        else:
            count = _lines(mailbox, choice, timezone, wanted)
        unknown = _unknown_ids(mailbox, choice)
        if not count and not unknown and (why := why_none(mailbox, choice)):
            click.echo(f"wexagraph: {one_line(why)}", err=True)
        return SOME_FAILED if say_troubles(mailbox) or unknown else OK


def _unknown_ids(mailbox: Source, choice: Choice) -> bool:
    """Name on standard error the IDs that no message of the source has. Returns whether there are any."""
    if choice.ids is None:
        return False
    known = {envelope.id for envelope in Choice(ids=choice.ids).select(mailbox)}
    for id in sorted(choice.ids - known):
        click.echo(f"wexagraph: not found: {one_line(id)}", err=True)
    return bool(choice.ids - known)


def _csv(mailbox: Source, choice: Choice, columns: list[Column[Listed]]) -> int:
    """Print the table. Returns whether it has rows, as a number that is not 0."""
    machine_output()
    sys.stdout.write(heading(columns))
    written = 0
    for text in _tables(mailbox, choice, columns):
        written += len(text)
        sys.stdout.write(text)
    return written


def _tables(mailbox: Source, choice: Choice, columns: list[Column[Listed]]) -> Iterator[str]:
    """The rows as CSV, piece by piece in their order. A large source is read by several processes, a share each."""
    folders = choice.folders_of(mailbox)
    cores = os.cpu_count() or 1
    if cores == 1 or not mailbox.reopens or choice.newest is not None or sum(map(mailbox.size, folders)) < _LARGE:
        for envelope in choice.select(mailbox):
            yield _table(columns, mailbox, [envelope], choice.zone)
        return
    from concurrent.futures import Future

    from wexagraph.work.pool import ProcessWorkers

    names = ",".join(column.name for column in columns)
    shares = [
        (mailbox.address, choice, names, folder, (number, count))
        for folder in folders
        for count in [mailbox.size(folder) // _SHARE + 1]
        for number in range(count)
    ]
    with ProcessWorkers(cores, timeout=0) as pool:
        running: deque[Future[str]] = deque()
        for share in shares:
            running.append(pool.submit_lasting(table_of_share, *share))
            if len(running) > 2 * cores:
                yield running.popleft().result()
        while running:
            yield running.popleft().result()


def table_of_share(location: str, choice: Choice, names: str, folder: str, share: Partition) -> str:
    """The rows of a share of a folder as CSV; runs in a worker process."""
    mailbox = reopen(location)
    columns = named([*COLUMNS, *MORE], names)
    return _table(columns, mailbox, choice.of_share(mailbox, folder, share), choice.zone)


def _table(columns: list[Column[Listed]], mailbox: Source, envelopes: Iterable[Envelope], zone: tzinfo | None) -> str:
    return "".join(row(columns, (mailbox, envelope, zone)) for envelope in envelopes)


def _moment(envelope: Envelope, zone: tzinfo | None) -> str | None:
    moment = envelope.date()[0]
    return (in_zone(moment, zone) if zone else moment).isoformat() if moment else None


def _people(envelope: Envelope, field: bytes) -> str:
    return one_line(", ".join(map(str, envelope.header.addresses(field))))


def _arrived(envelope: Envelope, zone: tzinfo | None) -> str | None:
    moment = envelope.arrival
    return (in_zone(moment, zone) if zone else moment).isoformat() if moment else None


def _attached(mailbox: Source, envelope: Envelope) -> str:
    return one_line("; ".join(leaf.name or leaf.type for leaf in mailbox.attachments(envelope)))


def _json(mailbox: Source, choice: Choice, columns: list[Column[Listed]] | None) -> int:
    machine_output()
    before = "[\n"
    for envelope in choice.select(mailbox):
        values = (
            {column.name: column.value((mailbox, envelope, choice.zone)) for column in columns}
            if columns
            else _as_dict(mailbox, envelope, choice.zone)
        )
        sys.stdout.write(before + to_json(values, indent=None))
        before = ",\n"
    sys.stdout.write("[]\n" if before == "[\n" else "\n]\n")
    return before != "[\n"


def _as_dict(mailbox: Source, envelope: Envelope, zone: tzinfo | None) -> dict[str, Any]:
    header = envelope.header
    values: dict[str, Any] = {
        "id": envelope.id,
        "folder": envelope.folder,
        "date": _moment(envelope, zone),
        "from": {"name": header.sender.name, "address": header.sender.address},
        "subject": header.subject,
        "size": envelope.size,
        "attachments": [
            {"name": leaf.name, "type": leaf.type, "size": leaf.size} for leaf in mailbox.attachments(envelope)
        ],
        "flags": sorted(envelope.flags),
    }
    if envelope.trouble:
        values["trouble"] = envelope.trouble
    return values


def _lines(mailbox: Source, choice: Choice, timezone: tzinfo | None, columns: list[Column[Listed]] | None) -> int:
    """A line a message, written as it is found. On a terminal the subject is cut to its width, in a pipe nothing is."""
    if mailbox.finds and choice.texts and columns is None:
        return _found(mailbox, choice, timezone)
    count, total, last_folder = 0, 0, None
    if columns:
        click.secho(_cells([column.name for column in columns], columns), bold=True)
    for envelope in choice.select(mailbox):
        if envelope.folder != last_folder and not columns:
            click.secho(("\n" if last_folder is not None else "") + one_line(envelope.folder), bold=True)
            last_folder = envelope.folder
        if columns:
            values = [_in_words(column, (mailbox, envelope, timezone)) for column in columns]
            click.echo(_cells(values, columns))
        else:
            click.echo(_line(mailbox, envelope, timezone))
        count, total = count + 1, total + envelope.size
    _sums(mailbox, count, total)
    return count


def _found(mailbox: Source, choice: Choice, timezone: tzinfo | None) -> int:
    """What an index over all words has found: the best first, with the place where it stands."""
    from wexagraph.backups.source import BackupSource

    assert isinstance(mailbox, BackupSource)
    best = sorted(choice.select(mailbox), key=lambda envelope: mailbox.rank(envelope, choice.texts))
    for number, envelope in enumerate(best):
        click.echo(f"{_line(mailbox, envelope, timezone)}{click.style('  in ' + one_line(envelope.folder), dim=True)}")
        snippet = mailbox.snippet(envelope, choice.texts) if number < _SNIPPETS else ""
        if snippet:
            room = shutil.get_terminal_size().columns - 16 if sys.stdout.isatty() else 1000
            click.echo(f"            {_standing_out(one_line(snippet), choice.texts, max(room, 20))}")
    _sums(mailbox, len(best), sum(envelope.size for envelope in best))
    return len(best)


def _standing_out(snippet: str, texts: tuple[str, ...], most: int) -> str:
    """A piece of text of at most so many characters, with the words that were looked for in it and in bold."""
    words = "|".join(re.escape(word) for text in texts for word in re.findall(r"\w+", text))
    first = re.search(words, snippet, re.IGNORECASE)
    if first and len(snippet) > most:
        start = max(0, min(first.start() - most // 3, len(snippet) - most))
        snippet = "…" * bool(start) + snippet[start + bool(start) :]
    pieces = re.split(f"({words})", shortened(snippet, most), flags=re.IGNORECASE) if words else [snippet]
    styled = (click.style(text, bold=True) if n % 2 else click.style(text, dim=True) for n, text in enumerate(pieces))
    return "".join(styled)


def _in_words(column: Column[Listed], listed: Listed) -> str:
    value = column.value(listed)
    if value is None:
        return ""
    if column.name == "size":
        return size(value)
    return str(value)[:16].replace("T", " ") if column.name in _MOMENTS else str(value)


def _cells(values: list[str], columns: list[Column[Listed]]) -> str:
    """Values in columns of even width; the last one takes what is left of a terminal, and all it needs in a pipe."""
    from rich.cells import cell_len

    widths = [_WIDTHS.get(column.name, 24) for column in columns[:-1]]
    cells = [_fitted(value, width) for value, width in zip(values, widths, strict=False)]
    cells.append(values[-1])
    if sys.stdout.isatty():
        left = shutil.get_terminal_size().columns - sum(widths) - 2 * len(widths) - 1
        cells[-1] = _fitted(values[-1], min(cell_len(values[-1]), max(left, 8)))
    return "  ".join(cells).rstrip()


def _fitted(text: str, width: int) -> str:
    """Text in exactly so many cells of a terminal, an ellipsis where more was there."""
    from rich.cells import cell_len, set_cell_size

    return set_cell_size(text, width) if cell_len(text) <= width else set_cell_size(text, width - 1) + "…"


def _line(mailbox: Source, envelope: Envelope, timezone: tzinfo | None) -> str:
    terminal = sys.stdout.isatty()
    width = shutil.get_terminal_size().columns if terminal else 0
    sender_width = 24 if not width or width >= 100 else 16
    subject_width = max(width - sender_width - 52, 8) if width else 0  # 52: the other cells and the gaps
    subject = one_line(envelope.header.subject) or "(no subject)"
    if envelope.trouble:
        subject = f"can't be read: {one_line(envelope.trouble)}"
    sender = _correspondent(envelope)
    attached = len(mailbox.attachments(envelope))
    cells = [
        click.style(envelope.id, fg="magenta"),
        _date(envelope, timezone),
        _fitted(sender, sender_width),
        f"{size(envelope.size):>10}",
        f"{attached:>2} att" if attached else "      ",
        _fitted(subject, subject_width).rstrip() if width else subject,
    ]
    return "  ".join(cells)


def _correspondent(envelope: Envelope) -> str:
    """Who wrote; of sent mail, to whom."""
    if _SENT.fullmatch(re.split(r"[/.]", envelope.folder)[-1]):
        receivers = envelope.header.addresses(b"to")
        if receivers:
            return one_line("To " + ", ".join(person.name or person.address for person in receivers))
    sender = envelope.header.sender
    return one_line(sender.name or sender.address) or "(no sender)"


def _sums(mailbox: Source, count: int, total: int) -> None:
    tail = f"\n{count:,} message{'s' * (count != 1)}, {size(total)}." if count else "No message is chosen."
    click.secho(tail, dim=True)
    if mailbox.finds:
        from wexagraph.backups.source import BackupSource

        if isinstance(mailbox, BackupSource) and mailbox.run is not None and (gone := mailbox.catalogue.vanished()):
            note = f"{gone:,} message{'s' * (gone != 1)} of earlier runs lie nowhere in the source any more"
            click.secho(f"{note}; --as-of ever lists them too.", dim=True)


def _date(envelope: Envelope, timezone: tzinfo | None) -> str:
    moment = envelope.date()[0]
    if moment is None:
        return "undated         "
    return f"{in_zone(moment, timezone) if timezone else moment:%Y-%m-%d %H:%M}"


def find(mailbox: Source, id: str) -> Iterator[Envelope]:
    """The message of that ID."""
    return Choice(ids=frozenset([id])).select(mailbox)
