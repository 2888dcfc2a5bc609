"""A page of facts with a code to be scanned: a machine's card, the record of a run."""

from collections.abc import Sequence
from typing import Literal

import segno
from fpdf import FPDF

from .letters import plain

Group = tuple[str, Sequence[Sequence[str]]]
CODE_MM = 26.0


def facts_page(
    title: str, about: str, groups: Sequence[Group], *, address: str, note: str = "", paper: Literal["A4", "A5"] = "A5"
) -> bytes:
    """Groups of rows, two or three cells each; `address` stands in the code at the top, and below it in letters."""
    page = FPDF(format=(148, 210) if paper == "A5" else paper)
    page.set_margin(12)
    page.set_auto_page_break(True, 12)
    page.add_page()
    width = page.w - 24
    _code(page, address, page.w - 12 - CODE_MM, 12)
    page.set_font("helvetica", "B", 20)
    page.multi_cell(width - CODE_MM - 4, 9, plain(title), new_x="LMARGIN", new_y="NEXT")
    page.set_font("helvetica", "", 9)
    page.multi_cell(width - CODE_MM - 4, 4.5, plain(about), new_x="LMARGIN", new_y="NEXT")
    page.set_y(max(page.get_y(), 12 + CODE_MM + 2))
    page.set_font("courier", "", 7)
    page.cell(width, 4, plain(address), align="R", new_x="LMARGIN", new_y="NEXT")
    for name, rows in groups:
        page.set_font("helvetica", "B", 11)
        page.cell(0, 7, plain(name), new_x="LMARGIN", new_y="NEXT")
        page.set_draw_color(150)
        for row in rows:
            _row(page, row, width)
        page.ln(2)
    if note:
        page.set_font("helvetica", "", 8)
        page.multi_cell(0, 4, plain(note), new_x="LMARGIN", new_y="NEXT")
    return bytes(page.output())


def _row(page: FPDF, row: Sequence[str], width: float) -> None:
    first = 0.36 * width
    each = (width - first) / max(len(row) - 1, 1)
    heights = []
    top, left = page.get_y(), page.l_margin
    if top > page.h - 24:
        page.add_page()
        top = page.get_y()
    for k, cell in enumerate(row):
        page.set_xy(left, top)
        page.set_font("helvetica" if k == 0 else "courier", "", 9)
        page.multi_cell(first if k == 0 else each, 4.6, plain(cell), align="L", new_x="RIGHT", new_y="NEXT")
        heights.append(page.get_y())
        left += first if k == 0 else each
    page.set_xy(page.l_margin, max(heights))
    page.line(page.l_margin, max(heights) + 0.4, page.w - page.r_margin, max(heights) + 0.4)
    page.ln(1)


def _code(page: FPDF, address: str, x: float, y: float) -> None:
    """The address as squares, which any size of paper keeps sharp."""
    rows = [list(row) for row in segno.make(address, error="m").matrix_iter(border=2)]
    step = CODE_MM / len(rows)
    page.set_fill_color(0)
    for j, row in enumerate(rows):
        for i, dark in enumerate(row):
            if dark:
                page.rect(x + i * step, y + j * step, step, step, style="F")
