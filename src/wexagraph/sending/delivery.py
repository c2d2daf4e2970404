"""Delivering what was made to a place, which becomes a mirror of the folder here: each file whole or not at all, never
over a file of others, the lists last."""

from __future__ import annotations

import errno
import hashlib
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing, contextmanager, nullcontext, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, NamedTuple

from wexagraph.backups.bag import TAG_MANIFESTS
from wexagraph.errors import CallError, InUse, TargetError, WexagraphError
from wexagraph.files import open_regular, visible
from wexagraph.naming.paths import MANIFEST
from wexagraph.output.databases import ANEW, Database, Form
from wexagraph.output.folder import FULL, OWN, OutputFolder
from wexagraph.reports import AGAIN, NEW, Failure, Finding, PlannedFile, Progress, Report, Verification
from wexagraph.sending.made import Made, made
from wexagraph.sending.places import Place, part_of

_FORM = Form(
    "the list of what was delivered",
    """
CREATE TABLE delivered (
    place TEXT, path TEXT, sha256 TEXT NOT NULL, size INTEGER NOT NULL, part TEXT NOT NULL, PRIMARY KEY (place, path)
) WITHOUT ROWID;
""",
)
_DATABASE = "delivered.sqlite"
_CHUNK = 1 << 20
_AT_ONCE, _AT_ONCE_BYTES = 200, 64 * 1024 * 1024
Row = tuple[str, int, str]
"""What is known of a file at a place: its SHA-256, its size, and the name of the part that was on its way."""
_ANOTHERS = "another file lies there under this name, and was left. Move it, then deliver again"
_PATIENCE = 20.0


@dataclass
class DeliveryReport(Report):
    """The sums over files. `removed` counts those that are no longer here and are now gone there too, `links` are the
    addresses of all that is there, `address` is that of the whole."""

    removed: int = 0
    links: dict[str, str] = field(default_factory=dict)
    address: str = ""


class Delivered(Database):
    """What lies at places, as it was delivered. All methods raise TargetError where the disk fails."""

    def __init__(self, path: Path, place: str, reading: bool = False) -> None:
        super().__init__(path, _FORM, ANEW, together=True, reading=reading)
        self._place = place

    def rows(self, above: str) -> dict[str, Row]:
        """What is known of the files below a name there."""
        rows = self.ask("SELECT path, sha256, size, part FROM delivered WHERE place=?", (self._place,))
        return {path: tuple(row) for path, *row in rows if path == above or path.startswith(f"{above}/")}

    def note(self, path: str, sha256: str, size: int, part: str = "") -> None:
        """A file is there; or with `part`, is on its way under that name."""
        self.ask("INSERT OR REPLACE INTO delivered VALUES (?,?,?,?,?)", (self._place, path, sha256, size, part))

    def forget(self, path: str) -> None:
        """A file is not there."""
        self.ask("DELETE FROM delivered WHERE place=? AND path=?", (self._place, path))


def delivered_to(root: Path) -> list[str]:
    """The places that a folder was delivered to before. Raises TargetError."""
    lying = root / OWN / _DATABASE
    if not lying.is_file():
        return []
    with closing(Delivered(lying, "", reading=True)) as journal:
        return [place for (place,) in journal.ask("SELECT DISTINCT place FROM delivered ORDER BY place")]


def deliver(
    root: Path,
    place: Place,
    state: Path,
    *,
    dry: bool = False,
    links: bool = False,
    progress: Callable[[Progress], None] | None = None,
    stopped: Callable[[], bool] = lambda: False,
) -> DeliveryReport:
    """Make a place the mirror of what was made in a folder, or of one file, under its name. `state` is the folder for
    the list of what was delivered of a file; that of a folder lies in it, for all who deliver from there.

    Raises CallError, TargetError where nothing can be delivered; a file that can't be is in the report instead.
    """
    started, name = time.monotonic(), root.resolve().name
    files = _files_of(root)
    with _journal(state if root.is_file() else root, place, dry) as journal:
        run = _Delivery(place, journal, name, name if root.is_dir() else "", dry, progress, stopped)
        run.deliver(files)
        report = run.report
        report.address = place.link(name)
        if links and journal is not None:
            report.links = {at: place.link(at) for at in sorted(journal.rows(name))}
    report.seconds = time.monotonic() - started
    return report


