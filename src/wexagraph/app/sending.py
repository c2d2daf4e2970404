"""Sending what was chosen: made as an export makes it, shown, and handed to a server or laid among drafts, once."""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import closing, contextmanager
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wexagraph.app.accounts import VARIABLE, Known
from wexagraph.app.configuration import Configuration
from wexagraph.app.opening import Way, open_target
from wexagraph.app.orders.running import state_folder
from wexagraph.app.secrets import Prompt
from wexagraph.errors import CallError, MessageError, SourceError, TargetError
from wexagraph.exports.options import ExportOptions
from wexagraph.exports.register import RegisterRow, rows_of
from wexagraph.exports.run import export
from wexagraph.messages.headers import Address, Header
from wexagraph.naming.paths import ALL_REGISTERS, MANIFEST
from wexagraph.naming.patterns import Fields, TextPattern
from wexagraph.output.folder import OWN
from wexagraph.pages.composing.covers import filled_text
from wexagraph.reports import Failure, Progress, Report
from wexagraph.selection.choice import Choice
from wexagraph.sending.mails import Enclosed, Letter, addresses, built, enclosed, identity, size_of, split
from wexagraph.sending.outbox import DRAFT, HANDED_OVER, PLANNED, UNKNOWN, Outbox, Sent
from wexagraph.sources.accounts import SENDING, Account, Login, parse_url
from wexagraph.sources.base import Source
from wexagraph.temporary import TemporaryFolder
from wexagraph.text import one_line

if TYPE_CHECKING:
    from wexagraph.sending.submission import Submission

WAYS = {"pdf": "pdf", "eml": "eml", "zip": "zip", "inline": "text,attachments"}
"""How messages go, and the formats of an export that they are made into."""
_MOST_DRAFT = 40_000_000
_MOST_TEXT = 1_000_000
_TEMPLATES = (".j2", ".jinja")
_RULE = "-" * 60


@dataclass(frozen=True)
class SendOptions:
    """To whom, as what, and by which server (None: as a draft into the account `drafts`). `text` is what the mail says,
    a template where `template` names its file."""

    to: tuple[Address, ...]
    copy: tuple[Address, ...]
    blind: tuple[Address, ...]
    sender: Address
    subject: TextPattern | None
    text: str
    way: str
    files: ExportOptions
    by: Known | None
    drafts: str = ""
    again: bool = False
    case: tuple[str, str] = ("", "")
    template: str = ""


@dataclass
class SendReport(Report):
    """What was sent: `mails`, each with what became of it. `written` counts mails that went now."""

    mails: list[Sent] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        values = super().as_dict()
        values["mails"] = [as_dict(mail) for mail in self.mails]
        return values


def as_dict(mail: Sent) -> dict[str, Any]:
    """A mail as plain values for JSON."""
    return {
        "id": mail.id,
        "moment": mail.moment.astimezone(UTC).isoformat(),
        "state": mail.state,
        "sender": mail.sender,
        "recipients": list(mail.recipients),
        "subject": mail.subject,
        "size": mail.size,
        "files": mail.files,
        "by": mail.by,
    }


def outbox_path() -> Path:
    """Where the list of what was sent lies."""
    return state_folder() / "sent.sqlite"


def sent_before() -> list[Sent]:
    """All mails that were sent from here."""
    if not outbox_path().exists():
        return []
    with closing(Outbox(outbox_path())) as outbox:
        return outbox.mails()


