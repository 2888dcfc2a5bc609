"""A mended copy: what was asked for is done, in every dialect, and every other byte is as it was."""

import difflib
import io

import pytest

from ivory_table.core.manner import shipped
from ivory_table.program.job import Job, read_job
from ivory_table.program.job_copy import CannotMend, Mend, write_copy
from tests.jobs import DIALECTS, Dialect, made

HARBOUR = shipped("harbour")


def copied(text: str, **mend: float) -> tuple[Job, Job, str]:
    body = io.BytesIO(text.encode())
    job = read_job(body)
    body.seek(0)
    out = io.BytesIO()
    write_copy(body, out, job, HARBOUR, Mend.model_validate(mend), "part (2).gcode")
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
    before, after, copy = copied(m.text(), dx_mm=10)
    assert "G1 X2 Y2 F3000" in copy
    assert after.moves[-1].end[0] == pytest.approx(before.moves[-1].end[0] + 10, abs=1e-3)


def test_nothing_laid_has_no_first_layer() -> None:
    with pytest.raises(CannotMend):
        copied("G28\nG1 Z5 F600\n", speed_percent=80)
