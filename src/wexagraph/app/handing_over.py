"""A case handed over: packed as one file that proves itself, and taken in from one."""

from __future__ import annotations

import os
import shutil
from contextlib import closing
from dataclasses import replace
from pathlib import Path

from wexagraph.app.cases import Records
from wexagraph.app.disposal import facts_of, messages_of, proved
from wexagraph.app.filing import mend
from wexagraph.errors import CallError, TargetError
from wexagraph.exports.index_page.options import IndexOptions
from wexagraph.exports.index_page.writing import index_folder
from wexagraph.output.folder import OWN, OutputFolder
from wexagraph.output.whole import whole_file
from wexagraph.pages.options import PageOptions
from wexagraph.records import case_log
from wexagraph.records.certificate import Certificate
from wexagraph.records.fileplan import Case
from wexagraph.records.packed import PackedCase, pack
from wexagraph.text import one_line


def pack_case(records: Records, reference: str, into: Path, index: IndexOptions | None = None) -> int:
    """Write a case into a ZIP, with a page to browse where one is asked for. Returns how many files it has. Raises
    CallError where the case is not whole, TargetError where its page can't be written."""
    with records.changing() as plan:
        case = plan.get(reference)
        place = records.place(case)
        if problem := records.broken(case):
            raise CallError(
                f"the log of case {case.reference} is not whole: {problem}. Find out why before it is packed."
            )
        if index is not None:  # before the proof: a run that was killed may have left half a page
            index_folder(place, replace(index, title=f"{case.reference} {case.title}"))
        proved(records, case)
        records.note(plan, case, "packed", into=into.name)
        said = "What this file holds, as it lay in the records. manifest-sha256.txt has the digest of each file."
        facts = facts_of(records, case)
        contents = Certificate(f"Case {one_line(case.reference)}", said, facts, messages_of(records, case))
        pages = {"contents.txt": contents.text(), "contents.pdf": contents.pdf(PageOptions())}
        with whole_file(into) as file:
            return pack(case, place, file, records.today, pages)


def unpack_case(records: Records, path: Path) -> Case:
    """Take a packed case in. Raises CallError where it is not whole, or there is a case of its reference."""
    with closing(PackedCase(path)) as packed:
        verification = packed.verify()
        if not verification.whole:
            wrong = verification.findings[0]
            raise CallError(f"{path} is not whole: {one_line(wrong.path)} is {wrong.state}. Have it sent again.")
        with records.changing() as plan:
            case = plan.add(packed.case())
            place, waiting = records.place(case), records.folder / OWN / "unpacking"
            try:
                if place.exists():
                    raise CallError(f"{place} is there already, and no case of the plan. Move it away.")
                shutil.rmtree(waiting, ignore_errors=True)
                waiting.mkdir(parents=True)
                packed.unpack(waiting)
                with OutputFolder(waiting) as folder:
                    folder.sync()
                os.rename(waiting, place)
            except OSError as error:
                raise TargetError(f"{place} can't be written to: {error.strerror or error}. Check the disk.") from error
            if problem := case_log.broken(place):
                plan.keep(replace(case, log=""))
                problem = f"; its log was not whole before: {problem}"
            records.note(plan, case, "unpacked", **({"trouble": problem} if problem else {}), of=path.name)
    mend(records, case)
    return case
