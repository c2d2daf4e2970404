"""`wexagraph case`: the cases of the file plan."""

from __future__ import annotations

import sys
from collections.abc import Callable
from datetime import date
from functools import cached_property
from typing import Any

import click

from wexagraph.app.cases.records import Records
from wexagraph.app.option_table import SEAL, SEAL_PASSWORD, STAMP
from wexagraph.app.printing import pdfs_of_case
from wexagraph.cli.case_packing import pack_one, seal_paper, unpack_one
from wexagraph.cli.exits import OK, SOME_FAILED
from wexagraph.cli.options import options, together
from wexagraph.cli.parameters import CSV, JSON, PRINT, RECORDS, REFERENCE, named, records_of
from wexagraph.cli.reports import counted, print_json, print_on_paper
from wexagraph.cli.session import at_a_terminal
from wexagraph.cli.terminal import Sheet, machine_output
from wexagraph.errors import CallError
from wexagraph.records import case_log
from wexagraph.records.fileplan import Case
from wexagraph.reports import Report
from wexagraph.selection.criteria import parse_day
from wexagraph.tables.columns import Column, heading, row
from wexagraph.text import one_line, size


@click.group("case")
def command() -> None:
    """Cases: matters that mail is filed under, each with a reference, a folder, and a time to be kept.

    The records folder holds the file plan (fileplan.toml), which may be edited, and a folder a case. `wexagraph file`
    files messages.
    """


_SHOWN = 50


class CaseRow:
    """A case as a list shows it."""

    def __init__(self, records: Records, case: Case) -> None:
        self.case, self.state, self.due = case, records.state(case), records.due_on(case)
        self._place = records.place(case)

    @cached_property
    def filings(self) -> list[case_log.Event]:
        """What was filed, and when."""
        return case_log.filings(self._place)

    @property
    def messages(self) -> int:
        """How many were filed."""
        return sum(int(event.about.get("messages", 0)) for event in self.filings)

    @property
    def newest(self) -> str:
        """The day on which something was filed last; "" where nothing was."""
        return self.filings[-1].when[:10] if self.filings else ""

    @property
    def held(self) -> str:
        """Why it is on hold."""
        return "; ".join(hold.why for hold in self.case.holds)


COLUMNS: list[Column[CaseRow]] = [
    Column("reference", lambda each: each.case.reference),
    Column("title", lambda each: one_line(each.case.title)),
    Column("state", lambda each: each.state),
    Column("messages", lambda each: each.messages),
    Column("last_filed", lambda each: each.newest or None),
    Column("opened", lambda each: each.case.opened.isoformat()),
    Column("closed", lambda each: each.case.closed.isoformat() if each.case.closed else None),
    Column("keep", lambda each: each.case.keep),
    Column("due", lambda each: each.due.isoformat() if each.due else None),
    Column("held", lambda each: one_line(each.held)),
    Column("tags", lambda each: ", ".join(each.case.tags)),
    Column("folder", lambda each: one_line(each.case.folder)),
]
"""The columns of `case list`."""


@command.command("open")
@REFERENCE
@click.argument("title")
@click.option("--match", "matches", multiple=True, metavar="CRITERION=VALUE", help="What belongs to it. Repeatable.")
@click.option("--keep", metavar="TIME", default="", help="How long after it was closed: 7y, 18m. Without it, for ever.")
@click.option("--tag", "tags", multiple=True, metavar="WORD", help="A tag of all that is filed. Repeatable.")
@click.option(
    "--folder", metavar="NAME", default="", help="Its folder, where it is not to be named from REF and TITLE."
)
@click.option("--again", is_flag=True, help="Although a case of that reference was disposed of.")
@RECORDS
@CSV
@JSON
@click.pass_context
def open_case(
    context: click.Context,
    reference: str,
    title: str,
    matches: tuple[str, ...],
    keep: str,
    tags: tuple[str, ...],
    folder: str,
    again: bool,
    records: str | None,
    as_csv: bool,
    as_json: bool,
) -> int:
    """Open a case: REF is its reference, TITLE what it is about."""
    office = records_of(context, records)
    case = office.open(reference, title, plain_matches(matches), keep, tags, folder, again)
    said = f"Case {one_line(case.reference)} is open: {one_line(case.title)}"
    _tell(office, case, as_csv, as_json, said, f"Folder: {one_line(str(office.place(case)))}")
    return OK


