"""Commands that can be repeated, made of plain data: what an order keeps, and how it is called without a terminal."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from difflib import get_close_matches
from pathlib import Path
from typing import Any

from wexagraph.app.afterwards import apply, changes_of, clear
from wexagraph.app.attachment_options import ATTACHMENT_DEFAULTS, attachment_options
from wexagraph.app.cases import Records, user_name
from wexagraph.app.filing import FILE_DEFAULTS, file_messages
from wexagraph.app.locales import language_code, usual_paper
from wexagraph.app.options import EXPORT_DEFAULTS, export_options
from wexagraph.app.registers import REGISTER_DEFAULTS, check_register, register
from wexagraph.app.scan_languages import scan_languages
from wexagraph.app.secrets import passphrase
from wexagraph.app.zones import zone_name
from wexagraph.errors import CallError
from wexagraph.records.calls import Call
from wexagraph.reports import Report
from wexagraph.selection import Choice
from wexagraph.selection.criteria import parse_size
from wexagraph.sources import Source, Stored
from wexagraph.sources.imap.changes import Afterwards

_SECRETS = ("password", "owner-password")
FILE_CALL_DEFAULTS: dict[str, Any] = {**FILE_DEFAULTS, "case": None, "by-plan": False, "records": None, "reopen": False}
BACKUP_DEFAULTS: dict[str, Any] = {"volume-size": "1GB", "lock": False, "jobs": None, "cluster": None, "ocr": None}
LEAST_VOLUME, MOST_VOLUME = 1_000_000, 4_000_000_000


@dataclass(frozen=True)
class Work:
    """What a command is to do now: `mailbox` is read, of which `source` is all or some.

    `stored` is told of messages that are safely stored, before anything is changed at the source. `generation` counts
    how often all was made again, `moment` is when the run is.
    """

    call: Call
    mailbox: Source
    source: Source
    choice: Choice
    stored: Callable[[list[Stored]], None]
    stopped: Callable[[], bool]
    moment: datetime
    generation: int = 0
    dry: bool = False


@dataclass(frozen=True)
class Command:
    """A command that can be repeated: its options with their defaults, a check of them (raises CallError), and its run.

    One that `keeps_account` knows by itself what it has; of one that `is_whole`, what is new alone would not do; one
    that `may_leave_nothing` makes no file of some messages. `settled` are options whose default is the system's at the
    time, and hold from then on.
    """

    defaults: dict[str, Any]
    check: Callable[[dict[str, Any]], object]
    run: Callable[[Work], Report]
    keeps_account: bool = False
    may_leave_nothing: bool = False
    is_whole: bool = False
    settled: tuple[tuple[str, Callable[[], str]], ...] = ()


def _export(work: Work) -> Report:
    from wexagraph.exports.dry_run import dry_run
    from wexagraph.exports.run import export

    options = replace(export_options(work.call.options, None, work.moment), generation=work.generation)
    if work.dry:
        return dry_run(work.source, work.call.into, work.choice, options, stopped=work.stopped)
    then = _then(work, "stored and read back", options.keeps_messages)
    return export(work.source, work.call.into, work.choice, options, stopped=work.stopped, afterwards=then)


def _attachments(work: Work) -> Report:
    from wexagraph.exports.attachments.run import extract

    options = attachment_options(work.call.options)
    then = _then(work, "kept with its attachments stored and read back", options.keeps_messages)
    return extract(
        work.source, work.call.into, work.choice, options, stopped=work.stopped, dry=work.dry, afterwards=then
    )


def _then(work: Work, kept: str, keeps_messages: bool) -> Callable[[list[Stored]], tuple[int, list[tuple[str, str]]]]:
    """What is done with messages that are stored: they are noted, and only then changed at the source."""

    def then(stored: list[Stored]) -> tuple[int, list[tuple[str, str]]]:
        work.stored(stored)
        if not work.call.afterwards:
            return 0, []
        changes = changes_of(work.mailbox, Afterwards.parse(work.call.afterwards), keeps_messages)
        return apply(changes, stored, kept, lambda what, kept: bool(what))

    return then


def _register(work: Work) -> Report:
    options = REGISTER_DEFAULTS | work.call.options
    return register(
        work.source,
        work.call.into,
        work.choice,
        columns=options["columns"] or "",
        own=options["column"],
        zone=zone_name(options["zone"]),
        stopped=work.stopped,
        dry=work.dry,
    )


def _file(work: Work) -> Report:
    options = {name: value for name, value in work.call.options.items() if name in FILE_DEFAULTS}
    records = Records(Path(work.call.into), lambda: work.moment.astimezone(), user_name())
    case = work.call.options.get("case")
    reopen = bool(work.call.options.get("reopen"))
    filed = file_messages(records, work.source, work.choice, case, options, work.stopped, work.dry, reopen)
    report = Report(work.call.into, planned=[] if work.dry else None)
    for one in filed.reports.values():
        report.written += one.written
        report.already_there += one.already_there
        report.bytes += one.bytes
        report.failures += one.failures
    report.failures += filed.failures
    report.failed = len(report.failures)
    report.chosen = report.written + report.already_there + report.failed
    report.interrupted, report.unreadable = filed.interrupted, filed.unreadable
    return report


def _check_file(options: dict[str, Any]) -> None:
    """Raise CallError for options of `file` that can't be meant."""
    if bool(options.get("case")) is bool(options.get("by-plan")):
        raise CallError("say where to: --case REF, or --by-plan.")
    export_options({**FILE_DEFAULTS, **{n: v for n, v in options.items() if n in FILE_DEFAULTS}}, case=("", ""))


