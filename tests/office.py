"""A spreadsheet program without a window, for tests: opens a table, does to it what a colleague does, and saves it.

`Office` starts it once and talks to it through the system's own Python, which has its interface (`python3-uno`).
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

PYTHON = "/usr/bin/python3"
_READING = ("read", "colours", "sheet")
_LINES = "Text - txt - csv (StarCalc)"


class Office:
    """The program, as long as it runs."""

    @staticmethod
    def is_there() -> bool:
        """Whether it is installed, with its interface."""
        if shutil.which("soffice") is None or not os.access(PYTHON, os.X_OK):
            return False
        return subprocess.run([PYTHON, "-c", "import uno"], capture_output=True, check=False).returncode == 0

    def __init__(self) -> None:
        self._home = tempfile.mkdtemp(prefix="wexagraph-office-")
        self._process = subprocess.Popen(
            [PYTHON, __file__, self._home], stdin=subprocess.PIPE, stdout=subprocess.PIPE, encoding="utf-8"
        )

    def work(self, path: Path, *steps: list[Any]) -> Any:
        """Open a file, take these steps, and save it where they change it. Returns what the last `read` step has read."""
        assert self._process.stdin and self._process.stdout
        self._process.stdin.write(json.dumps([str(path), steps]) + "\n")
        self._process.stdin.flush()
        return json.loads(self._process.stdout.readline())

    def close(self) -> None:
        """End the program."""
        self._process.communicate(timeout=60)
        shutil.rmtree(self._home, ignore_errors=True)


def main() -> None:
    """Run by the system's Python: a line a file on standard input, a line an answer."""
    import uno  # type: ignore[import-not-found]

    home = sys.argv[1]
    pipe = f"wexagraph{os.getpid()}"
    soffice = subprocess.Popen(
        [
            "soffice",
            "--headless",
            "--norestore",
            "--nologo",
            f"--accept=pipe,name={pipe};urp;",
            f"-env:UserInstallation=file://{home}",
        ],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    context = uno.getComponentContext()
    resolver = context.ServiceManager.createInstanceWithContext("com.sun.star.bridge.UnoUrlResolver", context)
    for _ in range(600):
        try:
            remote = resolver.resolve(f"uno:pipe,name={pipe};urp;StarOffice.ComponentContext")
            break
        except Exception:
            time.sleep(0.1)
    desktop = remote.ServiceManager.createInstanceWithContext("com.sun.star.frame.Desktop", remote)

    def value(name: str, what: object) -> Any:
        one = uno.createUnoStruct("com.sun.star.beans.PropertyValue")
        one.Name, one.Value = name, what
        return one

    for line in sys.stdin:
        path, steps = json.loads(line)
        asked = [value("Hidden", True)]
        if path.endswith(".csv"):
            semicolons = b";" in Path(path).read_bytes().partition(b"\n")[0]
            asked += [value("FilterName", _LINES), value("FilterOptions", f"{59 if semicolons else 44},34,76,1")]
        document = desktop.loadComponentFromURL(f"file://{path}", "_blank", 0, tuple(asked))
        answer = None
        for step in steps:
            answer = _step(uno, document, step, value)
        if all(step[0] in _READING for step in steps):
            document.close(True)
            print(json.dumps(answer), flush=True)
            continue
        document.calculateAll()
        kind = "Calc MS Excel 2007 XML" if path.endswith(".xlsx") else _LINES
        filters = [value("FilterName", kind)]
        if path.endswith(".csv"):
            filters.append(value("FilterOptions", "59,34,76,1"))  # semicolons, UTF-8
        document.storeToURL(f"file://{path}", tuple(filters))
        document.close(True)
        print(json.dumps(answer), flush=True)
    desktop.terminate()
    soffice.wait(30)


def _step(uno: Any, document: Any, step: list[Any], value: Any) -> Any:
    sheet = next(s for s in document.Sheets if any(sheet_text(s, 0, n).startswith("key ") for n in range(30)))
    width = next(n for n in range(60) if sheet_text(sheet, 0, n).startswith("key ")) + 1
    height = next(n for n in range(1, 100_000) if not sheet_text(sheet, n, width - 1))
    what, *rest = step
    if what == "read":
        return [[sheet.getCellByPosition(x, y).String for x in range(width)] for y in range(height)]
    if what == "set":
        sheet.getCellByPosition(rest[1], rest[0]).Formula = rest[2]
    if what == "colour":
        sheet.getCellByPosition(rest[1], rest[0]).CellBackColor = rest[2]
    if what == "colours":
        return [sheet.getCellByPosition(rest[0], y).CellBackColor for y in range(height)]
    if what == "insert column":
        sheet.Columns.insertByIndex(rest[0], 1)
        sheet.getCellByPosition(rest[0], 0).String = rest[1]
    if what == "move column":
        target = sheet.getCellByPosition(rest[1], 0).CellAddress
        sheet.Columns.insertByIndex(rest[1], 1)
        at = rest[0] + (rest[0] >= rest[1])
        sheet.moveRange(target, sheet.Columns.getByIndex(at).RangeAddress)
        sheet.Columns.removeByIndex(at, 1)
    if what == "delete row":
        sheet.Rows.removeByIndex(rest[0], 1)
    if what == "delete column":
        sheet.Columns.removeByIndex(rest[0], 1)
    if what == "own sheet":
        document.Sheets.insertNewByName(rest[0], document.Sheets.Count)
        document.Sheets.getByName(rest[0]).getCellByPosition(0, 0).Formula = rest[1]
    if what == "sheet":
        return (
            document.Sheets.getByName(rest[0]).getCellByPosition(0, 0).Formula
            if document.Sheets.hasByName(rest[0])
            else ""
        )
    if what == "sort":
        field = uno.createUnoStruct("com.sun.star.table.TableSortField")
        field.Field, field.IsAscending = rest[0], rest[1]
        fields = uno.Any("[]com.sun.star.table.TableSortField", (field,))
        area = sheet.getCellRangeByPosition(0, 0, width - 1, height - 1)
        area.sort((value("SortFields", fields), value("ContainsHeader", True)))
    return None


def sheet_text(sheet: Any, row: int, column: int) -> str:
    """The text of a cell."""
    return str(sheet.getCellByPosition(column, row).String)


if __name__ == "__main__":
    main()