def plain_matches(matches: tuple[str, ...]) -> dict[str, Any]:
    """Criteria as plain data. Raises CallError."""
    plain: dict[str, Any] = {}
    for text in matches:
        name, equals, value = text.partition("=")
        if not equals or not value.strip():
            raise CallError(f"--match {text!r}: write CRITERION=VALUE, for example 'subject=buoy 14'.")
        plain.setdefault(name.strip(), []).append(value.strip())
    return plain


@command.command("list")
@click.option("--state", type=click.Choice(["open", "closed", "on hold", "due"]), help="Only those.")
@RECORDS
@CSV
@JSON
@click.pass_context
def list_cases(context: click.Context, state: str | None, records: str | None, as_csv: bool, as_json: bool) -> int:
    """The cases: open, closed, on hold, due."""
    office = records_of(context, records)
    rows = [CaseRow(office, case) for case in office.plan().cases.values()]
    rows = [each for each in rows if state in (None, each.state)]
    _print_cases(rows, as_csv, as_json)
    return OK


def _print_cases(rows: list[CaseRow], as_csv: bool, as_json: bool) -> None:
    if as_json:
        print_json([{column.name: column.value(each) for column in COLUMNS} for each in rows])
    elif as_csv:
        machine_output()
        sys.stdout.write(heading(COLUMNS))
        for each in rows:
            sys.stdout.write(row(COLUMNS, each))
    else:
        table = Sheet("Case", "|Title", "State", ">Messages", "Last filed", "?Opened", "?Closed", "Due")
        for each in rows[:_SHOWN]:
            case = each.case
            days = (str(case.opened), str(case.closed or "-"), str(each.due or "-"))
            table.add_row(
                one_line(case.reference),
                one_line(case.title),
                each.state,
                f"{each.messages:,}",
                each.newest or "-",
                *days,
            )
        if rows:
            table.show()
        more = f", the first {_SHOWN} shown; --csv lists all" if len(rows) > _SHOWN else ""
        click.echo(f"{counted(len(rows), 'case')}{more}.")


@command.command("show")
@REFERENCE
@PRINT
@RECORDS
@CSV
@JSON
@click.pass_context
def show_case(
    context: click.Context, reference: str, printer: str | None, records: str | None, as_csv: bool, as_json: bool
) -> int:
    """One case: what belongs to it, how long it is kept, what lies in its folder."""
    office = records_of(context, records)
    case = office.plan().get(reference)
    if printer is not None:
        return OK if print_on_paper(pdfs_of_case(office.place(case)), printer) else SOME_FAILED
    each = CaseRow(office, case)
    if as_csv:
        _print_cases([each], as_csv, as_json)
        return SOME_FAILED if office.broken(case) else OK
    files = [path for path in office.place(case).rglob("*") if path.is_file() and ".wexagraph" not in path.parts]
    total = sum(path.stat().st_size for path in files)
    problem = office.broken(case)
    if as_json:
        values = {column.name: column.value(each) for column in COLUMNS}
        print_json({**values, "match": case.match, "files": len(files), "bytes": total, "log": problem or "whole"})
        return SOME_FAILED if problem else OK
    click.secho(f"{one_line(case.reference)}  {one_line(case.title)}", bold=True)
    click.echo(f"State:   {each.state}, opened {case.opened}" + (f", closed {case.closed}" if case.closed else ""))
    if case.keep:
        until = f", due for disposal on {each.due}" if each.due else " after it is closed"
        click.echo(f"Kept:    {case.keep}{until}")
    for hold in case.holds:
        click.echo(f"On hold: since {hold.since}, by {one_line(hold.by) or 'somebody'}: {one_line(hold.why)}")
    for name, value in case.match.items():
        click.echo(f"Belongs: {name} {one_line(' or '.join(value if isinstance(value, list) else [str(value)]))}")
    click.echo(f"Folder:  {one_line(str(office.place(case)))}: {counted(len(files), 'file')}, {size(total)}")
    click.echo(f"Filed:   {counted(each.messages, 'message')}" + (f", last on {each.newest}" if each.newest else ""))
    if problem:
        click.secho(f"The log is not whole: {problem}.", fg="red")
    return SOME_FAILED if problem else OK


