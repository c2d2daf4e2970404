"""The options that several commands share, and what is made of them."""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Callable, Iterable
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from click.shell_completion import CompletionItem

from wexagraph.app import rows
from wexagraph.app.rows import CHOICE, FILES, Flag, Number, OneOf, Option
from wexagraph.cli.options import F, option, together

if TYPE_CHECKING:
    from collections.abc import Iterator

    from wexagraph.app.cases.records import Records
    from wexagraph.app.configuration import Configuration
    from wexagraph.reports import Report
    from wexagraph.selection.choice import Choice
    from wexagraph.sources.base import Source


def named(context: click.Context, parameter: click.Parameter, value: str) -> str:
    """Refuses a place without a name, which would be the folder one stands in. Raises BadParameter."""
    if not value:
        raise click.BadParameter("it is empty. Is a variable empty that should hold a name?")
    return value


# a shell puts what it completes on the line as it is: a folder named $(reboot) would run there
_READ_AS_IT_IS = re.compile(r"[\w@%+=:,./][\w@%+=:,./-]*")


def offered(names: Iterable[str], incomplete: str) -> list[CompletionItem]:
    """Names that go on, but for those that a shell would read in another way."""
    fitting = (name for name in names if name.startswith(incomplete))
    return [CompletionItem(name) for name in fitting if _READ_AS_IT_IS.fullmatch(name)]


