"""`wexagraph list SOURCE [CHOICE]`"""

from __future__ import annotations

import re
import shutil
import sys
from collections.abc import Iterable, Iterator
from dataclasses import replace
from datetime import tzinfo
from typing import Any

import click

from wexagraph.app.locales import zone_name
from wexagraph.app.option_table import KEYS
from wexagraph.app.rows import FILES, Option
from wexagraph.cli.exits import OK, SOME_FAILED
from wexagraph.cli.options import option, options
from wexagraph.cli.parameters import CSV, JSON, ONCE, SOURCE, ZONE, choosing, make_choice, opened, say_troubles
from wexagraph.cli.terminal import machine_output
from wexagraph.errors import CallError
from wexagraph.messages.dates import in_zone
from wexagraph.naming.patterns import is_of_sent_mail
from wexagraph.pages.options import PageOptions
from wexagraph.selection.choice import Choice
from wexagraph.selection.explaining import why_none
from wexagraph.sources import reopen
from wexagraph.sources.base import Envelope, Partition, Source
from wexagraph.tables.columns import Column, for_json, heading, row
from wexagraph.tables.message_columns import NOT_LISTED, USUAL, Listed, columns_named
from wexagraph.text import one_line, shortened, size, to_json
from wexagraph.work.shares import in_shares, is_worth_shares

_SNIPPETS = 50  # so many of the best are read again for the place where the words stand
_WIDTHS = {"id": 10, "date": 16, "time": 5, "size": 10, "flags": 16, "arrived": 16, "folder": 16}  # others: 24 cells


@click.command("list")
@SOURCE
@choosing
@ONCE
@ZONE
@options(*KEYS)
@option(Option("columns", "These alone, in this order: date,to,subject.", metavar="NAMES", section=FILES, safe=True))
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
    wanted = listed_columns(columns) if columns else None
    if choice.newest is not None and not choice.sort:
        choice = replace(choice, sort=("-date",))
    with opened(context, source) as mailbox:
        choice = choice.settled(mailbox)
        if as_csv:
            count = print_csv(mailbox, choice, wanted or columns_named(USUAL))
        elif as_json:
            count = print_rows(mailbox, choice, wanted)
        else:
            count = print_lines(mailbox, choice, timezone, wanted)
        for exception in choice.idle:
            click.echo(f"wexagraph: --except {one_line(exception)} has left out nothing.", err=True)
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


def print_csv(mailbox: Source, choice: Choice, columns: list[Column[Listed]]) -> int:
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
    if is_worth_shares(mailbox, choice):
        yield from in_shares(mailbox, choice, table_of_share, ",".join(column.name for column in columns))
        return
    for envelope in choice.select(mailbox):
        yield _table(columns, mailbox, [envelope], choice.zone)


def table_of_share(location: str, choice: Choice, folder: str, share: Partition, names: str) -> str:
    """The rows of a share of a folder as CSV; runs in a worker process."""
    mailbox = reopen(location)
    return _table(columns_named(names), mailbox, choice.of_share(mailbox, folder, share), choice.zone)


def _table(columns: list[Column[Listed]], mailbox: Source, envelopes: Iterable[Envelope], zone: tzinfo | None) -> str:
    return "".join(row(columns, Listed(mailbox, envelope, zone)) for envelope in envelopes)


def listed_columns(names: str) -> list[Column[Listed]]:
    """The columns of a list. Raises CallError for those that only a register or an export has."""
    columns = columns_named(names)
    for column in columns:
        if column.name in NOT_LISTED:
            raise CallError(f"--columns {column.name}: a list can't tell it; `wexagraph register` has that column.")
    return columns


def print_rows(mailbox: Source, choice: Choice, columns: list[Column[Listed]] | None) -> int:
    """The rows as JSON, written as they are found. Returns how many there are."""
    machine_output()
    before = "[\n"
    for envelope in choice.select(mailbox):
        values = (
            {column.name: for_json(column.value(Listed(mailbox, envelope, choice.zone))) for column in columns}
            if columns
            else _as_dict(mailbox, envelope)
        )
        sys.stdout.write(before + to_json(values, indent=None))
        before = ",\n"
    sys.stdout.write("[]\n" if before == "[\n" else "\n]\n")
    return before != "[\n"


def _as_dict(mailbox: Source, envelope: Envelope) -> dict[str, Any]:
    header = envelope.header
    values: dict[str, Any] = {
        "id": envelope.id,
        "folder": envelope.folder,
        "date": for_json(envelope.date()[0]),
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


def print_lines(mailbox: Source, choice: Choice, timezone: tzinfo | None, columns: list[Column[Listed]] | None) -> int:
    """A line a message, written as it is found. On a terminal the subject is cut to its width, in a pipe nothing is."""
    if mailbox.finds and choice.texts and columns is None:
        return _found(mailbox, choice, timezone)
    count, total, last_folder = 0, 0, None
    if columns:
        click.secho(_cells([column.name for column in columns], columns), bold=True)
    for envelope in choice.select(mailbox):
        if envelope.folder != last_folder and not columns and not choice.sort:
            click.secho(("\n" if last_folder is not None else "") + one_line(envelope.folder), bold=True)
            last_folder = envelope.folder
        if columns:
            values = [_in_words(column, Listed(mailbox, envelope, timezone)) for column in columns]
            click.echo(_cells(values, columns))
        else:
            click.echo(_line(mailbox, envelope, timezone, f"  in {one_line(envelope.folder)}" if choice.sort else ""))
        count, total = count + 1, total + envelope.size
    _sums(mailbox, count, total)
    return count


def _found(mailbox: Source, choice: Choice, timezone: tzinfo | None) -> int:
    """What an index over all words has found: the best first, with the place where it stands."""
    from wexagraph.backups.source import BackupSource

    assert isinstance(mailbox, BackupSource)
    best = sorted(choice.select(mailbox), key=lambda envelope: mailbox.rank(envelope, choice.texts))
    for number, envelope in enumerate(best):
        click.echo(_line(mailbox, envelope, timezone, f"  in {one_line(envelope.folder)}"))
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
    return f"{value:%Y-%m-%d %H:%M}" if column.kind == "moment" else one_line(str(value))


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


def _line(mailbox: Source, envelope: Envelope, timezone: tzinfo | None, after: str = "") -> str:
    """A message on a line, with what is said `after` it."""
    from rich.cells import cell_len

    terminal = sys.stdout.isatty()
    width = shutil.get_terminal_size().columns if terminal else 0
    sender_width = 24 if not width or width >= 100 else 16
    subject_width = (
        max(width - sender_width - 52 - cell_len(after), 8) if width else 0
    )  # 52: the other cells and the gaps
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
    return "  ".join(cells) + click.style(after, dim=True)


def _correspondent(envelope: Envelope) -> str:
    """Who wrote; of sent mail, to whom."""
    if is_of_sent_mail(envelope.folder):
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
