"""Addresses, a survey and a register of a mailbox, against a listing of it and against openpyxl."""

from __future__ import annotations

import gc
import tempfile
from pathlib import Path

import openpyxl

from benchmarks.inputs import DATA, mailbox
from benchmarks.measure import PROGRAM, paired, ratio, run, table
from wexagraph.app.opening import open_source
from wexagraph.selection.choice import Choice
from wexagraph.tables.living.files import Register, opened
from wexagraph.tables.living.keys import message_digest
from wexagraph.tables.living.table import Listing, LivingTable
from wexagraph.tables.message_columns import Row, column_of, listings


def main() -> None:
    box = str(mailbox(50_000, 1000))
    rows = []
    with tempfile.TemporaryDirectory(dir=DATA) as folder:

        def listing() -> None:
            run(PROGRAM, "list", box, "--csv", cwd=folder)

        for name in ("addresses", "survey"):
            ours, theirs = paired(3, lambda name=name: run(PROGRAM, name, box, "--csv", cwd=folder), listing)  # type: ignore[misc]
            rows.append([f"`{name}` of 50,000", f"{min(ours):.2f} s", f"`list --csv` {min(theirs):.2f} s"])
            rows[-1] += [f"{ratio(ours, theirs):.2f} times", "at most 1.5"]
        rows += registers(box, Path(folder))
    table("Tables", ["what", "Wexagraph", "beside it", "found", "wanted"], rows)


def registers(box: str, folder: Path) -> list[list[str]]:
    """A register made, and brought up to date, beside openpyxl doing as much with the same cells."""
    book = folder / "r.xlsx"

    def make() -> None:
        book.unlink(missing_ok=True)
        run(PROGRAM, "register", box, "--into", str(book), "--column", "Due date")

    make()
    cells = list(openpyxl.load_workbook(book, read_only=True)["Messages"].iter_rows(values_only=True))

    def write() -> None:
        plain = openpyxl.Workbook(write_only=True)
        sheet = plain.create_sheet()
        for row in cells:
            sheet.append(row)
        plain.save(folder / "plain.xlsx")

    ours, theirs = paired(3, make, write)
    rows = [["`register` of 50,000, XLSX", f"{min(ours):.2f} s", f"openpyxl writes only {min(theirs):.2f} s"]]
    rows[-1] += [f"{ratio(theirs, ours):.2f} of its rate", "at least 0.7"]
    names = "date,from,to,subject,attachments,folder,state".split(",")
    columns = list(map(column_of, names))
    messages = [*listings(open_source(box), Choice(), columns, None)]
    new = [Listing(message_digest(b"%d" % n), "new", messages[n].thing) for n in range(100)]
    gc.collect()
    gc.freeze()  # what is only there for the benchmark

    def up() -> None:
        with opened(book, Register(column_of, value=Row.value)) as sheet:
            living = LivingTable(sheet, column_of, (), Row.value)
            living.read()
            for listing in (*messages, *new):
                living.meet(listing)
            living.finish()
            with open(folder / "up.xlsx", "wb") as file:
                sheet.save(file)

    def load_and_save() -> None:
        openpyxl.load_workbook(book).save(folder / "again.xlsx")

    def command() -> None:
        run(PROGRAM, "register", box, "--into", str(book))

    ours, theirs, whole = paired(3, up, load_and_save, command)
    beside = f"openpyxl loads and saves {min(theirs):.2f} s"
    rows.append(["100 new rows into 50,000", f"{min(ours):.2f} s", beside])
    rows[-1] += [f"{ratio(theirs, ours):.2f} times its rate", "at least 3"]
    rows.append(["the same command again, with the reading of the mailbox", f"{min(whole):.2f} s", beside])
    rows[-1] += [f"{ratio(theirs, whole):.2f} times its rate", ""]
    return rows


if __name__ == "__main__":
    main()