@contextmanager
def _journal(home: Path, place: Place, dry: bool) -> Iterator[Delivered | None]:
    """What is known of a place, to which no other process delivers from this folder meanwhile; of a dry run, as it lies
    there (None: it does not)."""
    lying = home / OWN / _DATABASE
    if dry:
        with closing(Delivered(lying, place.name, reading=True)) if lying.is_file() else nullcontext() as journal:
            yield journal
        return
    try:
        with closing(OutputFolder(home)) as here:
            # clerks file and export meanwhile; what they change while it is sent is sent the next time
            if (holder := here.take_lock(_PATIENCE, "delivering")) is not None:
                by = f" by process {holder}" if holder else ""
                raise InUse(f"{home} is being delivered{by}. Wait for that run, then deliver again.")
            with closing(Delivered(here.database(_DATABASE), place.name)) as journal:
                yield journal
    except OSError as error:
        raise TargetError(f"{home} can't be used: {error.strerror or error}. Check the disk.") from error


def compared(root: Path, place: Place, deep: bool) -> Verification:
    """What lies at a place, beside what was made here: by names and sizes, or `deep`, by the bytes read back.
    Raises CallError, TargetError."""
    name = root.resolve().name
    above = f"{name}/" if root.is_dir() else ""
    verification = Verification(f"{place.name}/{name}", deep=deep)
    try:
        there = place.sizes(name)
        for each in _files_of(root):
            verification.files += 1
            size = there.pop(above + each.path, None)
            if size is None:
                verification.findings.append(Finding(each.path, "missing"))
            elif each.size is None:
                verification.findings.append(Finding(each.path, "missing", "it is there, and not here"))
            elif size != each.size or (deep and place.digest(above + each.path) != (each.sha256 or _digest(each.file))):
                verification.findings.append(Finding(each.path, "altered"))
        verification.findings += [Finding(path.removeprefix(above), "foreign") for path in sorted(there)]
    except OSError as error:
        raise TargetError(f"{place.name} can't be read: {error.strerror or error}.") from error
    return verification


def _files_of(root: Path) -> list[Made]:
    try:
        return made(root)
    except OSError as error:
        raise CallError(f"{root} can't be read: {error.strerror or error}.") from error


def _digest(path: str) -> str:
    with open_regular(path) as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _batches(files: list[Made]) -> Iterator[list[Made]]:
    """Files, bounded in number and (but for a single one) in bytes."""
    batch: list[Made] = []
    held = 0
    for each in files:
        size = each.size or 0
        lists = _is_list(each) and batch and not _is_list(batch[-1])
        if batch and (lists or len(batch) == _AT_ONCE or held + size > _AT_ONCE_BYTES):
            yield batch
            batch, held = [], 0
        batch.append(each)
        held += size
    if batch:
        yield batch


def _is_list(each: Made) -> bool:
    return each.path.rpartition("/")[2] in (MANIFEST, *TAG_MANIFESTS)


class _Refused(Exception):
    """Why a file was not delivered."""


class _Parcel(NamedTuple):
    """A file on its way: where it goes, under which name it waits there, and what lay there `before` as it was
    delivered (SHA-256 and size), which it `replaces` or not. Of one that was `begun`, some may be there."""

    made: Made
    at: str
    sha256: str
    size: int
    part: str
    before: tuple[str, int]
    replaces: bool
    begun: bool


