"""What a page is set without, where a layout as written would lose words or leave the first page empty."""

from __future__ import annotations

from enum import Enum

from selectolax.lexbor import LexborNode

FILLING = " \t\r\n\xa0\u200b\u200c\u200d\u200e\u200f\u034f\ufeff\u00ad\u2007"  # what pads out preview lines
_CELLS = ("td", "th")
_BUTTON = 60
"""Letters of a table that holds no more than a button."""


class Relief(Enum):
    """What a page is made without, where the engine would leave words out or a first page empty."""

    NONE = "as written"
    UNROLLED = "layout tables of one column as blocks, which break where a row does not"
    UNHELD = "nothing cut off, placed, or of a given height"
    FLAT = "no style and no table of the author's"


def has_one_column(table: LexborNode) -> bool:
    """Whether a table is there for its frame alone: it has one filled cell a row, and holds more than a button does."""
    if len(table.text(deep=True)) < _BUTTON:
        return False
    for row in table.css("tr"):
        cells, cell = 0, row.first_child
        while cell is not None:
            cells += cell.tag in _CELLS and not is_spacer(cell)
            cell = cell.next
        if cells > 1 and _table_of(row) == table.mem_id:
            return False
    return True


def is_spacer(cell: LexborNode) -> bool:
    """Whether a cell is there for its width alone."""
    return cell.css_first("img, table") is None and not cell.text(deep=True).strip(FILLING)


def _table_of(row: LexborNode) -> int:
    above = row.parent
    while above is not None and above.tag != "table":
        above = above.parent
    return above.mem_id if above is not None else 0
