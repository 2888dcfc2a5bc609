"""The card of a manner: its lines with examples, for whoever works at the machine by hand."""

from collections.abc import Sequence

from fpdf import FPDF

from .letters import plain

Row = tuple[str, str, str]


def manner_card(name: str, groups: Sequence[tuple[str, Sequence[Row]]]) -> bytes:
    """A4; rows of (what, the line with an example's numbers, what is done without)."""
    page = FPDF(format="A4")
    page.set_margin(15)
    page.set_auto_page_break(True, 15)
    page.add_page()
    page.set_font("helvetica", "B", 18)
    page.cell(0, 10, plain(f"How {name} is told"), new_x="LMARGIN", new_y="NEXT")
    page.set_font("helvetica", "", 9)
    page.multi_cell(0, 4.5, "Numbers are examples. Keep a hand at the mains switch while anything moves for the first time; "
                    "the rules of your workshop come first.", new_x="LMARGIN", new_y="NEXT")  # fmt: skip
    for group, rows in groups:
        page.ln(2)
        page.set_font("helvetica", "B", 11)
        page.cell(0, 7, plain(group), new_x="LMARGIN", new_y="NEXT")
        page.set_draw_color(120)
        for what, line, note in rows:
            page.set_font("helvetica", "", 9)
            top = page.get_y()
            page.multi_cell(62, 5, plain(what), new_x="RIGHT", new_y="TOP")
            page.set_font("courier" if line else "helvetica", "", 9)
            page.multi_cell(0, 5, plain(line or note), new_x="LMARGIN", new_y="NEXT")
            page.line(15, page.get_y() + 0.5, 195, page.get_y() + 0.5)
            page.set_y(max(page.get_y() + 1, top + 6))
    return bytes(page.output())
