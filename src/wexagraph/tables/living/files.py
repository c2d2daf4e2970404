"""A register in a file: made where there is none, brought up to date where colleagues have worked in it."""

from __future__ import annotations

import io
import os
import re
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from itertools import count
from pathlib import Path
from typing import Any, BinaryIO

from wexagraph.errors import CallError, InUse, TargetError
from wexagraph.languages import ENGLISH, Language, language
from wexagraph.output.folder import lock_file
from wexagraph.output.replacing import Changed, Look, look, whole_file, write_whole_file
from wexagraph.tables.columns import MARK, Column, csv_row
from wexagraph.tables.living.csv_sheets import CsvSheet
from wexagraph.tables.living.keys import CHECK, check, heading, parse_key
from wexagraph.tables.living.packages import UNREADABLE
from wexagraph.tables.living.table import Listing, LivingTable, NotTold, TopUp, layout_of, value_of
from wexagraph.tables.living.xlsx_sheets import XlsxSheet
from wexagraph.tables.workbooks import empty_register
from wexagraph.text import one_line

FORMS = (".xlsx", ".csv")
_ALSO = (".xlsm",)  # what an office has made of a workbook, to have macros in it
_MOST_LOOKS = 5
_NAME = re.compile(r"[\w.@ \\-]{2,}")


Things = Callable[[list[Column[Any]], frozenset[str]], Iterable[Listing]]


@dataclass(frozen=True)
class Register:
    """What a register is to be: its columns (none: those that it has, else `usual`), what it is of in words, and how a
    name of a column is understood. `value` gives what a column has of a thing that is listed; headings are in a
    language."""

    resolve: Callable[[str], Column[Any]]
    columns: tuple[Column[Any], ...] = ()
    usual: tuple[Column[Any], ...] = ()
    title: str = ""
    about: str = ""
    value: Callable[[Column[Any], Any], Any] = value_of
    tr: Language = field(default_factory=lambda: language(ENGLISH))


def check_form(path: Path) -> None:
    """Raise CallError for a file that can't be a register."""
    suffix = path.suffix.lower()
    if suffix not in FORMS and not (suffix in _ALSO and path.exists()):
        raise CallError(f"--into {path}: a register is an .xlsx or a .csv file.")


def before_name(path: Path, number: int = 1) -> str:
    """What the version before is called, which stays beside a register."""
    return f"{path.stem} (before{f' {number}' if number > 1 else ''}){path.suffix}"


def top_up(
    path: Path,
    register: Register,
    things: Things,
    all_met: Callable[[], bool] = lambda: True,
    dry: bool = False,
) -> TopUp:
    """Make a register, or bring it up to date. `things` gives what is to be listed, read as far as those columns ask;
    of messages that are known, what lasts need not be told again.

    A file that nothing changes is not written. Raises TargetError, InUse, CallError.
    """
    check_form(path)
    hinted = True
    for _ in range(_MOST_LOOKS):
        with _held(path):
            try:
                return _top_up(path, register, things, all_met, dry, hinted)
            except NotTold:
                hinted = False
            except Changed:  # a colleague has saved it meanwhile: what that one did is taken up
                continue
    raise InUse(f"{path} is saved again and again by somebody. Nothing was written. Run the same command later.")


def _top_up(
    path: Path, register: Register, things: Things, all_met: Callable[[], bool], dry: bool, hinted: bool
) -> TopUp:
    seen = look(path)
    exists = seen is not None
    with opened(path, register) as sheet:
        with reading(path, seen):
            wanted = register.columns if exists else ()
            table = LivingTable(sheet, register.resolve, wanted, register.value, register.tr)
            known = sheet.messages() if hinted and not table.result.changed else frozenset()
            listed = things(table.columns(), known)
            table.read()
        for listing in listed:
            table.meet(listing)
        result = table.finish(all_met())
        if not dry and (result.changed or not exists):
            keep = _free_before(path, register) if exists else ""
            with whole_file(path, keep, seen) as file, reading(path, seen):
                sheet.save(file)
    return result


def _free_before(path: Path, register: Register) -> str:
    """The name that the version before gets. One that holds what somebody wrote, and that the register has no more,
    stays."""
    now: set[tuple[str, str, str]] | None = None
    for number in count(1):
        other = path.parent / before_name(path, number)
        if not other.exists():
            return other.name
        now = now if now is not None else _written_by_people(path, register)
        if _written_by_people(other, register) <= now:
            return other.name
    raise AssertionError("numbers do not end")


