"""A mended copy: what was asked for is done, in every dialect, and every other byte is as it was."""

import difflib
import io
from math import cos, radians, sin

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ivory_table.core.bead import Bead
from ivory_table.core.manner import shipped
from ivory_table.demo.tidewater import FILAMENTS, MACHINES
from ivory_table.program.findings import find
from ivory_table.program.job import Job, read_job
from ivory_table.program.job_copy import Mend, our_start, write_copy
from ivory_table.program.moved import CannotMend, middle_of
from tests.jobs import DIALECTS, Dialect, made

HARBOUR = shipped("harbour")
HERON = next(m for m in MACHINES if m.id == "heron")
PLATE = HERON.plates[0]
PLA = next(f for f in FILAMENTS if f.id == "pla-white")


def copied(text: str, *, mesh_on: bool = False, **mend: float) -> tuple[Job, Job, str]:
    body = io.BytesIO(text.encode())
    job = read_job(body)
    body.seek(0)
    out = io.BytesIO()
    wanted = Mend.model_validate(mend)
    start = our_start(job, HERON, PLA, Bead(0.45, 0.2), HARBOUR, mesh_on=mesh_on) if wanted.our_start else None
    write_copy(body, out, job, HARBOUR, PLATE, wanted, "part (2).gcode", start)
    return job, read_job(io.BytesIO(out.getvalue())), out.getvalue().decode()


@pytest.mark.parametrize("dialect", DIALECTS, ids=lambda d: d.name)
def test_moved_it_is_the_same_job_elsewhere(dialect: Dialect) -> None:
    text = made(dialect).text()
    before, after, _ = copied(text, dx_mm=12.5, dy_mm=-7.0)
    assert after.unreadable == 0  # sums that seal lines are right again
    assert len(after.moves) == len(before.moves)
    for a, b in zip(before.first_layer, after.first_layer, strict=True):
        assert b.end == pytest.approx((a.end[0] + 12.5, a.end[1] - 7.0, a.end[2]), abs=2e-2)
        assert b.filament_mm == pytest.approx(a.filament_mm, abs=1e-9)
    assert [s.command for s in after.said] == [s.command for s in before.said]


def test_every_byte_that_is_not_a_place_stays() -> None:
    text = made(DIALECTS[0]).text()
    _, _, copy = copied(text, dx_mm=5)
    assert copy.startswith("; part ?2?.gcode: a copy made by Ivory Table, moved by X+5 Y+0\n")
    for was, now in zip(text.splitlines(), copy.splitlines()[1:], strict=True):
        if " X" not in was:
            assert was == now
        else:
            x = float(was.split(" X")[1].split()[0])
            assert now == was.replace(f" X{was.split(' X')[1].split()[0]}", f" X{now.split(' X')[1].split()[0]}")
            assert float(now.split(" X")[1].split()[0]) == pytest.approx(x + 5, abs=1e-3)


def test_the_first_layer_alone_is_laid_otherwise() -> None:
    text = made(DIALECTS[0]).text()
    before, _, copy = copied(text, speed_percent=60, tip_c=215, fan=0.1)
    added = [d[2:] for d in difflib.ndiff(text.splitlines(), copy.splitlines()) if d.startswith("+ ")]
    assert not [d for d in difflib.ndiff(text.splitlines(), copy.splitlines()) if d.startswith("- ")]
    lines = copy.splitlines()
    # A line of words on top, four before each of the two layers.
    begin, end = before.first_layer[0].line + 4, before.second_layer[0].line + 8
    assert lines[begin] == text.splitlines()[begin - 5]
    assert {"PACE S60", "M109 S215", "M106 S26"} <= set(lines[begin - 4 : begin])
    # As it was from the second layer on.
    assert {"PACE S100", "M104 S206", "M106 S0"} <= set(lines[end - 4 : end])
    assert len(added) == 1 + 4 + 4


@pytest.mark.parametrize("dialect", DIALECTS, ids=lambda d: d.name)
@pytest.mark.parametrize("degrees", [90.0, -37.5])
def test_turned_it_is_the_same_job_seen_otherwise(dialect: Dialect, degrees: float) -> None:
    before, after, _ = copied(made(dialect, at=(80.0, 70.0)).text(), turn_deg=degrees, dx_mm=4.0, dy_mm=9.0)
    assert after.unreadable == 0
    middle = complex(*middle_of(before))
    by = complex(cos(radians(degrees)), sin(radians(degrees)))
    assert len(after.first_layer) == len(before.first_layer)
    for a, b in zip(before.first_layer, after.first_layer, strict=True):
        wanted = (complex(*a.end[:2]) - middle) * by + middle + complex(4, 9)
        # Inches have three digits: hundredths of a millimetre.
        assert complex(*b.end[:2]) == pytest.approx(wanted, abs=0.03)
        assert (b.end[2], b.filament_mm) == pytest.approx((a.end[2], a.filament_mm), abs=1e-9)


