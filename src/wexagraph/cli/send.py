"""`wexagraph send SOURCE [CHOICE] --send-to ADDRESS`, `wexagraph send --case REF`, and `wexagraph send log`"""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from wexagraph.app.option_table import AS, BIND, CASE, EXPORT, JOBS, PAGE_OPTIONS, RUN_ON, TITLE, UNQUOTE
from wexagraph.app.rows import FILES, Flag, OneOf, Option
from wexagraph.cli.exits import OK
from wexagraph.cli.options import options
from wexagraph.cli.parameters import (
    DRY_RUN,
    JSON,
    QUIET,
    RECORDS,
    choosing,
    explain_none,
    make_choice,
    opened,
    plain_values,
    records_of,
)
from wexagraph.cli.progress import Display, stoppable
from wexagraph.cli.reports import conclude, counted, print_json
from wexagraph.cli.session import at_a_terminal, prompt
from wexagraph.cli.terminal import make_console, make_table
from wexagraph.errors import CallError
from wexagraph.text import one_line, size

if TYPE_CHECKING:
    from wexagraph.app.sending import SendOptions, SendReport
    from wexagraph.sending.outbox import Sent

_WAYS = ("pdf", "eml", "zip", "inline")
_OWN = (
    Option(
        "send-to",
        "To whom; @FILE is a text file with an address a line. Repeatable.",
        (),
        None,
        "ADDRESS",
        many=True,
    ),
    Option("copy-to", "Who gets a copy (Cc). Repeatable.", (), None, "ADDRESS", many=True),
    Option("blind-to", "Who gets one that no other sees (Bcc). Repeatable.", (), None, "ADDRESS", many=True),
    Option("send-subject", "What the mail is about; {number} is how many messages.", None, None, "PATTERN"),
    Option("text-file", "What the mail says, .j2: a template; else a line a message.", None, None, "FILE"),
    Option("sender", "From whom; else as configured under [sending].", None, None, "ADDRESS"),
    Option(
        "by", "The server: smtps://user@mail.example/; else as configured; without one, a draft.", None, None, "URL"
    ),
    Option("draft", "Lay it among the drafts of the account, for a person to look at and send.", False, Flag()),
    Option("again", "Also what was sent before, or may have been.", False, Flag()),
    Option("yes", "Do not ask before anything is sent.", False, Flag()),
)
_MADE = (
    replace(
        AS,
        help="pdf: a PDF a message. eml: the originals. zip: them in a ZIP. inline: their texts in the mail, with "
        "their attachments.",
        takes=OneOf(_WAYS),
        metavar="WAY",
    ),
    *(BIND, TITLE, UNQUOTE, RUN_ON, *PAGE_OPTIONS, JOBS),
)


