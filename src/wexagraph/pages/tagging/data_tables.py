"""Which tables of a page hold data: those with heads and a regular grid. All others only place things, as mail does."""

from __future__ import annotations

from dataclasses import dataclass

from selectolax.lexbor import LexborNode

_LAYOUT_ROLES = frozenset({"presentation", "none"})
_DATA_ROLES = frozenset({"table", "grid", "treegrid"})
_MOST_CELLS, _MOST_SPAN = 200_000, 1000
_LEAST_UNHEADED = 3
_SCOPES = {"col": "Column", "colgroup": "Column", "row": "Row", "rowgroup": "Row"}


@dataclass(frozen=True)
class Cell:
    """What a cell of a data table is: a head or not, for what, and over how many rows and columns."""

    head: bool
    scope: str
    columns: int
    rows: int

    @property
    def attributes(self) -> str:
        """As it is written behind the type of the element (ISO 32000-2, section 14.8.5.7)."""
        said = f"/Scope /{self.scope} " if self.head else ""
        said += f"/ColSpan {self.columns} " if self.columns > 1 else ""
        said += f"/RowSpan {self.rows} " if self.rows > 1 else ""
        return f"/A << /O /Table {said}>>" if said else ""


def data_cells(table: LexborNode) -> dict[int, Cell] | None:
    """The cells of a data table, by `mem_id` of their nodes; None for a table that only places things."""
    role = (table.attributes.get("role") or "").strip().lower()
    if role in _LAYOUT_ROLES:
        return None
    rows = _rows(table)
    if rows is None or len(rows) < 2 or not (spans := _regular(rows)):
        return None
    headed = [[cell.tag == "th" for cell in row] for row in rows]
    words = any(cell.tag == "th" and (cell.text() or "").strip() for row in rows for cell in row)
    if not words and role not in _DATA_ROLES and (table.attributes.get("class") or "").find("wx-grid") < 0:
        if not _has_bold_head(rows):
            return None
        headed[0] = [True] * len(rows[0])
    cells: dict[int, Cell] = {}
    for number, (row, heads) in enumerate(zip(rows, headed, strict=True)):
        column = (number == 0 and all(heads)) or _is_in_head(row[0] if row else None)
        for cell, head in zip(row, heads, strict=True):
            said = _SCOPES.get((cell.attributes.get("scope") or "").strip().lower(), "")
            scope = said or ("Column" if column or (number == 0 and cell is not row[0]) else "Row")
            cells[cell.mem_id] = Cell(head, scope, *spans[cell.mem_id])
    return cells


def _rows(table: LexborNode) -> list[list[LexborNode]] | None:
    """The rows of a table with their cells; None where a table stands in it."""
    rows: list[list[LexborNode]] = []
    count = 0
    waiting = [table]
    while waiting:
        node = waiting.pop()
        below = []
        for child in node.iter():
            if child.tag == "tr":
                cells = [cell for cell in child.iter() if cell.tag in ("td", "th")]
                count += len(cells)
                if count > _MOST_CELLS:
                    return None
                rows.append(cells)
            elif child.tag in ("thead", "tbody", "tfoot"):
                below.append(child)
        waiting += reversed(below)
    if any(cell.css_first("table") is not None for row in rows for cell in row):
        return None
    return [row for row in rows if row]


def _regular(rows: list[list[LexborNode]]) -> dict[int, tuple[int, int]]:
    """How many columns and rows each cell takes, where every row has as many columns, two at least; else nothing."""
    spans: dict[int, tuple[int, int]] = {}
    hanging: list[list[int]] = []  # for cells of rows above: how many rows they still take, and how many columns
    widths = set()
    for row in rows:
        width = sum(columns for _, columns in hanging)
        hanging = [[left - 1, columns] for left, columns in hanging if left > 1]
        for cell in row:
            columns, down = _span(cell, "colspan"), _span(cell, "rowspan")
            spans[cell.mem_id] = columns, down
            width += columns
            if down > 1:
                hanging.append([down - 1, columns])
        widths.add(width)
    return spans if len(widths) == 1 and widths.pop() >= 2 and not hanging else {}


def _span(cell: LexborNode, name: str) -> int:
    said = (cell.attributes.get(name) or "").strip()
    return min(max(1, int(said)), _MOST_SPAN) if said.isascii() and said.isdigit() else 1


def _has_bold_head(rows: list[list[LexborNode]]) -> bool:
    """Whether a table without heads has a first row of bold words over rows of short ones."""
    if len(rows) < _LEAST_UNHEADED or any(cell.css_first("img") is not None for row in rows for cell in row):
        return False
    first, *others = ([_is_bold(cell) for cell in row] for row in rows)
    return len(first) > 1 and all(first) and not any(all(row) for row in others)


def _is_bold(cell: LexborNode) -> bool:
    text = (cell.text() or "").strip()
    return bool(text) and any((bold.text() or "").strip() == text for bold in cell.css("b, strong"))


def _is_in_head(cell: LexborNode | None) -> bool:
    row = cell.parent if cell is not None else None
    return row is not None and row.parent is not None and row.parent.tag == "thead"
