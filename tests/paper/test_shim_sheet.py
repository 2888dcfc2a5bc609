"""The shim plan on paper is 1:1: what is cut out is what was computed, and the check line is 100 mm."""

import re
import zlib
from xml.etree import ElementTree

import numpy as np
import pytest

from ivory_table.core.plate import Plate
from ivory_table.core.shim import Outline, ShimLayer, ShimPlan
from ivory_table.paper.shim_sheet import CHECK_MM, MARGIN_MM, shim_pdf, shim_svg
from tests.conftest import setup_for

POINT_MM = 25.4 / 72
FLOAT = rb"(-?[\d.]+)"
OUTLINES = (
    Outline(points_mm=((3.0, 2.0), (110.0, 12.5), (90.0, 100.0), (10.0, 95.0))),
    Outline(points_mm=((50.0, 40.0), (70.0, 40.0), (70.0, 65.25))),
)
PLAN = ShimPlan(
    sheet_mm=0.05,
    layers=(
        ShimLayer(number=1, outlines=OUTLINES, area_mm2=20000.0),
        ShimLayer(number=2, outlines=OUTLINES[:1], area_mm2=12000.0),
    ),
    range_before_mm=0.2,
    range_after_mm=0.05,
    sd_mm=0.01,
    sentence="Two layers.",
)


def on_paper(plate: Plate, outline: Outline) -> np.ndarray:
    """Millimetres from the paper's upper left corner: the plate's rear left corner lies at the margins."""
    x0, _, _, y1 = plate.bounds
    return np.array(outline.points_mm) * [1, -1] + [MARGIN_MM - x0, MARGIN_MM + y1]


def pages_of(pdf: bytes) -> tuple[list[tuple[float, float]], list[bytes]]:
    """Sizes in mm and drawing commands of every page, read without the library that wrote them."""
    sizes = [
        (float(w) * POINT_MM, float(h) * POINT_MM)
        for w, h in re.findall(rb"/MediaBox \[0 0 " + FLOAT + rb" " + FLOAT + rb"\]", pdf)
    ]
    drawn = []
    for stream in re.findall(rb"stream\r?\n(.*?)\r?\nendstream", pdf, re.DOTALL):
        try:
            drawn.append(zlib.decompress(stream))
        except zlib.error:
            drawn.append(stream)
    return sizes, [d for d in drawn if b"check line" in d]


@pytest.mark.parametrize("machine", ["heron", "bittern"])
def test_the_pdf_is_as_large_as_the_plate_and_its_outlines_lie_where_they_were_computed(machine: str) -> None:
    plate = setup_for(machine).plate
    sizes, pages = pages_of(shim_pdf(PLAN, plate, "Shim − plan", "Paper chars above 200 °C."))
    assert len(pages) == len(PLAN.layers)
    for page, layer in zip(pages, PLAN.layers, strict=True):
        width, height = sizes[0]
        assert width == pytest.approx(plate.width_mm + 2 * MARGIN_MM, abs=0.05)
        # The cut is drawn in units of its own; PDF counts points from the lower left corner.
        right, up, x0, y0, cut = re.search(
            rb"q " + FLOAT + rb" 0 0 " + FLOAT + rb" " + FLOAT + rb" " + FLOAT + rb" cm (.*) Q", page
        ).groups()
        points = np.array(re.findall(FLOAT + rb" " + FLOAT + rb" [ml]\b", cut), dtype=float)
        points = (points * [float(right), float(up)] + [float(x0), float(y0)]) * POINT_MM
        points[:, 1] = height - points[:, 1]
        wanted = np.vstack([on_paper(plate, o) for o in layer.outlines])
        assert points == pytest.approx(wanted, abs=0.02)
        ends = np.array(
            re.findall(FLOAT + rb" " + FLOAT + rb" m " + FLOAT + rb" " + FLOAT + rb" l S", page), dtype=float
        )
        lengths = np.hypot(ends[:, 2] - ends[:, 0], ends[:, 3] - ends[:, 1]) * POINT_MM
        assert lengths.max() == pytest.approx(CHECK_MM, abs=0.02)


@pytest.mark.parametrize("machine", ["heron", "bittern"])
def test_the_svg_is_drawn_in_millimetres(machine: str) -> None:
    plate = setup_for(machine).plate
    root = ElementTree.fromstring(shim_svg(PLAN, plate, "Shim <plan>", "Paper chars above 200 °C."))
    _, _, width, height = (float(v) for v in root.attrib["viewBox"].split())
    assert root.attrib["width"] == f"{width:g}mm"
    assert root.attrib["height"] == f"{height:g}mm"
    svg = "{http://www.w3.org/2000/svg}"
    sheets = root.findall(f"{svg}g")
    assert len(sheets) == len(PLAN.layers)
    for sheet, layer in zip(sheets, PLAN.layers, strict=True):
        cut, check = (p.attrib["d"] for p in sheet.findall(f"{svg}path"))
        drawn = [
            np.array(re.findall(r"(-?[\d.]+) (-?[\d.]+)", part), dtype=float) for part in cut.split("Z") if part.strip()
        ]
        for points, outline in zip(drawn, layer.outlines, strict=True):
            assert points == pytest.approx(on_paper(plate, outline), abs=0.006)
        assert float(re.search(r"h([\d.]+)", check)[1]) == CHECK_MM


def test_a_plate_that_needs_no_shim_is_one_sheet_without_a_cut() -> None:
    plate = setup_for("heron").plate
    bare = PLAN.model_copy(update={"layers": ()})
    _, pages = pages_of(shim_pdf(bare, plate, "Shim plan", "Paper chars."))
    assert len(pages) == 1
    assert "<path" in shim_svg(bare, plate, "Shim plan", "Paper chars.")
    assert "evenodd" not in shim_svg(bare, plate, "Shim plan", "Paper chars.")