class _Delivery:
    """A run: what it delivers to, and its sums so far."""

    def __init__(
        self,
        place: Place,
        journal: Delivered | None,
        name: str,
        above: str,
        dry: bool,
        progress: Callable[[Progress], None] | None,
        stopped: Callable[[], bool],
    ) -> None:
        self._place, self._journal, self._name, self._above = place, journal, name, f"{above}/" if above else ""
        self._dry, self._tell, self._stopped = dry, progress or (lambda _: None), stopped
        self._begun: dict[str, str] = {}
        """The parts that a killed run has left, by the paths that they are for."""
        self.report = DeliveryReport(into=place.name, planned=[] if dry else None)

    def deliver(self, files: list[Made]) -> None:
        """Clear what a killed run has left, send what is missing, remove what is no longer here."""
        progress = Progress(total=len(files))
        known = self._journal.rows(self._name) if self._journal is not None else {}
        wanted = {self._above + each.path for each in files}
        try:
            for path, (sha256, size, part) in known.items():
                if part and not self._dry:
                    if self._place.goes_on and path in wanted:
                        self._begun[path] = part
                        continue
                    self._place.remove(part)
                    self._note(path, sha256, size)
            there = self._place.sizes(self._name)
        except OSError as error:
            raise TargetError(f"{self._place.name} can't be read: {error.strerror or error}.") from error
        with ThreadPoolExecutor(self._place.lines) as self._lines:
            if not self._deliver(files, known, there, progress):
                return
        for path, part in self._begun.items():  # of what is there by now, or can't be sent
            with suppress(OSError):
                self._place.remove(part)
                if self._journal is not None and self._journal.rows(path)[path][2] == part:
                    self._note(path, *known[path][:2])
        self._remove(wanted, known, there)

    def _deliver(self, files: list[Made], known: dict[str, Row], there: dict[str, int], progress: Progress) -> bool:
        """Send what is missing. Returns whether all was looked at."""
        report = self.report
        for batch in _batches(files):
            if self._stopped():
                report.interrupted, report.total = True, len(files)
                return False
            parcels = []
            for each in batch:
                at = self._above + each.path
                report.chosen += 1
                with self._failing(each):
                    parcel = self._looked_at(each, at, known.get(at), there.get(at))
                    if parcel is None:
                        report.already_there += 1
                    else:
                        parcels.append(parcel)
            self._plan(parcels) if self._dry else self._send(parcels)
            progress.done, progress.failed, progress.files = report.chosen, report.failed, report.written
            self._tell(progress)
        return True

    @contextmanager
    def _failing(self, each: Made) -> Iterator[None]:
        """What goes wrong with one file is said of it. Raises TargetError where the place is full."""
        try:
            yield
        except _Refused as error:
            self.report.fail(Failure(each.path, self._place.name, "", str(error)))
        except OSError as error:
            if error.errno in FULL:
                what = f"{self._place.name} is full. Make room there and deliver again; it goes on where it was."
                raise TargetError(what) from error
            self.report.fail(Failure(each.path, self._place.name, "", error.strerror or str(error)))

    def _looked_at(self, each: Made, at: str, row: Row | None, size_there: int | None) -> _Parcel | None:
        """What is to be sent of a file; None where it is there. Raises _Refused, OSError."""
        if visible(at) != at:
            raise _Refused("its name holds bytes that are no UTF-8. Give it another name here")
        size, sha256 = each.size, each.sha256
        if size is None:
            raise _Refused("it is in the list, and not here. `wexagraph verify` says more")
        if not sha256:
            try:
                sha256 = _digest(each.file)
            except OSError as error:
                raise _Refused(f"it can't be read here: {error.strerror or error}") from error
        if row is not None and row[:2] == (sha256, size) and size_there == size:
            return None
        if size_there is not None:
            lying = self._place.digest(at)
            if lying == sha256:
                self._note(at, sha256, size)
                return None
            if row is None or lying != row[0]:
                raise _Refused(_ANOTHERS)
        before = row[:2] if row is not None else ("", 0)
        part = self._begun.pop(at, None)
        return _Parcel(each, at, sha256, size, part or part_of(at), before, size_there is not None, part is not None)

    def _plan(self, parcels: list[_Parcel]) -> None:
        assert self.report.planned is not None
        for one in parcels:
            self.report.planned.append(PlannedFile(one.at, AGAIN if one.replaces else NEW, "", size=one.size))
            self.report.written += 1
            self.report.bytes += one.size

    def _send(self, parcels: list[_Parcel]) -> None:
        """Write files under names of their own, bring them to the disk, read them back, and give them their names."""
        assert self._journal is not None
        for one in parcels:
            self._journal.note(one.at, *one.before, one.part)
        self._journal.commit()  # a run that is killed leaves nothing there that the next does not know
        written = self._each(parcels, self._write)
        if written:
            self._place.settle()
        for one in self._each(written, self._put):
            self._note(one.at, one.sha256, one.size)
            self.report.written += 1
            self.report.bytes += one.size
        self._journal.commit()

    def _each(self, parcels: list[_Parcel], do: Callable[[_Parcel], None]) -> list[_Parcel]:
        """Do it with each, on all lines of the place. Returns those with which it went well."""
        gone: list[WexagraphError] = []

        def guarded(one: _Parcel) -> None:
            if gone:
                raise gone[0]  # nobody waits once more for a server that is not there
            try:
                do(one)
            except WexagraphError as error:
                gone.append(error)
                raise

        well = []
        for one, done in [(one, self._lines.submit(guarded, one)) for one in parcels]:
            with self._sending(one):
                done.result()
                well.append(one)
        return well

    @contextmanager
    def _sending(self, one: _Parcel) -> Iterator[None]:
        """What goes wrong leaves nothing of the file behind."""
        with self._failing(one.made):
            try:
                yield
            except OSError as error:
                if self._place.goes_on and error.errno == errno.EIO:
                    raise  # the line was cut: the next run goes on with what is there
                self._give_up(one)
                raise
            except _Refused:
                self._give_up(one)
                raise

    def _give_up(self, one: _Parcel) -> None:
        with suppress(OSError):
            self._place.remove(one.part)
            self._note(one.at, *one.before)

    def _write(self, one: _Parcel) -> None:
        start, digest = self._there_of(one) if one.begun else (0, hashlib.sha256())

        def chunks() -> Iterator[bytes]:
            with open_regular(one.made.file) as file:
                file.seek(start)
                while chunk := file.read(_CHUNK):
                    digest.update(chunk)
                    yield chunk

        self._place.write(one.part, chunks(), one.size, start)
        if digest.hexdigest() != one.sha256:
            what = "its bytes are not those that the list had of it. Deliver again, or `wexagraph verify` says more"
            is_ours = one.made.sha256 and not _is_list(one.made)
            raise _Refused(what if is_ours else "it was changed while it was sent. Deliver again")

    def _there_of(self, one: _Parcel) -> tuple[int, Any]:
        """How many bytes of a file that was begun are there, as they are here, and the digest of these."""
        size, digest = self._place.sizes(one.part).get(one.part, 0), hashlib.sha256()
        if not 0 < size <= one.size:
            self._place.remove(one.part)
            return 0, digest
        with open_regular(one.made.file) as file:
            left = size
            while left and (chunk := file.read(min(left, _CHUNK))):
                digest.update(chunk)
                left -= len(chunk)
        if left or self._place.digest(one.part) != digest.hexdigest():
            self._place.remove(one.part)
            return 0, hashlib.sha256()
        return size, digest

    def _put(self, one: _Parcel) -> None:
        if self._place.digest(one.part) != one.sha256:
            raise _Refused("the place gave other bytes back than it got. Try again, or choose another place")
        try:
            self._place.put(one.part, one.at, one.replaces)
        except FileExistsError as error:
            if self._place.digest(one.at) != one.sha256:  # somebody was quicker, with another file
                raise _Refused(_ANOTHERS) from error
            self._place.remove(one.part)

    def _note(self, at: str, sha256: str, size: int) -> None:
        """A file is there; without a digest, none is."""
        if self._journal is None or self._dry:
            return
        if sha256:
            self._journal.note(at, sha256, size)
        else:
            self._journal.forget(at)

    def _remove(self, wanted: set[str], known: dict[str, Row], there: dict[str, int]) -> None:
        """What was delivered and is no longer here goes there too, as long as it is what was delivered."""
        for path, (sha256, _, _) in known.items():
            if path in wanted:
                continue
            with suppress(OSError):
                if path in there and self._place.digest(path) == sha256:
                    self.report.removed += 1
                    if not self._dry:
                        self._place.remove(path)
                self._note(path, "", 0)
        if self._journal is not None and not self._dry:
            self._journal.commit()