def _tell(office: Records, case: Case, as_csv: bool, as_json: bool, *lines: str) -> None:
    """Say what a case now is: a row for programs, else in words."""
    if as_json:
        each = CaseRow(office, case)
        print_json({column.name: column.value(each) for column in COLUMNS})
    elif as_csv:
        _print_cases([CaseRow(office, case)], as_csv, as_json)
    else:
        for line in lines:
            click.echo(line)


def _changing(
    name: str,
    help: str,
    options: list[Callable[[Any], Any]],
    change: Callable[..., Case],
    said: Callable[[Records, Case], str],
) -> None:
    """Register a command that changes one case, and says what it now is."""

    def changed(
        context: click.Context, reference: str, records: str | None, as_csv: bool, as_json: bool, **values: Any
    ) -> int:
        office = records_of(context, records)
        case = change(office, reference, **values)
        _tell(office, case, as_csv, as_json, f"Case {one_line(case.reference)} {said(office, case)}.")
        return OK

    changed.__doc__ = help
    given = together(REFERENCE, *options, RECORDS, CSV, JSON)
    command.command(name)(given(click.pass_context(changed)))


def _close(office: Records, reference: str, on: str | None) -> Case:
    day: date | None = parse_day(on, office.today) if on else None
    return office.close(reference, day)


_changing(
    "close",
    "Close a case: from then on it is kept for its time.",
    [click.option("--on", metavar="DATE", help="On another day than today.")],
    _close,
    lambda office, case: (
        f"is closed since {case.closed}"
        + (f" and due for disposal on {due}" if (due := office.due_on(case)) else ", kept for ever")
    ),
)
_changing("reopen", "Open a closed case again.", [], Records.reopen, lambda office, case: "is open again")
_changing(
    "rename",
    "Give a case another title. Its folder keeps its name, so that links into it hold.",
    [click.argument("title")],
    Records.rename,
    lambda office, case: f"is called {one_line(case.title)} now",
)
_changing(
    "hold",
    "Stop the disposal of a case, open or closed.",
    [click.option("--why", required=True, metavar="TEXT", help="What for: it stands in the log.")],
    Records.hold,
    lambda office, case: "is on hold",
)
_changing("release", "End the holds of a case.", [], Records.release, lambda office, case: "is not on hold any more")


@command.command("due")
@RECORDS
@CSV
@JSON
@click.pass_context
def due_cases(context: click.Context, records: str | None, as_csv: bool, as_json: bool) -> int:
    """The cases whose time is over, and that no hold keeps."""
    office = records_of(context, records)
    _print_cases([CaseRow(office, case) for case in office.due()], as_csv, as_json)
    return OK