def _names(context: click.Context, parameter: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """What a shell may complete a source with: the @names of the configuration, else files and folders."""
    return _named_or_files(incomplete, lambda configuration: [*configuration.sources, *configuration.accounts])


def complete_places(context: click.Context, parameter: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """What a shell may complete a place with: one that has a name, or that the folder was delivered to before."""
    from wexagraph.app.configuration import load
    from wexagraph.app.places import known_places

    folder = context.params.get("folder") or next(iter(context.args), "")
    places = known_places(Path(folder), load(None, lambda name: False))
    if fitting := [place for place in places if place.startswith(incomplete)]:
        return offered(fitting, incomplete)
    return [CompletionItem(incomplete, type="file")]


def _named_or_files(incomplete: str, names_of: Callable[[Configuration], list[str]]) -> list[CompletionItem]:
    if not incomplete.startswith("@"):
        return [CompletionItem(incomplete, type="file")]
    from wexagraph.app.configuration import load

    return offered(sorted(f"@{name}" for name in names_of(load(None, lambda name: False))), incomplete)


def _folders(context: click.Context, parameter: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """The folders of the source in files that stands on the line."""
    from wexagraph.app.opening import open_source
    from wexagraph.errors import WexagraphError

    words = (context.params.get("source"), context.params.get("backup"), *context.args)
    source = next((word for word in words if word), "")
    if not source or source.startswith("@") or "://" in source:
        return []  # nobody waits for a server at a key
    try:
        with open_source(source) as mailbox:
            return offered(mailbox.folders(), incomplete)
    except WexagraphError:
        return []


SOURCE = click.argument("source", metavar="SOURCE", callback=named, shell_complete=_names)
BACKUP = click.argument("backup", metavar="BACKUP", callback=named)
FOLDER = click.argument("folder", metavar="DIR", callback=named)
RECORDS = option(rows.RECORDS)
REFERENCE = click.argument("reference", metavar="REF", callback=named)
ZONE = option(rows.ZONE)
JSON = click.option("--json", "as_json", is_flag=True, help="JSON on standard output.")
CSV = click.option("--csv", "as_csv", is_flag=True, help="CSV on standard output.")


def _cores(context: click.Context, _: click.Parameter, value: int | None) -> int:
    return value or os.cpu_count() or 1


JOBS = option(rows.JOBS, callback=_cores)
INDEX_PAGE, OFFICE_NAME, OFFICE_PICTURE = map(option, (rows.INDEX_PAGE, rows.OFFICE_NAME, rows.OFFICE_PICTURE))
DRY_RUN = click.option("--dry-run", is_flag=True, help="Say what would be written and done, and do nothing.")
QUIET = click.option("--quiet", is_flag=True, help="Say nothing unless something is new or wrong.")
NOTIFY = click.option(
    "--notify",
    multiple=True,
    metavar="WHO",
    help="Tell of the result: desktop, mail:ADDRESS or command:PROGRAM; with ,new or ,failed of that alone. "
    "Repeatable.",
)
DELIVER = click.option(
    "--deliver",
    metavar="PLACE",
    shell_complete=complete_places,
    help="At the end, put what was made there as well: a folder, a URL as `deliver` takes it, or @NAME.",
)
PRINT = click.option(
    "--print",
    "printer",
    is_flag=False,
    flag_value="",
    metavar="[PRINTER]",
    help="At the end, hand the PDFs to the system's printer, in their order: the usual one, or one by name.",
)
YES = click.option("--yes", is_flag=True, help="Do not ask before --afterwards changes anything.")


def into_option(help: str, metavar: str = "DIR") -> Callable[[F], F]:
    """The option that says where results go."""
    return option(Option("into", help, metavar=metavar, section=FILES), required=True, callback=named)


def _keep_as_of(context: click.Context, _: click.Parameter, value: str) -> None:
    context.meta["as_of"] = value


AS_OF = option(
    Option(
        "as-of",
        "Of a backup: as it was at the end of that day; or `ever`, all it has held.",
        "",
        None,
        "DATE",
        CHOICE,
    ),
    expose_value=False,
    callback=_keep_as_of,
)


def _keep_way(context: click.Context, parameter: click.Parameter, value: bool) -> None:
    context.meta[str(parameter.name)] = value


def _way(name: str, help: str) -> Callable[[F], F]:
    """A flag that says how SOURCE is to be opened."""
    return option(Option(name, help, False, Flag(), section=CHOICE), expose_value=False, callback=_keep_way)


LINKS = _way("follow-links", "Read what symbolic links to files in SOURCE lead to.")
SALVAGE = _way("salvage", "Of a personal folder file: also messages that no folder lists any more.")
_CHOICE = (
    Option("folder", "Only this folder and what is below it.", None, None, "NAME", CHOICE, many=True, safe=True),
    Option(
        "from",
        "A part of the sender's name or address; @senders.txt or @list.csv:COLUMN is a list of them.",
        None,
        None,
        "TEXT",
        CHOICE,
        many=True,
        safe=True,
    ),
    Option("to", "A part of a recipient's name or address.", None, None, "TEXT", CHOICE, many=True, safe=True),
    Option("cc", "The same for Cc.", None, None, "TEXT", CHOICE, many=True, safe=True),
    Option("bcc", "The same for Bcc.", None, None, "TEXT", CHOICE, many=True, safe=True),
    Option("with", "The same for sender or any recipient.", None, None, "TEXT", CHOICE, many=True, safe=True),
    Option(
        "header-field",
        "A part of any header field: 'X-Department=Harbour'.",
        metavar="NAME=TEXT",
        section=CHOICE,
        many=True,
        safe=True,
    ),
    Option("subject", "A part of the subject.", None, None, "TEXT", CHOICE, many=True, safe=True),
    Option("body", 'Words of the text; "in quotes" side by side.', None, None, "TEXT", CHOICE, many=True, safe=True),
    Option(
        "text",
        "The same in the text, any header field, or names of attachments.",
        metavar="TEXT",
        section=CHOICE,
        many=True,
        safe=True,
    ),
    Option(
        "since",
        "Dated that day or later: 2026-03-14, yesterday, 30d.",
        metavar="DATE",
        section=CHOICE,
        many=True,
        safe=True,
    ),
    Option("before", "Dated earlier than that day.", None, None, "DATE", CHOICE, many=True, safe=True),
    Option("older-than", "Dated longer ago than: 30d, 6w, 18m, 2y.", None, None, "AGE", CHOICE, many=True, safe=True),
    Option("newer-than", "Dated since so long ago.", None, None, "AGE", CHOICE, many=True, safe=True),
    Option("larger", "Larger than: 20KB, 5MB.", None, None, "SIZE", CHOICE, many=True, safe=True),
    Option("smaller", "Smaller than.", None, None, "SIZE", CHOICE, many=True, safe=True),
    Option("keyword", "Bears this keyword or flag.", None, None, "WORD", CHOICE, many=True, safe=True),
    Option("seen", "Only read, or only unread, messages.", None, Flag("unseen"), section=CHOICE, safe=True),
    Option(
        "attached",
        "Has an attachment; or one of this name or type: '*.xlsx', 'image/*'.",
        metavar="[NAME|TYPE]",
        section=CHOICE,
        many=True,
        bare="*",
        safe=True,
    ),
    Option(
        "kind",
        "newsletter, calendar, receipt, bounce, signed, encrypted, automatic.",
        metavar="KIND",
        section=CHOICE,
        many=True,
        safe=True,
    ),
    Option(
        "mail-only",
        "No appointments, contacts, tasks and notes of personal folder files.",
        False,
        Flag(),
        section=CHOICE,
        safe=True,
    ),
    Option("id", "These messages; `-` reads IDs from standard input.", None, None, "ID", CHOICE, many=True),
    Option("set", "The messages of a set that `pick` has kept.", None, None, "NAME", CHOICE, many=True),
    Option(
        "conversation",
        "The whole conversation of that message, in all folders.",
        metavar="ID",
        section=CHOICE,
        safe=True,
    ),
    Option("newest", "The N newest of what is left.", None, Number(1), "N", CHOICE, safe=True),
    Option(
        "except",
        "Leave out, e.g. 'from=*@list.example'.",
        metavar="CRITERION=VALUE",
        section=CHOICE,
        many=True,
        safe=True,
    ),
)
_SORT = Option(
    "sort",
    "In which order they come: date, from, subject, size, folder; -date: the last first. Several with commas.",
    metavar="FIELDS",
    section=CHOICE,
    many=True,
    safe=True,
)
_ONCE = Option(
    "once",
    "One of each that is there more than once: the same bytes; or `text`: the same to a reader.",
    None,
    OneOf(("bytes", "text")),
    "[HOW]",
    CHOICE,
    bare="bytes",
    safe=True,
)
ONCE = option(_ONCE)
choosing = together(
    option(_CHOICE[0], shell_complete=_folders),
    *(option(row) for row in (*_CHOICE[1:], _SORT)),
    *(AS_OF, LINKS, SALVAGE),
)
"""Gives a command the options of the choice."""
reporting = together(DRY_RUN, QUIET, CSV, JSON)
"""Gives a command the options of how it tells of its run, and of only telling."""


def afterwards_option(kept: str) -> Callable[[F], F]:
    """`--afterwards` for messages that are `kept`, and how it is asked and told."""
    words = "seen, keyword:WORD, move:FOLDER or delete"
    what = click.option("--afterwards", metavar="WHAT", help=f"At an IMAP account, with messages {kept}: {words}.")
    return together(what, YES, DELIVER, NOTIFY)


def make_choice(values: dict[str, Any], zone: str | None) -> Choice:
    """The choice that the options say, its days counted in a zone. Raises CallError."""
    from wexagraph.selection.choice import Choice
    from wexagraph.selection.value_lists import expanded

    plain = {row.name: given for row in (*_CHOICE, _SORT, _ONCE) if (given := values.get(row.name.replace("-", "_")))}
    for name in ("seen", "id", "set"):
        plain.pop(name, None)
    if values.get("seen") is not None:
        plain["seen" if values["seen"] else "unseen"] = True
    ids = _ids(values.get("id") or ())
    if values.get("set"):
        from wexagraph.app.sets import ids_of_sets

        ids = (ids or frozenset()) | ids_of_sets(values["set"])
    return Choice.from_dict(expanded(plain) | {"zone": zone} | ({"id": ids} if ids is not None else {}))


def _ids(given: tuple[str, ...]) -> frozenset[str] | None:
    """IDs from options and from standard input, where the first cell of each line counts and a heading does not."""
    if not given:
        return None
    ids: set[str] = set()
    for value in given:
        if value != "-":
            ids.update(word for word in value.replace(",", " ").split())
            continue
        for line in sys.stdin:
            cell = line.lstrip("\ufeff").replace(";", ",").replace("\t", ",").split(",")[0].strip().strip('"')
            if cell and cell.lower() != "id":
                ids.add(cell)
    return frozenset(ids)


def plain_values(context: click.Context, values: dict[str, Any], names: Iterable[str]) -> dict[str, Any]:
    """The options of a call as plain data: those of `names`, by their names on the command line."""
    named: dict[str, Any] = {}
    for parameter in context.command.params:
        if isinstance(parameter, click.Option) and parameter.name in values:
            for text in parameter.opts:
                named[text.removeprefix("--")] = values[parameter.name]
    return {name: named[name] for name in names if name in named}


@contextmanager
def opened(context: click.Context, source: str, locked: bool = False) -> Iterator[Source]:
    """Open the source that an argument names, of a backup the state that --as-of names; say what narrows the choice.
    Where the command has keys, protected messages are read with them, unless the source is to stay `locked`."""
    if context.obj.configuration.options:
        from wexagraph.cli.defaults import say_what_narrows

        say_what_narrows(context)
    meta = context.meta
    ways = (meta.get("as_of", ""), meta.get("follow_links", False), meta.get("salvage", False))
    from wexagraph.app.commands import unlocked

    keys = context.obj.keys(context.params) if not locked else None
    with context.obj.open(source, *ways) as mailbox:
        yield unlocked(mailbox, keys)


def explain_none(report: Report, source: Source, choice: Choice) -> None:
    """Where nothing was chosen, put into a report why."""
    if report.is_empty and not report.unknown_ids and not report.interrupted:
        from wexagraph.selection.explaining import why_none

        report.why_none = why_none(source, choice)


def say_troubles(source: Source) -> bool:
    """Name on standard error what could not be opened. Returns whether there was any."""
    from wexagraph.text import one_line

    for trouble in source.troubles[:20]:
        click.echo(f"wexagraph: not read: {one_line(trouble.where)}: {one_line(trouble.reason)}", err=True)
    if len(source.troubles) > 20:
        click.echo(f"wexagraph: and {len(source.troubles) - 20} more could not be read.", err=True)
    return bool(source.troubles)


def records_of(context: click.Context, given: str | None) -> Records:
    """The records of a call."""
    from wexagraph.app.cases.records import Records, records_folder, user_name

    return Records(records_folder(given), lambda: datetime.now().astimezone(), user_name())