@given(st.floats(-180, 180), st.floats(-20, 20), st.floats(-20, 20))
@settings(max_examples=20)
def test_turned_there_and_back_it_is_where_it_was(degrees: float, dx: float, dy: float) -> None:
    text = made(DIALECTS[6], at=(80.0, 80.0), size_mm=20.0, layers=2).text()
    before, there, copy = copied(text, turn_deg=degrees, dx_mm=dx, dy_mm=dy)
    assert there.unreadable == 0
    _, back, _ = copied(copy, turn_deg=-degrees)
    shift = complex(*back.first_layer[0].end[:2]) - complex(*before.first_layer[0].end[:2])
    for a, b in zip(before.first_layer, back.first_layer, strict=True):
        # The middle of a turned job is that of what it covers then, so that it comes back somewhere beside.
        assert complex(*b.end[:2]) - complex(*a.end[:2]) == pytest.approx(shift, abs=0.02)


def test_the_start_the_end_and_what_lies_off_the_plate_stay() -> None:
    m = made(DIALECTS[0])
    m.put("fan off", "to prime", "G0 X5 Y5 Z0.3")
    m.put("fan off", "primed", "G1 X5 Y100 E4 F600")
    m.put("up 1", "wiper", "G0 X-20 Y-15")
    m.put("motors off", "park", "G0 X0 Y200 F6000")
    text = m.text()
    _, after, copy = copied(text, turn_deg=90, dx_mm=3)
    was, now = text.splitlines(), copy.splitlines()[1:]
    for label in ("primed", "to prime", "wiper", "park"):
        assert now[m.index(label)] == was[m.index(label)]
    assert now[m.index("ring 0 1")] != was[m.index("ring 0 1")]
    # After the wiper both places are said again.
    assert {"X", "Y"} <= {w[0] for w in now[m.index("to ring 1")].split()}
    assert after.unreadable == 0


def test_parts_one_after_the_other_have_their_first_layers_changed_and_are_all_moved() -> None:
    text = made(DIALECTS[1], at=(40.0, 40.0), size_mm=30.0, layers=6, then=((100.0, 100.0),)).text()
    before, after, copy = copied(text, dx_mm=5, speed_percent=70)
    assert copy.count("PACE S70") == copy.count("PACE S100") == 2
    assert len(before.first_spans) == 2
    for a, b in zip(before.first_layer, after.first_layer, strict=True):
        assert b.end[0] == pytest.approx(a.end[0] + 5, abs=1e-3)


@pytest.mark.parametrize("dialect", DIALECTS, ids=lambda d: d.name)
def test_with_our_start_nothing_is_missing_and_the_job_is_the_same(dialect: Dialect) -> None:
    m = made(dialect)
    for label in ("warm", "bed wait", "lift"):
        m.without(label)
    m.put("home", "hot", "M109 S206")
    before, after, copy = copied(m.text(), our_start=True, mesh_on=dialect.mesh)
    assert after.unreadable == 0
    told = find(after, HERON, PLATE, PLA, HARBOUR, mesh_on=dialect.mesh)
    assert [f for f in told if f.level != "note"] == []
    assert not [f for f in told if f.code == "hot_home"]
    ends = [[v for x in of.first_layer for v in x.end] for of in (before, after)]
    assert ends[1] == pytest.approx(ends[0])
    pushed = [[x.filament_mm for x in of.first_layer] for of in (before, after)]
    assert pushed[1] == pytest.approx(pushed[0], abs=1e-9)
    left_out = [line for line in copy.splitlines() if line.startswith("; left out: ")]
    own = {"hot": True, "home": True, "tip wait": True, "bed": True, "fan off": True}
    assert len(left_out) == len(own) + (1 if dialect.mesh else 0)


def test_what_cannot_be_moved_is_refused_with_its_line() -> None:
    m = made(DIALECTS[0])
    m.put("up 1", "seeded", "G92 X0")
    with pytest.raises(CannotMend, match=f"Line {m.line_of('seeded')}"):
        copied(m.text(), dx_mm=1)
    assert copied(m.text(), speed_percent=80)


def test_relative_stretches_are_not_moved_twice() -> None:
    m = made(DIALECTS[0])
    m.put("up 1", "a", "G91")
    m.put("up 1", "b", "G1 X2 Y2 F3000")
    m.put("up 1", "c", "G90")
    m.put("up 1", "d", "M83")
    before, after, copy = copied(m.text(), dx_mm=10)
    assert "G1 X2 Y2 F3000" in copy
    assert after.moves[-1].end[0] == pytest.approx(before.moves[-1].end[0] + 10, abs=1e-3)


def test_nothing_laid_has_no_first_layer() -> None:
    with pytest.raises(CannotMend):
        copied("G28\nG1 Z5 F600\n", speed_percent=80)
