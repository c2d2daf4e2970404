"""The options that several commands share, and what is made of them."""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Callable, Iterable
from contextlib import contextmanager
from datetime import datetime
from typing import TYPE_CHECKING, Any, TypeVar

import click
from click.shell_completion import CompletionItem

if TYPE_CHECKING:
    from collections.abc import Iterator

    from wexagraph.app.cases.records import Records
    from wexagraph.reports import Report
    from wexagraph.selection.choice import Choice
    from wexagraph.sources.base import Source

F = TypeVar("F", bound=Callable[..., Any])


def together(*options: Callable[[F], F]) -> Callable[[F], F]:
    """Several options as one decorator, in the order in which help names them."""

    def decorate(command: F) -> F:
        for option in reversed(options):
            command = option(command)
        return command

    return decorate


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
    if not incomplete.startswith("@"):
        return [CompletionItem(incomplete, type="file")]
    from wexagraph.app.configuration import load

    configuration = load(None, lambda name: False)
    names = (f"@{name}" for name in (*configuration.sources, *configuration.accounts))
    return offered(sorted(names), incomplete)


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
RECORDS = click.option("--records", metavar="DIR", help="The records folder; else WEXAGRAPH_RECORDS, or as configured.")
REFERENCE = click.argument("reference", metavar="REF", callback=named)
ZONE = click.option(
    "--zone",
    metavar="ZONE",
    help="Time zone for dates in names and pages: an IANA name such as Europe/Lisbon, or `sender` for the message's "
    "own offset.  [default: this machine's]",
)


JSON = click.option("--json", "as_json", is_flag=True, help="JSON on standard output.")
CSV = click.option("--csv", "as_csv", is_flag=True, help="CSV on standard output.")


def _cores(context: click.Context, _: click.Parameter, value: int | None) -> int:
    return value or os.cpu_count() or 1


JOBS = click.option(
    "--jobs",
    type=click.IntRange(1, 256),
    callback=_cores,
    metavar="N",
    help="Worker processes.  [default: the machine's cores]",
)
CLUSTER = click.option(
    "--cluster", metavar="ADDRESS", help="Work on a Dask cluster: the address of its scheduler, tcp://host:8786."
)
INDEX_PAGE = click.option("--index", is_flag=True, help="A page to browse in the folder: index.html, for any browser.")
OFFICE_NAME = click.option("--office", metavar="NAME", default="", help="The office's name, on the page to browse.")
OFFICE_PICTURE = click.option("--office-picture", metavar="FILE", help="Its picture there: PNG, JPEG, GIF or WebP.")
DRY_RUN = click.option("--dry-run", is_flag=True, help="Say what would be written and done, and do nothing.")
QUIET = click.option("--quiet", is_flag=True, help="Say nothing unless something is new or wrong.")
NOTIFY = click.option(
    "--notify",
    multiple=True,
    metavar="WHO",
    help="Tell of the result: desktop or command:PROGRAM; with ,new or ,failed of that alone. Repeatable.",
)
YES = click.option("--yes", is_flag=True, help="Do not ask before --afterwards changes anything.")


def into_option(help: str, metavar: str = "DIR") -> Callable[[F], F]:
    """The option that says where results go."""
    return click.option("--into", required=True, callback=named, metavar=metavar, help=help)


def _keep_as_of(context: click.Context, _: click.Parameter, value: str) -> None:
    context.meta["as_of"] = value


AS_OF = click.option(
    "--as-of",
    metavar="DATE",
    default="",
    expose_value=False,
    callback=_keep_as_of,
    help="Of a backup: as it was at the end of that day; or `ever`, all it has held.",
)


def _keep_way(context: click.Context, parameter: click.Parameter, value: bool) -> None:
    context.meta[str(parameter.name)] = value


def _way(name: str, help: str) -> Callable[[F], F]:
    """A flag that says how SOURCE is to be opened."""
    return click.option(name, is_flag=True, expose_value=False, callback=_keep_way, help=help)


