"""`register` as a call."""

from __future__ import annotations

from typing import Any

from wexagraph.app.commands.base import LANGUAGE, ZONE, Command, Job
from wexagraph.app.locales import language_code, office_names, zone_name
from wexagraph.app.registers import REGISTER_DEFAULTS, check_register, register
from wexagraph.reports import Report


def _register(job: Job) -> Report:
    names = office_names(job.source.location)
    call = (job.source, job.call.into, job.choice)
    return register(*call, names=names, stopped=job.work.stopped, dry=job.work.dry, **job.options)


def _register_options(plain: dict[str, Any]) -> dict[str, Any]:
    options = REGISTER_DEFAULTS | plain
    check_register(options)
    return {
        "columns": options["columns"] or "",
        "own": options["column"],
        "zone": zone_name(options["zone"]),
        "language": language_code(options["language"]),
    }


COMMAND = Command(
    REGISTER_DEFAULTS,
    lambda plain, prompt, moment: _register_options(plain),
    _register,
    is_whole=True,
    settled=(ZONE, LANGUAGE),
)