def send_options(
    plain: dict[str, Any], files: ExportOptions, configuration: Configuration, source: str, case: tuple[str, str]
) -> SendOptions:
    """What the options of `send` say, with what the configuration says of sending. Raises CallError."""
    known, to = configuration.sending, addresses(plain["send-to"], "--send-to")
    copy, blind = addresses(plain["copy-to"], "--copy-to"), addresses(plain["blind-to"], "--blind-to")
    if not (to or copy or blind):
        raise CallError("nobody is named to send to: --send-to ADDRESS.")
    senders = addresses(filter(None, [plain["sender"] or known.get("sender", "")]), "--sender")
    by = plain["by"] or known.get("by", "")
    if plain["draft"]:
        by = ""
    if not senders:
        raise CallError("who sends it is not known: --sender ADDRESS, or sender under [sending] in wexagraph.toml.")
    drafts = known.get("drafts", "") or (source if source.startswith(("@", "imap")) else "")
    if not by and not drafts:
        raise CallError(
            "there is no server to send by, and no account for a draft. Name one: --by smtps://user@mail.example/, or "
            "under [sending] in wexagraph.toml: by, or drafts = '@office'."
        )
    if by:
        parse_url(by, SENDING)
    subject = TextPattern(plain["send-subject"], "subject of the mail") if plain["send-subject"] else None
    text = _text(plain["text-file"])
    return SendOptions(
        to,
        copy,
        blind,
        senders[0],
        subject,
        text,
        plain["as"],
        files,
        _server(by, configuration) if by else None,
        drafts,
        plain["again"],
        case,
        Path(plain["text-file"]).name if str(plain["text-file"]).endswith(_TEMPLATES) else "",
    )


def tell(address: str, subject: str, text: str, configuration: Configuration) -> None:
    """Send a notice by the server of the configuration. Raises CallError, SourceError."""
    from wexagraph.sending.submission import Refused, Submission, Unknown

    known, moment = configuration.sending, datetime.now().astimezone()
    (sender,) = addresses([known["sender"]], "sender under [sending]")
    letter = Letter(sender, (Address("", address),), (), (), one_line(subject), text)
    data = built(letter, (), identity(letter, [moment.isoformat()], 1), (1, 1), moment)
    server = _server(known["by"], configuration)
    with Submission(*_line_to(server, None)) as line:
        try:
            line.hand_over(data, sender.address, letter.recipients)
        except (Refused, Unknown) as error:
            raise SourceError(str(error)) from error


def _server(url: str, configuration: Configuration) -> Known:
    """A server that takes mail, and how its secret is found."""
    known = configuration.sending
    return Known(
        url,
        known.get("password-variable", VARIABLE),
        known.get("password-command", ""),
        known.get("token-command", ""),
        known.get("authority", ""),
    )


def _line_to(server: Known, prompt: Prompt | None) -> tuple[Account, Login]:
    return replace(parse_url(server.url, SENDING), authority=server.authority), server.login(prompt)


def _text(path: str | None) -> str:
    if not path:
        return ""
    try:
        text = Path(path).expanduser().read_text("utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        raise CallError(
            f"--text-file {path} can't be read: {getattr(error, 'strerror', None) or 'it is not UTF-8'}."
        ) from error
    if len(text) > _MOST_TEXT:
        raise CallError(f"--text-file {path} has more than {_MOST_TEXT:,} characters.")
    return text


def send(
    source: Source,
    choice: Choice,
    options: SendOptions,
    way: Way,
    moment: datetime,
    *,
    dry: bool = False,
    progress: Callable[[Progress], None] | None = None,
    stopped: Callable[[], bool] = lambda: False,
    allow: Callable[[list[Sent]], bool] = lambda mails: True,
) -> SendReport:
    """Make the chosen messages into files and send them. All is made, and known to fit, before the first mail goes;
    `allow` is asked of the mails that are to go. Raises CallError, SourceError, TargetError."""
    started = time.monotonic()
    with TemporaryFolder() as place:
        made = export(
            source, place / "files", choice, replace(options.files, flat=True), progress=progress, stopped=stopped
        )
        report = SendReport(chosen=made.chosen, failed=made.failed, failures=made.failures, notes=made.notes)
        report.unreadable, report.unknown_ids, report.interrupted = made.unreadable, made.unknown_ids, made.interrupted
        if made.is_empty or made.failed or made.interrupted:
            return report  # nobody gets a part of what was meant
        rows = rows_of(place / "files")
        with _way_out(options, way, dry) as out, closing(Outbox(outbox_path())) as outbox:
            letter, files = _letter(options, rows, place / "files"), _files(place / "files", options, out.eight_bit)
            recipe = "" if options.way in ("eml", "zip") else options.files.recipe("pdf")  # originals are as they are
            content = [options.way, recipe, *sorted(row.digest or row.id for row in rows)]
            _send_all(
                report, letter, split(letter, files, out.most), content, out, outbox, options.again, moment, dry, allow
            )
    report.seconds = time.monotonic() - started
    return report