LINKS = _way("--follow-links", "Read what symbolic links to files in SOURCE lead to.")
SALVAGE = _way("--salvage", "Of a personal folder file: also messages that no folder lists any more.")
_REPEATED = (
    *("from", "to", "cc", "with", "subject", "body", "text", "since", "before", "older-than", "newer-than"),
    *("larger", "smaller", "keyword"),
)
_CHOICE = [
    click.option(
        "--folder",
        "folders",
        multiple=True,
        metavar="NAME",
        shell_complete=_folders,
        help="Only this folder and what is below it.",
    ),
    click.option("--from", multiple=True, metavar="TEXT", help="A part of the sender's name or address."),
    click.option("--to", multiple=True, metavar="TEXT", help="A part of a recipient's name or address."),
    click.option("--cc", multiple=True, metavar="TEXT", help="The same for Cc."),
    click.option("--with", multiple=True, metavar="TEXT", help="The same for sender or any recipient."),
    click.option("--subject", multiple=True, metavar="TEXT", help="A part of the subject."),
    click.option("--body", multiple=True, metavar="TEXT", help='Words of the text; "in quotes" side by side.'),
    click.option(
        "--text", multiple=True, metavar="TEXT", help="The same in the text, any header field, or names of attachments."
    ),
    click.option("--since", multiple=True, metavar="DATE", help="Dated that day or later: 2026-03-14, yesterday, 30d."),
    click.option("--before", multiple=True, metavar="DATE", help="Dated earlier than that day."),
    click.option("--older-than", multiple=True, metavar="AGE", help="Dated longer ago than: 30d, 6w, 18m, 2y."),
    click.option("--newer-than", multiple=True, metavar="AGE", help="Dated since so long ago."),
    click.option("--larger", multiple=True, metavar="SIZE", help="Larger than: 20KB, 5MB."),
    click.option("--smaller", multiple=True, metavar="SIZE", help="Smaller than."),
    click.option("--keyword", multiple=True, metavar="WORD", help="Bears this keyword or flag."),
    click.option("--seen/--unseen", default=None, help="Only read, or only unread, messages."),
    click.option(
        "--attached",
        multiple=True,
        is_flag=False,
        flag_value="*",
        metavar="[NAME|TYPE]",
        help="Has an attachment; or one of this name or type: '*.xlsx', 'image/*'.",
    ),
    click.option("--id", "ids", multiple=True, metavar="ID", help="These messages; `-` reads IDs from standard input."),
    click.option("--set", "sets", multiple=True, metavar="NAME", help="The messages of a set that `pick` has kept."),
    click.option("--conversation", metavar="ID", help="The whole conversation of that message, in all folders."),
    click.option("--newest", type=click.IntRange(min=1), metavar="N", help="The N newest of what is left."),
    click.option(
        "--except",
        "exceptions",
        multiple=True,
        metavar="CRITERION=VALUE",
        help="Leave out, e.g. 'from=*@list.example'.",
    ),
]


choosing = together(*_CHOICE, AS_OF, LINKS, SALVAGE)
"""Gives a command the options of the choice."""
reporting = together(DRY_RUN, QUIET, CSV, JSON)
"""Gives a command the options of how it tells of its run, and of only telling."""


def afterwards_option(kept: str) -> Callable[[F], F]:
    """`--afterwards` for messages that are `kept`, and how it is asked and told."""
    words = "seen, keyword:WORD, move:FOLDER or delete"
    what = click.option("--afterwards", metavar="WHAT", help=f"At an IMAP account, with messages {kept}: {words}.")
    return together(what, YES, NOTIFY)


def make_choice(values: dict[str, Any], zone: str | None) -> Choice:
    """The choice that the options say, its days counted in a zone. Raises CallError."""
    from wexagraph.selection.choice import Choice

    plain = {name: given for name in (*_REPEATED, "attached") if (given := values.get(name.replace("-", "_")))}
    if values.get("seen") is not None:
        plain["seen" if values["seen"] else "unseen"] = True
    for name, key in (("folder", "folders"), ("except", "exceptions"), ("newest", "newest"), ("conversation",) * 2):
        if values.get(key):
            plain[name] = values[key]
    ids = _ids(values.get("ids") or ())
    if values.get("sets"):
        from wexagraph.app.sets import ids_of_sets

        ids = (ids or frozenset()) | ids_of_sets(values["sets"])
    return Choice.from_dict(plain | {"zone": zone} | ({"id": ids} if ids is not None else {}))


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
    for option in context.command.params:
        if isinstance(option, click.Option) and option.name in values:
            for text in option.opts:
                named[text.removeprefix("--")] = values[option.name]
    return {name: named[name] for name in names if name in named}


@contextmanager
def opened(context: click.Context, source: str) -> Iterator[Source]:
    """Open the source that an argument names, of a backup the state that --as-of names; say what narrows the choice."""
    if context.obj.configuration.options:
        from wexagraph.cli.defaults import say_what_narrows

        say_what_narrows(context)
    meta = context.meta
    ways = (meta.get("as_of", ""), meta.get("follow_links", False), meta.get("salvage", False))
    with context.obj.open(source, *ways) as mailbox:
        yield mailbox


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
