"""Rows as CSV, safe in a spreadsheet."""

import csv
import io
from collections.abc import Iterable


def as_table(head: Iterable[str], rows: Iterable[Iterable[object]]) -> str:
    """A head and its rows as CSV; numbers as they are, no text that a spreadsheet takes for a formula."""
    out = io.StringIO()
    table = csv.writer(out)
    table.writerow(head)
    table.writerows([_plain(cell) for cell in row] for row in rows)
    return out.getvalue()


def _plain(cell: object) -> object:
    return f"'{cell}" if isinstance(cell, str) and cell.startswith(("=", "+", "-", "@")) else cell