@click.command("send")
@click.argument("source", metavar="[SOURCE]", required=False)
@choosing
@options(replace(CASE, help="The originals in this case.", section=FILES), *_MADE, *_OWN)
@RECORDS
@DRY_RUN
@QUIET
@JSON
@click.pass_context
def command(context: click.Context, source: str | None, case: str | None, **values: Any) -> int:
    """Send the chosen messages of SOURCE, or the originals in a case, to others by mail.

    Without a server (--by, or configured) it becomes a draft in the account. All is made before the first mail goes;
    what the server can't take in one is split. Nothing goes twice. `wexagraph send log` says what went, when and to
    whom: handed over to a server is not yet arrived.
    """
    if source == "log" and not Path("log").exists():
        return _log(values["as_json"])
    if (source is None) is (case is None):
        raise CallError("name what to send: a SOURCE, or --case REF.")
    from wexagraph.app.opening import Way
    from wexagraph.app.options import export_options
    from wexagraph.app.sending import WAYS, send, send_options

    records = records_of(context, values["records"]) if case is not None else None
    filed = records.plan().get(case) if records is not None and case is not None else None
    place = str(records.place(filed)) if records is not None and filed is not None else str(source)
    plain = plain_values(context, values, [row.name for row in (*_OWN, *_MADE)])
    known = {row.name for row in EXPORT}
    files = {name: value for name, value in plain.items() if name in known}
    about = (filed.reference, filed.title) if filed is not None else ("", "")
    made = export_options(files | {"as": WAYS[plain["as"]]}, prompt(), case=about if filed is not None else None)
    wanted = send_options(plain, made, context.obj.configuration, place, about)
    if wanted.by is not None and not (values["yes"] or values["dry_run"] or at_a_terminal()):
        raise CallError("mail is to be sent, and there is no terminal to ask at. Add --yes to allow it.")
    choice, display = make_choice(values, None), Display(made.formats)
    with opened(context, place) as mailbox, display, stoppable(display) as stopped:
        report = send(
            *(mailbox, choice, wanted),
            Way(prompt=prompt(), configuration=context.obj.configuration),
            datetime.now().astimezone(),
            dry=values["dry_run"],
            progress=display.update,
            stopped=stopped,
            allow=lambda mails: _allowed(mails, wanted, display, bool(values["yes"])),
        )
        explain_none(report, mailbox, choice)
    if records is not None and filed is not None and report.written:
        went = [mail for mail in report.mails if mail.state]
        with records.changing() as plan:
            about_it = {"to": list(wanted_people(went)), "mails": [mail.id for mail in went]}
            records.note(plan, plan.get(filed.reference), "sent", **about_it)
    dry = values["dry_run"]
    return conclude(report, values["as_json"], lambda: _print(report, dry), values["quiet"] and not dry)


def wanted_people(mails: list[Sent]) -> list[str]:
    """All who got mails, each once."""
    return list(dict.fromkeys(one for mail in mails for one in mail.recipients))


def _allowed(mails: list[Sent], wanted: SendOptions, display: Display, sure: bool) -> bool:
    if wanted.by is None or sure:
        return True
    display.close()
    people = ", ".join(wanted_people(mails))
    total = size(sum(mail.size for mail in mails))
    return click.confirm(f"Send {counted(len(mails), 'mail')} of {total} to {one_line(people)}?", err=True)


def _print(report: SendReport, dry: bool) -> None:
    states = {"": "to be sent" if dry else "not sent", "handed over": "handed over to"}
    most = "at most " if dry else ""
    for mail in report.mails:
        state = states.get(mail.state, mail.state)
        if mail.state == "handed over":
            state = f"handed over to {mail.by}" if report.written else "handed over before"
        elif mail.state == "draft":
            state = f"a draft in {mail.by}" if report.written else "a draft since before"
        click.echo(f"{one_line(mail.subject)}: {one_line(state)}")
        click.echo(
            f"  To {one_line(', '.join(mail.recipients))}; {counted(len(mail.files), 'file')}, {most}{size(mail.size)}"
        )
        for file in mail.files[:20]:
            click.echo(f"    {one_line(file['name'])}")
    if dry:
        click.echo(f"{counted(report.chosen, 'message')} in {counted(len(report.mails), 'mail')}. Nothing was sent.")
    elif report.mails:
        before = (
            f"; {report.already_there:,} went before, and --again sends them once more" if report.already_there else ""
        )
        click.echo(f"{counted(report.chosen, 'message')} in {counted(report.written, 'mail')}{before}.")


def _log(as_json: bool) -> int:
    """Say what was sent."""
    from wexagraph.app.sending import as_dict, sent_before

    mails = sent_before()
    if as_json:
        print_json([as_dict(mail) for mail in mails])
    elif mails:
        table = make_table("When", "What became of it", "To", "Subject", ">Size")
        for mail in mails:
            people = one_line(", ".join(mail.recipients))
            table.add_row(f"{mail.moment:%Y-%m-%d %H:%M}", mail.state, people, one_line(mail.subject), size(mail.size))
        make_console().print(table)
    else:
        click.echo("Nothing was sent from here. `wexagraph send SOURCE --send-to ADDRESS` sends.")
    return OK
