"""`attachments` as a call."""

from __future__ import annotations

from dataclasses import replace

from wexagraph.app.attachment_options import ATTACHMENT_DEFAULTS, attachment_options
from wexagraph.app.commands.base import LANGUAGE, ZONE, Command, Job
from wexagraph.app.locales import office_names
from wexagraph.reports import Report


def _attachments(job: Job) -> Report:
    from wexagraph.exports.attachments.run import extract

    work = job.work
    kept = ("kept with its attachments stored and read back", job.options.keeps_messages)
    then = job.then(*kept) if not work.dry else None
    return extract(
        *(job.source, job.call.into, job.choice, replace(job.options, names=office_names(job.source.location))),
        progress=work.progress,
        stopped=work.stopped,
        dry=work.dry,
        afterwards=then,
    )


COMMAND = Command(
    ATTACHMENT_DEFAULTS,
    lambda plain, prompt, moment: attachment_options(plain),
    _attachments,
    may_leave_nothing=True,
    clears=True,
    settled=(ZONE, LANGUAGE),
)
