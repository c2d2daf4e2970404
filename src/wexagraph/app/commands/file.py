"""`file` as a call."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from wexagraph.app.cases.filing import FILE_DEFAULTS, file_messages
from wexagraph.app.cases.records import Records, user_name
from wexagraph.app.commands.base import ZONE, Command, Job
from wexagraph.app.option_table import BY_PLAN, CASE, CLERK, RECORDS, REOPEN
from wexagraph.app.options import export_options
from wexagraph.app.rows import defaults
from wexagraph.errors import CallError
from wexagraph.reports import Report

FILE_CALL_DEFAULTS = FILE_DEFAULTS | defaults((CASE, BY_PLAN, CLERK, RECORDS, REOPEN))


def _file(job: Job) -> Report:
    work, options = job.work, job.options
    records = Records(Path(job.call.into), lambda: work.moment.astimezone(), user_name())
    own = {name: value for name, value in options.items() if name in FILE_DEFAULTS}
    return file_messages(
        *(records, job.source, job.choice, options.get("case"), own, work.stopped, work.dry),
        reopen=bool(options.get("reopen")),
        clerks=tuple(options.get("clerk", ())),
    )


def _file_options(plain: dict[str, Any]) -> dict[str, Any]:
    if (plain.get("case") is not None) is bool(plain.get("by-plan")):
        raise CallError("say where to: --case REF, or --by-plan.")
    export_options({**FILE_DEFAULTS, **{n: v for n, v in plain.items() if n in FILE_DEFAULTS}}, case=("", ""))
    return plain


COMMAND = Command(FILE_CALL_DEFAULTS, lambda plain, prompt, moment: _file_options(plain), _file, settled=(ZONE,))