@command.command("dispose")
@REFERENCE
@click.option("--yes", is_flag=True, help="Do not ask.")
@options(SEAL, SEAL_PASSWORD, STAMP)
@RECORDS
@click.pass_context
def dispose_case(context: click.Context, reference: str, yes: bool, records: str | None, **seals: str | None) -> int:
    """Remove a case whose time is over, and leave a certificate of what it held (PDF and text), which can be sealed.

    Refused while it is open, on hold, not due, or not whole. Nothing else in this program removes a record.
    """
    from wexagraph.app.cases.disposal import dispose

    def allow(case: Case, messages: int, files: int) -> bool:
        if yes:
            return True
        if not at_a_terminal():
            raise CallError("nobody can be asked here: add --yes to remove the case.")
        what = f"{counted(messages, 'message')}, {counted(files, 'file')}"
        return click.confirm(f"Remove case {one_line(case.reference)}, {one_line(case.title)} ({what})?", err=True)

    sealing = context.obj.sealing(seals)
    done = dispose(records_of(context, records), reference, allow)
    if done is None:
        click.echo("Nothing was removed.")
        return OK
    click.echo(f"Case {one_line(done.reference)} is gone: {counted(done.messages, 'message')}.")
    click.echo(f"Certificate: {one_line(str(done.certificate))}")
    click.echo(f"Log:         {one_line(str(done.log))}")
    report = Report()
    seal_paper(done.certificate, sealing, report)
    return OK if report.complete else SOME_FAILED


@command.command("merge")
@REFERENCE
@click.argument("into", metavar="REF", callback=named)
@RECORDS
@CSV
@JSON
@click.pass_context
def merge_cases(
    context: click.Context, reference: str, into: str, records: str | None, as_csv: bool, as_json: bool
) -> int:
    """File all of the first case into the second.

    Its tags, its holds and its reference go with it; its folder stays as it was, below `merged` in the records folder.
    """
    from wexagraph.app.cases.merging import merge

    office = records_of(context, records)
    case, report = merge(office, reference, into)
    new = sum(one.written for one in report.reports.values())
    click.echo(
        f"Case {one_line(reference)} is part of {one_line(case.reference)} now: {counted(new, 'message')} new in it."
    )
    return OK


@command.command("log")
@REFERENCE
@RECORDS
@JSON
@click.pass_context
def log_of_case(context: click.Context, reference: str, records: str | None, as_json: bool) -> int:
    """What was done to a case: opened, filed, held, closed. Exit code 1 where a line was taken out or changed."""
    office = records_of(context, records)
    log = office.log_of(reference)
    events, problem = log.events, log.problem
    if as_json:
        rows = [{"when": each.when, "who": each.who, "what": each.what, "about": each.about} for each in events]
        print_json({"reference": log.reference, "whole": not problem, "problem": problem, "events": rows})
        return SOME_FAILED if problem else OK
    for each in events:
        click.echo(f"{each.when[:16].replace('T', ' ')}  {one_line(each.who):<12}  {_in_words(each)}")
    if problem:
        click.secho(f"The log is not whole: {problem}.", fg="red")
    return SOME_FAILED if problem else OK


def _in_words(event: case_log.Event) -> str:
    about = event.about
    words = {
        "opened": lambda: f"opened: {about.get('title', '')}",
        "filed": lambda: f"filed {counted(int(about.get('messages', 0)), 'message')} from {about.get('from', '')}",
        "closed": lambda: f"closed on {about.get('on', '')}",
        "held": lambda: f"held: {about.get('why', '')}",
        "released": lambda: f"released: {'; '.join(map(str, about.get('ended', [])))}",
        "merged": lambda: f"took in case {about.get('of', '')}: {about.get('title', '')}",
        "packed": lambda: f"packed into {about.get('into', '')}",
        "unpacked": lambda: f"unpacked from {about.get('of', '')}{about.get('trouble', '')}",
        "disposed": lambda: f"disposed of, with {counted(int(about.get('messages', 0)), 'message')}; certified",
        "merged into": lambda: f"merged into case {about.get('of', '')}",
        "renamed": lambda: f"renamed: {about.get('title', '')}, before {about.get('before_it', '')}",
    }
    return one_line(words[event.what]() if event.what in words else event.what)


command.add_command(pack_one)
command.add_command(unpack_one)
