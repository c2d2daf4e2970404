"""`file` as a call."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from wexagraph.app.cases.filing import FILE_DEFAULTS, file_messages
from wexagraph.app.cases.records import Records, user_name
from wexagraph.app.commands.base import ZONE, Command, Job
from wexagraph.app.option_table import AS_ONE, BY_PLAN, CASE, CLERK, RECORDS, REOPEN
from wexagraph.app.options import export_options
from wexagraph.app.rows import defaults
from wexagraph.errors import CallError
from wexagraph.exports.options import ATTACHMENTS
from wexagraph.reports import Report

FILE_CALL_DEFAULTS = FILE_DEFAULTS | defaults((AS_ONE, CASE, BY_PLAN, CLERK, RECORDS, REOPEN))


def _file(job: Job) -> Report:
    work, options = job.work, job.options
    records = Records(Path(job.call.into), lambda: work.moment.astimezone(), user_name())
    own = {name: value for name, value in options.items() if name in FILE_DEFAULTS}
    # an order of a file plan looks at all of a mailbox that has changed: a case may have come that a letter belongs to
    keeps = not (options.get("carried") or options.get("as") == ATTACHMENTS)
    then = job.then("filed and read back", keeps) if job.wish is not None and not work.dry else None
    if options.get("as-one"):
        own["bind"] = "conversation"
    return file_messages(
        *(records, job.source, job.choice, options.get("case"), own, work.stopped, work.dry),
        reopen=bool(options.get("reopen")),
        clerks=tuple(options.get("clerk", ())),
        afterwards=then,
    )


def _file_options(plain: dict[str, Any]) -> dict[str, Any]:
    if (plain.get("case") is not None) is bool(plain.get("by-plan")):
        raise CallError("say where to: --case REF, or --by-plan.")
    if plain.get("as-one") and plain.get("bind") not in (None, "conversation"):
        raise CallError("--as-one is --bind conversation. Say one of them.")
    export_options({**FILE_DEFAULTS, **{n: v for n, v in plain.items() if n in FILE_DEFAULTS}}, case=("", ""))
    return plain


COMMAND = Command(
    FILE_CALL_DEFAULTS, lambda plain, prompt, moment: _file_options(plain), _file, clears=True, settled=(ZONE,)
)
