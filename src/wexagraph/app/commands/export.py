"""`export` as a call."""

from __future__ import annotations

from dataclasses import replace

from wexagraph.app.commands.base import LANGUAGE, ZONE, Command, Job
from wexagraph.app.locales import office_names, usual_paper
from wexagraph.app.options import EXPORT_DEFAULTS, export_options
from wexagraph.reports import Report


def _export(job: Job) -> Report:
    from wexagraph.exports.run import dry_run, export

    work = job.work
    options = replace(job.options, generation=work.generation).with_names(office_names(job.source.location))
    call = (job.source, job.call.into, job.choice, options)
    if work.dry:
        return dry_run(*call, progress=work.progress, stopped=work.stopped)
    then = job.then("stored and read back", job.options.keeps_messages)
    return export(*call, progress=work.progress, stopped=work.stopped, afterwards=then)


COMMAND = Command(
    EXPORT_DEFAULTS,
    export_options,
    _export,
    clears=True,
    settled=(ZONE, LANGUAGE, ("paper", usual_paper)),
)
