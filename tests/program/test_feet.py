"""The feet of a job's parts: found where they are, with their corners and brims, and told when they may come off."""

import io
from math import cos, pi, sin

import pytest

from ivory_table.core.manner import shipped
from ivory_table.demo.tidewater import FILAMENTS, MACHINES
from ivory_table.program.feet import feet, of_feet
from ivory_table.program.findings import find
from ivory_table.program.job import Job, read_job
from tests.jobs import DIALECTS, made

PLA = next(f for f in FILAMENTS if f.id == "pla-white")
ABS = PLA.model_copy(update={"material": "ABS"})


def job_of(*outlines: list[tuple[float, float]], high: float = 30.0, brim: float = 0.0, skirt: bool = False) -> Job:
    """Outlines filled with lines side by side on two layers; then up to `high`."""
    lines = ["G21", "G90", "M83"]
    for z in (0.2, 0.4):
        lines.append(f"G1 Z{z}")
        if skirt and z == 0.2:
            lines += ["G0 X5 Y5", "G1 X200 Y5 E9", "G1 X200 Y200 E9", "G1 X5 Y200 E9", "G1 X5 Y5 E9"]
        for outline in outlines:
            xs, ys = [p[0] for p in outline], [p[1] for p in outline]
            for wide in [0.45 * k for k in range(round(brim / 0.45), 0, -1)] if z == 0.2 else []:
                x0, x1, y0, y1 = min(xs) - wide, max(xs) + wide, min(ys) - wide, max(ys) + wide
                lines += [f"G0 X{x0} Y{y0}", *(f"G1 X{x} Y{y} E1" for x, y in ((x1, y0), (x1, y1), (x0, y1), (x0, y0)))]
            lines.append(f"G0 X{outline[-1][0]} Y{outline[-1][1]}")
            lines += [f"G1 X{x} Y{y} E1" for x, y in outline]
            # Filled by shrinking the outline to its middle.
            mx, my = sum(xs) / len(xs), sum(ys) / len(ys)
            size = max(max(xs) - min(xs), max(ys) - min(ys)) / 2
            for k in range(1, int(size / 0.45)):
                f = 1 - k * 0.45 / size
                lines.append(f"G0 X{mx + f * (outline[-1][0] - mx)} Y{my + f * (outline[-1][1] - my)}")
                lines += [f"G1 X{mx + f * (x - mx)} Y{my + f * (y - my)} E1" for x, y in outline]
    lines += [f"G1 Z{high}", f"G1 Z{high + 10}"]
    return read_job(io.BytesIO("\n".join(lines).encode()))


def square(x: float, y: float, side: float) -> list[tuple[float, float]]:
    return [(x, y), (x + side, y), (x + side, y + side), (x, y + side)]


def test_a_pin_is_told_and_what_stands_well_is_not() -> None:
    job = job_of(square(50, 50, 4), square(100, 100, 40), skirt=True)
    pin, block = sorted(feet(job, PLA), key=lambda f: f.held.area_mm2)
    assert (pin.x_mm, pin.y_mm) == pytest.approx((52, 52), abs=0.6)
    assert block.held.area_mm2 == pytest.approx(1600, rel=0.06)
    assert pin.corner_deg == block.corner_deg == pytest.approx(90)
    told = list(of_feet(job, PLA))
    assert [(f.code, f.level) for f in told] == [("may_come_off", "warning")]
    assert "(52, 52)" in told[0].text
    assert told[0].line == next(m.line for m in job.first_layer if m.end[0] < 60 and m.end[0] > 40)
    assert "brim" in told[0].text


def test_what_the_face_holds_poorly_comes_off_sooner_and_what_it_holds_too_well_is_told() -> None:
    """The same job of ABS on the smooth sheet and on bare glass; PETG on glass takes chips out of it."""
    kestrel = next(m for m in MACHINES if m.id == "kestrel")
    job = job_of(square(50, 50, 12))

    def told(plate: str, material: str) -> dict[str, str]:
        of = PLA.model_copy(update={"material": material})
        return {f.code: f.text for f in find(job, kestrel, kestrel.plate(plate), of, shipped("harbour"), mesh_on=False)}

    sheet, glass = told("kestrel-smooth", "ABS"), told("kestrel-glass", "ABS")
    assert "holds_poorly" not in sheet
    assert glass["holds_poorly"].startswith("ABS hardly holds on bare glass")
    assert "may_come_off" in glass
    assert "may_come_off" not in sheet
    assert "chips out of it" in told("kestrel-glass", "PETG")["holds_too_well"]


def test_what_shrinks_more_is_told_at_its_corners() -> None:
    job = job_of(square(20, 20, 120), high=60.0)
    assert list(of_feet(job, PLA)) == []
    (told,) = of_feet(job, ABS)
    assert "corners" in told.text


def test_a_brim_that_is_there_counts() -> None:
    bare, with_brim = (feet(job_of(square(60, 60, 5), brim=b), PLA)[0] for b in (0.0, 5.0))
    assert bare.brim_mm == 0.0
    assert with_brim.brim_mm == pytest.approx(5, abs=1.2)
    assert with_brim.held.p_off < 0.1 < bare.held.p_off
    # The corner is the part's, not the brim's.
    assert with_brim.corner_deg == pytest.approx(90)


@pytest.mark.parametrize("angle", [30.0, 45.0, 75.0, 110.0])
def test_the_sharpest_corner_is_measured(angle: float) -> None:
    a = angle * pi / 180
    wedge = [(50.0, 50.0), (100.0, 50.0), (50 + 50 * cos(a), 50 + 50 * sin(a))]
    (foot,) = feet(job_of(wedge), PLA)
    assert foot.corner_deg == pytest.approx(min(angle, (180 - angle) / 2), abs=1.0)


def test_a_notch_is_no_corner() -> None:
    """The inner corner of an L is as sharp as its others, and nothing lifts there."""
    ell = [(50, 50), (110, 50), (110, 80), (80, 80), (80, 110), (50, 110)]
    (foot,) = feet(job_of([(float(x), float(y)) for x, y in ell]), PLA)
    assert foot.corner_deg == pytest.approx(90)


def test_a_job_of_one_layer_has_no_part_on_it() -> None:
    assert feet(read_job(io.BytesIO(made(DIALECTS[0], layers=1).text().encode())), PLA) == []