def _written_by_people(path: Path, register: Register) -> set[tuple[str, str, str]]:
    """What stands in a register that we did not write, by the message of the row ("" for a row of the office's own) and
    the heading; nothing of a file that can't be read, which nobody could use."""
    written: set[tuple[str, str, str]] = set()
    with suppress(TargetError, OSError), reading(path), opened(path, register) as sheet:
        for part in sheet.parts:
            layout = layout_of(part, str(path), register.resolve)
            numbers = {entry.at: n for n, entry in enumerate(layout.entries) if entry.at is not None}
            kinds = dict.fromkeys(range(max(len(part.heading), part.width)), "text") | layout.kinds()
            for _, texts in part.rows(kinds):
                row, checks = parse_key(texts.get(layout.key, "")) or (None, "")
                for at, text in texts.items():
                    n = numbers.get(at)
                    ours = n is not None and checks[n * CHECK : (n + 1) * CHECK] == check(
                        layout.entries[n].column.name, text
                    )
                    if text and at != layout.key and not ours:
                        heading_of = part.heading[at] if at < len(part.heading) else ""
                        written.add((row.message if row else "", heading_of, text))
    return written


@contextmanager
def reading(path: Path, seen: Look | None = None) -> Iterator[None]:
    """Turns what reading a damaged table raises into a TargetError; into Changed where it is not the one that was
    `seen` any more."""
    try:
        yield
    except UNREADABLE as error:
        if seen is not None and look(path) != seen:
            raise Changed from error
        raise TargetError(
            f"{path} can't be read as a table: {error}. Nothing was written. Save it anew in a spreadsheet program, or "
            "put the version before back."
        ) from error


@contextmanager
def opened(path: Path, register: Register) -> Iterator[Any]:
    """The table of a file; of one that is not there, an empty one."""
    from wexagraph.temporary import TemporaryFolder

    with TemporaryFolder() as folder:
        at = path
        if not path.exists():
            at = folder / f"new{path.suffix.lower()}"
            write_whole_file(at, _empty(register, path.suffix.lower()))
        sheet: Any = CsvSheet(at) if path.suffix.lower() == ".csv" else XlsxSheet(at)
        sheet.path = str(path)
        try:
            yield sheet
        finally:
            sheet.close()


def _empty(register: Register, suffix: str) -> bytes:
    columns = list(register.columns or register.usual)
    ours = [one for one in columns if one.kind != "own"] + [one for one in columns if one.kind == "own"]
    keys = heading((one.name, one.headed(register.tr)) for one in ours)
    headings = [*(one.headed(register.tr) for one in columns), keys]
    if suffix == ".csv":
        return MARK + csv_row(headings).encode("utf-8")
    return empty_register(columns, headings, register.title, register.about)


@contextmanager
def _held(path: Path) -> Iterator[None]:
    """Keep a register to ourselves. Raises InUse where somebody has it open."""
    holder = holder_of(path)
    if holder is not None:
        who = f" by {holder}" if holder else ""
        raise InUse(
            f"{path} is open{who}. Nothing was written. Have it closed and run the same command again. If nobody has "
            f"it open, its program has left a lock file beside it ({', '.join(_locks(path))}): remove that."
        )
    file: BinaryIO | None = None
    with suppress(FileNotFoundError):
        file = open(path, "rb")  # noqa: SIM115  closed below
    try:
        if file is not None:
            try:
                lock_file(file)
            except OSError as error:
                raise InUse(f"{path} is just being brought up to date by another run. Wait for it.") from error
        yield
    finally:
        if file is not None:
            file.close()


def _locks(path: Path) -> list[str]:
    """The files that spreadsheet programs lay beside one that they have open."""
    names = (f".~lock.{path.name}#", f"~${path.name}", f"~${path.name[2:]}")
    return [name for name in names if (path.parent / name).exists()]


def holder_of(path: Path) -> str | None:
    """Who has a file open in a spreadsheet program, as its lock file tells it ("": nobody knows); None where nobody."""
    for name in _locks(path):
        try:
            with open(path.parent / name, "rb") as file:
                raw = io.BytesIO(file.read(400)).getvalue()
        except OSError:
            return ""
        if name.startswith(".~lock."):
            fields = [one.strip() for one in raw.decode("utf-8", "replace").split(",")]
            who = fields[0] or "".join(fields[1:2])
            return one_line(" on ".join(field for field in (who, *fields[2:3]) if field))
        length = raw[0] if raw else 0
        return one_line(raw[1 : 1 + length].decode("cp1252", "replace").strip("\0 "))
    return None


def is_beside(name: str, register: str) -> bool:
    """Whether a file belongs to a register beside it: its version before, what of it was set aside because it could not
    be read, or the lock of who has it open."""
    stem, suffix = os.path.splitext(register)
    aside = name.startswith((f"{stem} (changed by hand)", f"{stem} (before")) and name.endswith(suffix)
    return aside or name in (f".~lock.{register}#", f"~${register}", f"~${register[2:]}")