def _send_all(
    report: SendReport,
    letter: Letter,
    mails: list[list[Enclosed]],
    content: list[str],
    out: _Out,
    outbox: Outbox,
    again: bool,
    moment: datetime,
    dry: bool,
    allow: Callable[[list[Sent]], bool],
) -> None:
    planned = []
    for number, files in enumerate(mails, 1):
        id = identity(letter, content, number)
        held = [{"name": file.name, "sha256": file.sha256} for file in files]
        subject = f"{letter.subject} ({number} of {len(mails)})" if len(mails) > 1 else letter.subject
        state, people = outbox.state(id), letter.recipients
        if state == PLANNED and not dry:  # by a run that was killed
            state = UNKNOWN
            outbox.note(id, state)
        mail = Sent(id, moment, state, letter.sender.address, people, subject, size_of(letter, files), held, out.name)
        planned.append((mail, files))
    report.mails = [mail for mail, _ in planned]
    waiting = [(mail, files) for mail, files in planned if again or not mail.state]
    report.already_there = sum(mail.state in (HANDED_OVER, DRAFT) for mail, _ in planned if not again)
    for mail, _ in planned:
        if mail.state in (PLANNED, UNKNOWN) and not again:
            reason = "nobody knows whether the server has taken it the last time. --again sends it once more"
            report.fail(Failure(mail.id, "", mail.subject, reason))
    if dry or not waiting or not allow([mail for mail, _ in waiting]):
        return
    for mail, files in waiting:
        number = next(n for n, (other, _) in enumerate(planned, 1) if other is mail)
        data = built(letter, files, mail.id, (number, len(mails)), moment)
        about = replace(letter, subject=mail.subject)
        if not outbox.plan(mail.id, about, files, len(data), out.name, moment, again):
            report.already_there += 1  # from another window, just now
            continue
        try:
            state, reason = out.put(data, letter)
        except SourceError:
            outbox.forget(mail.id)  # the line was gone before the mail was
            raise
        if state:
            outbox.note(mail.id, state)
        else:
            outbox.forget(mail.id)
        at = report.mails.index(mail)
        report.mails[at] = replace(mail, state=state or "refused", size=len(data))
        if reason:
            report.fail(Failure(mail.id, "", mail.subject, reason))
            return  # what refuses one is likely to refuse the next, and nobody wants gaps
        report.written += 1
        report.bytes += len(data)


class _Out:
    """Where mails go: a server, the drafts of an account, or (of a dry run) nowhere."""

    most, eight_bit, name = _MOST_DRAFT, False, ""

    def put(self, data: bytes, letter: Letter) -> tuple[str, str]:
        """Hand a mail over. Returns its state, and why it did not go."""
        raise NotImplementedError


class _Server(_Out):
    def __init__(self, line: Submission, name: str) -> None:
        self._line, self.name = line, name
        self.most, self.eight_bit = line.most, line.eight_bit

    def put(self, data: bytes, letter: Letter) -> tuple[str, str]:
        from wexagraph.sending.submission import Refused, Unknown

        try:
            self._line.hand_over(data, letter.sender.address, letter.recipients)
        except Refused as error:
            return "", f"the server does not take it: {error}"
        except Unknown as error:
            return UNKNOWN, f"the line ended before the server said whether it has it: {one_line(str(error))}"
        return HANDED_OVER, ""