def _check_backup(options: dict[str, Any]) -> None:
    volume_size(str((BACKUP_DEFAULTS | options)["volume-size"]))
    scan_languages(options.get("ocr"), language_code(None))


def _backup(work: Work) -> Report:
    from wexagraph.backups.dry_run import dry_run
    from wexagraph.backups.topup import backup

    options, ask = BACKUP_DEFAULTS | work.call.options, passphrase(None)
    if work.dry:
        return dry_run(work.source, work.call.into, work.choice, stopped=work.stopped, ask=ask)
    proved: list[Stored] = []
    report = backup(
        work.source,
        work.call.into,
        work.choice,
        volume_size=volume_size(str(options["volume-size"])),
        jobs=options["jobs"] or 1,
        cluster=options["cluster"] or "",
        stopped=work.stopped,
        now=work.moment,
        seen=(lambda *where: proved.append(Stored(*where))) if work.call.afterwards else None,
        ask=ask,
        locked=options["lock"],
        ocr=scan_languages(options["ocr"], language_code(None)),
    )
    if work.call.afterwards and not report.interrupted:
        wish = Afterwards.parse(work.call.afterwards)
        done = clear(work.mailbox, wish, work.call.into, proved, ask, lambda what, kept: bool(what))
        report.changed_at_the_source, report.left_at_the_source = done
    return report


def volume_size(given: str) -> int:
    """The size of a volume in bytes. Raises CallError."""
    wanted = parse_size(given)
    if not LEAST_VOLUME <= wanted <= MOST_VOLUME * 1.1:
        raise CallError(f"--volume-size {given}: a volume is between 1 MB and 4 GB, which every disk and ZIP takes.")
    return min(wanted, MOST_VOLUME)


_ZONE = ("zone", lambda: zone_name(None))
COMMANDS: dict[str, Command] = {
    "export": Command(
        EXPORT_DEFAULTS,
        lambda options: export_options(options, None, datetime.now(UTC)),
        _export,
        settled=(_ZONE, ("paper", usual_paper), ("language", lambda: language_code(None))),
    ),
    "attachments": Command(
        ATTACHMENT_DEFAULTS, attachment_options, _attachments, may_leave_nothing=True, settled=(_ZONE,)
    ),
    "register": Command(
        REGISTER_DEFAULTS,
        lambda options: check_register(REGISTER_DEFAULTS | options),
        _register,
        is_whole=True,
        settled=(_ZONE,),
    ),
    "file": Command(FILE_CALL_DEFAULTS, _check_file, _file, settled=(_ZONE,)),
    "backup": Command(
        BACKUP_DEFAULTS,
        _check_backup,
        _backup,
        keeps_account=True,
    ),
}
"""The commands that an order can keep. A new one is a line."""


def command_of(call: Call) -> Command:
    """The command that a call names. Raises CallError."""
    if call.command not in COMMANDS:
        near = get_close_matches(call.command, COMMANDS, n=1)
        hint = f" Did you mean {near[0]}?" if near else ""
        raise CallError(
            f"{call.command!r} is not a command that an order can keep.{hint} Possible: {', '.join(COMMANDS)}."
        )
    return COMMANDS[call.command]


def choice_of(call: Call) -> Choice:
    """The choice of a call; its days are counted in the zone of its options. Raises CallError."""
    return Choice.from_dict(call.choice | {"zone": zone_name(call.options.get("zone"))})


def check(call: Call) -> None:
    """Raise CallError for a call that can't be meant, or that can't be repeated."""
    command = command_of(call)
    for name in call.options:
        if name not in command.defaults:
            near = get_close_matches(name, command.defaults, n=1)
            raise CallError(f"{call.command} has no option {name!r}." + (f" Did you mean {near[0]}?" if near else ""))
    for name in _SECRETS:
        given = call.options.get(name)
        if given is not None and not str(given).startswith(("env:", "file:", "command:")):
            raise CallError(
                f"--{name}: an order keeps no secret. Name where it is: env:NAME, file:PATH, command:'PROGRAM'."
            )
    for name in ("newest", "id"):
        if name in call.choice:
            raise CallError(f"--{name} belongs to a single call: an order takes what has come since it last ran.")
    options = command.check(call.options)
    choice_of(call)
    if call.afterwards:
        Afterwards.parse(call.afterwards).checked(getattr(options, "keeps_messages", True))


def settled(call: Call) -> Call:
    """The call with what would be the system's choice written down, so that a timetable without one does the same.
    Paths are absolute."""
    options = dict(call.options)
    for name, of_the_system in command_of(call).settled:
        options.setdefault(name, of_the_system())
    for name in ("cover", *_SECRETS):
        value = str(options.get(name) or "")
        kind, _, path = value.rpartition("file:")
        if name == "cover" and value and value != "built-in":
            options[name] = _absolute(value)
        elif name in _SECRETS and value.startswith("file:"):
            options[name] = f"{kind}file:{_absolute(path)}"
    source = call.source if call.source.startswith("@") or "://" in call.source else _absolute(call.source)
    return replace(call, source=source, into=_absolute(call.into), options=options)


def _absolute(path: str) -> str:
    return str(Path(path).expanduser().absolute())
