"""A shim plan 1:1: every layer on a sheet of its own, with a line to check the printer's scale by."""

from html import escape

from ivory_table.core.plate import Plate
from ivory_table.core.shim import ShimPlan

CHECK_MM = 100.0
MARGIN_MM = 12.0
_FOOT_MM = 34.0


def _place(plate: Plate, x: float, y: float) -> tuple[float, float]:
    """From the plate's own place to the paper: x to the right, y up on the plate, down on paper."""
    x0, _, _, y1 = plate.bounds
    return MARGIN_MM + x - x0, MARGIN_MM + y1 - y


def shim_svg(plan: ShimPlan, plate: Plate, title: str, caution: str) -> str:
    """All layers one below the other, in mm, cut lines full, the plate's edge dashed."""
    width = plate.width_mm + 2 * MARGIN_MM
    each = plate.depth_mm + MARGIN_MM + _FOOT_MM
    sheets = max(len(plan.layers), 1)
    out = [
        '<?xml version="1.0" encoding="UTF-8"?>',
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{width:g}mm" height="{each * sheets:g}mm" '
        f'viewBox="0 0 {width:g} {each * sheets:g}" font-family="sans-serif" font-size="4">',
        f"<title>{escape(title)}</title>",
    ]
    for k, layer in enumerate(plan.layers or (None,)):
        out.append(f'<g transform="translate(0 {k * each:g})">')
        x, y = _place(plate, plate.bounds[0], plate.bounds[3])
        if plate.shape == "round":
            r = plate.width_mm / 2
            edge = f'<circle cx="{x + r:g}" cy="{y + r:g}" r="{r:g}"'
        else:
            edge = f'<rect x="{x:g}" y="{y:g}" width="{plate.width_mm:g}" height="{plate.depth_mm:g}"'
        out.append(f'{edge} fill="none" stroke="#6F6C63" stroke-width="0.25" stroke-dasharray="3 2"/>')
        if layer is not None:
            path = " ".join(
                "M" + "L".join(f"{a:.2f} {b:.2f}" for a, b in (_place(plate, *p) for p in o.points_mm)) + "Z"
                for o in layer.outlines
            )
            out.append(f'<path d="{path}" fill="#DDD" fill-rule="evenodd" stroke="#000" stroke-width="0.3"/>')
        foot = MARGIN_MM + plate.depth_mm + 8
        words = f"{title}. Layer {layer.number} of {len(plan.layers)}" if layer else title
        out.append(f'<text x="{MARGIN_MM:g}" y="{foot:g}">{escape(words)}; front edge at the bottom.</text>')
        out.append(f'<text x="{MARGIN_MM:g}" y="{foot + 6:g}" font-size="3.2">{escape(caution)}</text>')
        line = foot + 13
        out.append(
            f'<path d="M{MARGIN_MM:g} {line - 2:g}v4M{MARGIN_MM:g} {line:g}h{CHECK_MM:g}m0 -2v4" fill="none" stroke="#000" '
            f'stroke-width="0.3"/><text x="{MARGIN_MM:g}" y="{line + 6:g}" font-size="3.2">'
            f"check line: {CHECK_MM:g} mm. If it measures otherwise, print again at 100 %.</text></g>"
        )
    out.append("</svg>")
    return "\n".join(out) + "\n"


def shim_pdf(plan: ShimPlan, plate: Plate, title: str, caution: str) -> bytes:
    """One page for each layer, as large as the plate needs, 1:1."""
    # Imported when a page is printed: it takes a quarter of a second that every start would pay.
    from fpdf import FPDF
    from fpdf.drawing import DeviceGray

    size = (plate.width_mm + 2 * MARGIN_MM, plate.depth_mm + MARGIN_MM + _FOOT_MM)
    pdf = FPDF(unit="mm", format=size)
    pdf.set_auto_page_break(False)
    pdf.set_title(_latin(title))
    pdf.set_font("helvetica", size=10)
    for layer in plan.layers or (None,):
        pdf.add_page()
        x, y = _place(plate, plate.bounds[0], plate.bounds[3])
        pdf.set_line_width(0.25)
        pdf.set_dash_pattern(dash=3, gap=2)
        if plate.shape == "round":
            pdf.ellipse(x, y, plate.width_mm, plate.depth_mm)
        else:
            pdf.rect(x, y, plate.width_mm, plate.depth_mm)
        pdf.set_dash_pattern()
        if layer is not None:
            with pdf.new_path() as path:
                path.style.intersection_rule = "evenodd"
                path.style.fill_color = DeviceGray(0.87)
                path.style.stroke_color = DeviceGray(0)
                path.style.stroke_width = 0.3
                for outline in layer.outlines:
                    first, *rest = (_place(plate, *p) for p in outline.points_mm)
                    path.move_to(*first)
                    for point in rest:
                        path.line_to(*point)
                    path.close()
        foot = MARGIN_MM + plate.depth_mm + 6
        words = f"{title}. Layer {layer.number} of {len(plan.layers)}" if layer else title
        pdf.text(MARGIN_MM, foot, _latin(f"{words}; front edge at the bottom."))
        pdf.set_font_size(7)
        pdf.text(MARGIN_MM, foot + 5, _latin(caution))
        line = foot + 12
        pdf.line(MARGIN_MM, line, MARGIN_MM + CHECK_MM, line)
        pdf.line(MARGIN_MM, line - 2, MARGIN_MM, line + 2)
        pdf.line(MARGIN_MM + CHECK_MM, line - 2, MARGIN_MM + CHECK_MM, line + 2)
        pdf.text(MARGIN_MM, line + 6, "check line: 100 mm. If it measures otherwise, print again at 100 %.")
        pdf.set_font_size(10)
    return bytes(pdf.output())


def _latin(text: str) -> str:
    """The built-in font knows Latin 1 only."""
    return text.replace("−", "-").encode("latin-1", "replace").decode("latin-1")