class _Drafts(_Out):
    def __init__(self, source: Any) -> None:
        folder = source.all_folders.drafts()
        if folder is None:
            raise CallError(
                f"{source.account.name} has no folder of drafts. Make one there, or send by a server: --by."
            )
        from wexagraph.output.sinks.imap import Filling

        self._filling, self._folder = Filling(source), folder.name
        self.name = f"{source.account.name}, {folder.name}"

    def put(self, data: bytes, letter: Letter) -> tuple[str, str]:
        try:
            self._filling.append(self._folder, "", data, frozenset({"draft", "seen"}), None)
        except (MessageError, TargetError) as error:
            return "", str(error)
        except SourceError as error:
            return UNKNOWN, f"the line ended before the account said whether it has the draft: {one_line(str(error))}"
        return DRAFT, ""


@contextmanager
def _way_out(options: SendOptions, way: Way, dry: bool) -> Any:
    """Where the mails go, open. A dry run asks a server as well what it takes, and an account for its drafts."""
    if options.by is not None:
        from wexagraph.sending.submission import Submission

        account, login = _line_to(options.by, way.prompt)
        with Submission(account, login) as line:
            yield _Server(line, account.host)
        return
    source, _ = open_target(options.drafts, way)
    with source:
        if not hasattr(source, "all_folders"):
            raise CallError(f"{options.drafts} has no drafts: they go into an IMAP account.")
        yield _Drafts(source)


def _letter(options: SendOptions, rows: list[RegisterRow], place: Path) -> Letter:
    first = rows[0]
    header = Header(f"From: {one_line(first.facts[1])}\nSubject: {one_line(first.facts[4])}\n".encode())
    date = first.date if isinstance(first.date, datetime) else None
    fields = Fields(header, first.folder, first.id, None, date, number=len(rows), case=options.case)
    count = f"{len(rows)} message{'s' * (len(rows) != 1)}"
    if options.subject is not None:
        subject = options.subject.fill(fields)
    elif options.case[0]:
        subject = f"{options.case[0]}: {options.case[1]}, {count}"
    else:
        subject = header.subject if len(rows) == 1 else f"{count}: {header.subject}"
    said = _said(options, rows)
    text = said or "".join(f"{_line(row)}\n" for row in rows)
    if options.way == "inline":
        paths = [place / path for row in rows for path in row.files if path.endswith(".txt") and "/" not in path]
        parts = [path.read_text("utf-8", "replace") for path in paths]
        text = "\n\n".join([said.rstrip(), *(f"{'-' * 60}\n{part.strip()}" for part in parts)]).lstrip() + "\n"
    return Letter(options.sender, options.to, options.copy, options.blind, one_line(subject), text)


def _said(options: SendOptions, rows: list[RegisterRow]) -> str:
    """What the clerk says in the mail. Raises CallError where a template is wrong."""
    if not options.template:
        return options.text
    messages = [
        {"date": _day(row), "sender": one_line(row.facts[1]), "subject": one_line(row.facts[4]), "folder": row.folder}
        for row in rows
    ]
    to = [one_line(each.name or each.address) for each in options.to]
    values = {"messages": messages, "to": to, "case": options.case[0], "case_title": options.case[1]}
    return filled_text(options.text, options.template, values, options.files.page.tr)


def _day(row: RegisterRow) -> str:
    return f"{row.date:%Y-%m-%d}" if isinstance(row.date, datetime) else ""


def _line(row: RegisterRow) -> str:
    return one_line("  ".join(filter(None, (_day(row), row.facts[1], row.facts[4]))))


def _files(place: Path, options: SendOptions, eight_bit: bool) -> list[Enclosed]:
    own = {MANIFEST, *ALL_REGISTERS}
    paths = sorted(
        path for path in place.rglob("*") if path.is_file() and OWN not in path.parts and path.name not in own
    )
    if options.way == "inline":
        paths = [path for path in paths if path.parent != place]  # the texts stand in the mail
    return [enclosed(path.name, path, eight_bit) for path in paths]
