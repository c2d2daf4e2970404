"""`backup` as a call."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from wexagraph.app.afterwards import clear
from wexagraph.app.commands.base import Command, Job
from wexagraph.app.locales import language_code, scan_languages
from wexagraph.app.option_table import BACKUP
from wexagraph.app.rows import defaults
from wexagraph.app.secrets import Prompt, passphrase
from wexagraph.errors import CallError
from wexagraph.reports import Report
from wexagraph.selection.criteria import parse_size
from wexagraph.sources.base import Stored

BACKUP_DEFAULTS = defaults(BACKUP)
LEAST_VOLUME, MOST_VOLUME = 1_000_000, 4_000_000_000


def _backup_options(plain: dict[str, Any], prompt: Prompt | None) -> dict[str, Any]:
    options, sealing = BACKUP_DEFAULTS | plain, None
    if any(options[name] is not None for name in ("seal", "seal-password", "stamp")):
        from wexagraph.app.options import sealing as sealing_of

        sealing = sealing_of(options, prompt)
    return {
        "sealing": sealing,
        "volume_size": volume_size(str(options["volume-size"])),
        "jobs": options["jobs"] or os.cpu_count() or 1,
        "cluster": options["cluster"] or "",
        "locked": options["lock"],
        "ocr": scan_languages(options["ocr"], language_code(None)),
    }


def _backup(job: Job) -> Report:
    from wexagraph.backups.dry_run import dry_run
    from wexagraph.backups.topup import backup

    work, ask, options = job.work, job.work.ask or passphrase(None), dict(job.options)
    sealing = options.pop("sealing")
    call = (job.source, job.call.into, job.choice)
    if work.dry:
        return dry_run(*call, progress=work.progress, stopped=work.stopped, ask=ask)
    proved: list[Stored] = []
    report = backup(
        *call,
        progress=work.progress,
        stopped=work.stopped,
        tell=work.say,
        now=work.moment,
        seen=(lambda *where: proved.append(Stored(*where))) if job.wish is not None else None,
        ask=ask,
        **options,
    )
    if job.wish is not None and not report.interrupted:
        done = clear(work.mailbox, job.wish, job.call.into, proved, ask, work.allow)
        report.changed_at_the_source, report.left_at_the_source = done
    if sealing is not None and not report.interrupted and Path(job.call.into).expanduser().is_dir():
        from wexagraph.seals.sealing import seal

        seal(Path(job.call.into).expanduser(), sealing, work.moment, report)
    return report


def volume_size(given: str) -> int:
    """The size of a volume in bytes. Raises CallError."""
    wanted = parse_size(given)
    if not LEAST_VOLUME <= wanted <= MOST_VOLUME * 1.1:
        raise CallError(f"--volume-size {given}: a volume is between 1 MB and 4 GB, which every disk and ZIP takes.")
    return min(wanted, MOST_VOLUME)


COMMAND = Command(
    BACKUP_DEFAULTS,
    lambda plain, prompt, moment: _backup_options(plain, prompt),
    _backup,
    keeps_account=True,
    clears=True,
)
