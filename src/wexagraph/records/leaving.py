"""A case that leaves the records: disposed of, or merged into another.

One step decides: its folder is renamed out of its place. What is to be done before and after that step is written down
first, so that whichever command comes next undoes what was only begun, and finishes what was decided.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Mapping
from dataclasses import asdict, dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import Any

from wexagraph.naming.paths import CASE_LOG, free_name
from wexagraph.output.folder import OWN, OutputFolder
from wexagraph.records import case_log
from wexagraph.records.fileplan import FilePlan

DISPOSED, MERGED = "disposed", "merged"
"""Below the records folder: certificates and logs of cases that are gone; folders of cases that were merged."""
_BEGUN, _PAPERS, _GOING = f"{OWN}/leaving.json", f"{OWN}/leaving", f"{OWN}/going"


@dataclass(frozen=True)
class Leaving:
    """A case on its way out: its reference and folder, and where that is moved to.

    `into` is the reference of the case that it was merged into, "" where it is disposed of. `papers` are the names
    below `disposed` that its certificate gets, and the log. `when`, `who` and `about` are those of the last line of its
    log; `messages` and `files` what it had.
    """

    reference: str
    folder: str
    going: str
    when: str
    who: str
    into: str = ""
    papers: tuple[str, ...] = ()
    log: str = ""
    about: dict[str, Any] = field(default_factory=dict)
    messages: int = 0
    files: int = 0


def going_to(folder: OutputFolder, case_folder: str, merged: bool) -> str:
    """A free place for the folder of a case that leaves."""
    return free_name(f"{MERGED if merged else _GOING}/{case_folder}", "", folder.taken)


def free_papers(folder: OutputFolder, name: str, endings: Iterable[str]) -> tuple[str, ...]:
    """Names below `disposed` that nothing bears: what proves is never replaced."""
    endings = list(endings)

    def taken(stem: str) -> bool:
        return any(folder.taken(f"{DISPOSED}/{stem} {ending}") for ending in endings)

    stem = free_name(name, "", taken)
    return tuple(f"{stem} {ending}" for ending in endings)


def leave(folder: OutputFolder, plan: FilePlan, leaving: Leaving, papers: Mapping[str, bytes]) -> None:
    """Let a case leave; the plan is changed, and is to be written before `end` is called. Raises OSError."""
    for place in (DISPOSED if papers else MERGED, leaving.going.rpartition("/")[0]):
        folder.make_folder(place)  # what is in the way of them shows before anything is decided
    folder.clear(_PAPERS)
    for name, content in papers.items():
        folder.write(f"{_PAPERS}/{name}", content)
    folder.write(_BEGUN, json.dumps(asdict(leaving), ensure_ascii=False).encode("utf-8", "surrogateescape"))
    folder.sync()
    folder.move_folder(leaving.folder, leaving.going)
    _finish(folder, plan, leaving)


def begun(folder: OutputFolder) -> Leaving | None:
    """What a killed run has begun, or another is at."""
    try:
        with folder.reader(_BEGUN) as file:
            values = json.loads(file.read())
        leaving = Leaving(**values)
        return replace(leaving, papers=tuple(leaving.papers))
    except (OSError, ValueError, TypeError):
        return None


def is_begun(records: Path) -> bool:
    """Whether something was begun in a records folder, told by a look at one name."""
    return os.path.lexists(records / _BEGUN)


def settle(folder: OutputFolder, plan: FilePlan) -> bool:
    """Finish in the plan what was decided, or undo what was not. Returns whether anything was begun. Raises OSError."""
    leaving = begun(folder)
    if leaving is not None and folder.taken(leaving.going) and not folder.taken(leaving.folder):
        _finish(folder, plan, leaving)
    return leaving is not None or folder.taken(_BEGUN)


def without_decided(records: Path, plan: FilePlan) -> FilePlan:
    """The plan without a case that has left, for somebody who may not write into the records."""
    with OutputFolder(records, make=False) as folder:
        leaving = begun(folder)
        if leaving is not None and folder.taken(leaving.going) and not folder.taken(leaving.folder):
            plan.cases.pop(leaving.reference, None)
    return plan


def end(folder: OutputFolder) -> None:
    """The plan is written: what was written down for a kill goes, and what was disposed of is removed. Raises
    OSError."""
    folder.clear(_PAPERS)
    for name in folder.names(_GOING):
        folder.clear(f"{_GOING}/{name}")
    folder.unlink(_BEGUN)


def _finish(folder: OutputFolder, plan: FilePlan, leaving: Leaving) -> None:
    """What follows from the step that has decided; done twice, it does nothing more."""
    what = "merged into" if leaving.into else "disposed"
    moved = folder.path / leaving.going
    events = case_log.read(moved)
    if not events or events[-1].what != what:
        case_log.append(moved, datetime.fromisoformat(leaving.when), leaving.who, what, **leaving.about)
    for paper in leaving.papers:
        if folder.taken(f"{_PAPERS}/{paper}"):
            folder.rename_new(f"{_PAPERS}/{paper}", f"{DISPOSED}/{paper}")
    if leaving.log and not folder.taken(f"{DISPOSED}/{leaving.log}"):
        with folder.reader(f"{leaving.going}/{CASE_LOG}") as log:
            folder.write(f"{DISPOSED}/{leaving.log}", log.read())
    first = plan.cases.get(leaving.reference)
    if first is None:
        return
    if leaving.into:
        second = plan.get(leaving.into)
        tags = dict.fromkeys((*second.tags, *first.tags))
        also = dict.fromkeys((*second.also, first.reference, *first.also))
        second = replace(second, tags=tuple(tags), also=tuple(also), holds=(*second.holds, *first.holds))
        about = {"of": first.reference, "title": first.title, "match": first.match, "log": first.log}
        place = folder.path / second.folder
        told = any(event.what == "merged" and event.about.get("log") == first.log for event in case_log.read(place))
        if not told:
            digest = case_log.append(place, datetime.fromisoformat(leaving.when), leaving.who, "merged", **about)
            second = replace(second, log=digest)
        plan.keep(second)
    plan.drop(first)


def disposed_of(records: Path) -> dict[str, Path]:
    """The logs of cases that were disposed of, by their references in lower case; the last of a reference. Raises
    OSError."""
    logs: dict[str, Path] = {}
    with OutputFolder(records, make=False) as folder:
        ending = " certificate.txt"
        stems = [name.removesuffix(ending) for name in folder.names(DISPOSED) if name.endswith(ending)]
        for stem in sorted(stems, key=lambda stem: (folder.stamp(f"{DISPOSED}/{stem}{ending}") or (0, 0))[1]):
            with folder.reader(f"{DISPOSED}/{stem}{ending}") as file:
                lines = file.read().decode("utf-8", "replace").splitlines()
            line = next((line for line in lines if line.startswith("Reference:")), "")
            if reference := line.partition(":")[2].strip():
                logs[reference.casefold()] = records / DISPOSED / f"{stem} {CASE_LOG}"
    return logs
