"""A job's first lines: what each may be taught as, and patterns and templates said in words."""

import numpy as np
import pytest

from ivory_table.core.field import SurfaceField, Trend
from ivory_table.core.manner import shipped
from ivory_table.core.mesh import MeshLaw, grid_on
from ivory_table.core.mesh_plan import Telling, choices, plan_points, used_places, walk
from ivory_table.core.prior import first_belief
from ivory_table.core.surface import Surface
from ivory_table.core.teach.catalogue import word
from ivory_table.core.teach.job import MOST_LINES, lines_of_job
from ivory_table.core.teach.pieces import pattern_in_words
from ivory_table.core.teach.teaching import Teaching, text_in_words, what_it_reads
from tests.conftest import setup_for

HARBOUR = shipped("harbour")
JOB = """; made by hand
(a remark)
%
M140 S57 ; the plate
m104 s206
G28
G90
M106 S128
M106 S0
G4 S12
SPIN 7
SPIN 7
SPIN 8
G1 Z5 F600
G1 X10 Y10 F4800
G1 X20 Y10 E1.2
M190 S57
"""


def told(text: str, taught: dict[str, str] | None = None):
    return lines_of_job(text, [HARBOUR], taught or {})


def test_lines_before_anything_is_laid_say_what_they_may_be() -> None:
    found = {line.line: line for line in told(JOB)}
    assert list(found) == [
        "M140 S57",
        "m104 s206",
        "G28",
        "G90",
        "M106 S128",
        "M106 S0",
        "G4 S12",
        "SPIN 7",
        "SPIN 8",
        "G1 Z5 F600",
    ]
    assert found["M140 S57"].word == "does.heat_bed"
    assert found["M140 S57"].told is not None
    assert found["M140 S57"].told.values == {"celsius": 57.0}
    assert found["m104 s206"].word == "does.heat_tip"
    assert found["G28"].word == "does.home"
    assert found["M106 S128"].word == "does.fan"
    assert found["G4 S12"].told.values == {"seconds": 12.0}
    assert found["G4 S12"].name == word("does.dwell").name
    # Nothing known: shown, and nothing said of it.
    assert (found["SPIN 7"].word, found["SPIN 7"].told) == ("", None)
    # Numbers are those of the file's own lines.
    assert (found["M140 S57"].number, found["G90"].number) == (4, 7)
    # After the first line that lays filament nothing more is looked at.
    assert "M190 S57" not in found


def test_what_is_taught_already_is_not_new_and_a_move_by_itself_is_no_word() -> None:
    found = {line.word: line for line in told("G28\nM140 S60", {"does.home": "G28"})}
    assert not found["does.home"].new
    assert found["does.heat_bed"].new
    moves = told("G1 X10 Y20 F3000\nG1 X30 Y20 F3000")
    assert [(m.line, m.word) for m in moves] == [("G1 X10 Y20 F3000", "")]
    assert told("") == ()
    assert len(told("\n".join(f"WORD{k} 1" for k in range(200)))) == MOST_LINES


@pytest.mark.parametrize(
    ("pattern", "says"),
    [
        (r"^at x(?P<x>[-+]?\d*\.?\d+) y(?P<y>[-+]?\d*\.?\d+)", "at x‹X› y‹Y›"),
        (r"^probe\s+(?:(?P<open>up)|(?P<closed>down))(?:\W|$)", "probe “up” not touched or “down” touched"),
        (r"^error\s+(?P<text>.+)$", "error ‹the words›"),
        (r"^ready[^\n]*?\s*$", "ready…"),
        (r"^n\s+[-+]?\d*\.?\d+\nok$", "n # ⏎ ok"),
        (r"^a\.b\(c\)$", "a.b(c)"),
    ],
)
def test_a_pattern_is_said_as_a_line(pattern: str, says: str) -> None:
    assert pattern_in_words(pattern).lower() == says.lower()


def test_what_is_settled_of_a_word_is_said_and_read() -> None:
    teaching = Teaching(id="mine", name="Mine", texts={"says.counter": r"^tally (?P<prints>[-+]?\d*\.?\d+)"})
    assert what_it_reads(teaching, "says.counter", "tally 12") == {"prints": "12"}
    assert what_it_reads(teaching, "says.counter", "nothing of it") is None
    assert what_it_reads(teaching, "says.stored", "tally 12") is None
    assert text_in_words(word("says.counter"), "") == ""
    assert text_in_words(word("says.counter"), teaching.texts["says.counter"]).startswith("tally ‹")
    assert "#" not in text_in_words(word("does.home"), "G28")
    dress = "N{number} {line} | *{checksum} | xor"
    assert text_in_words(word("line.dress"), dress) == (
        "Each line is sent as “N12 …”, and behind it the exclusive-or of its bytes."
    )
    assert text_in_words(word("line.dress"), "#{line} |  | none") == "Each line is sent as “#…”."


def test_a_line_is_dressed_as_the_machine_wants_it() -> None:
    plain = Teaching(id="p", name="P")
    assert plain.dressed("G28") == "G28"
    sealed = plain.model_copy(update={"texts": {"line.dress": "N{number} {line} | *{checksum} | xor"}})
    seal = 0
    for byte in b"N1 G28":
        seal ^= byte
    assert sealed.dressed("G28") == f"N1 G28*{seal}"


# A mesh before it is read


def survey_of(machine: str = "kestrel") -> tuple[Telling, object]:
    setup = setup_for(machine)
    surface = Surface.of(setup.machine, setup.plate)
    mean, cov = first_belief(surface, bias_sd_mm=0.02).collapsed
    trend = Trend(surface, mean, cov, np.zeros(surface.size))
    return Telling.of(SurfaceField(trend, ()), MeshLaw()), setup


def test_more_points_leave_less_take_longer_and_parts_of_five_lie_between() -> None:
    telling, setup = survey_of()
    probe = setup.machine.probe

    def grid_of(size: int):
        return grid_on(setup.plate, size, size, probe=probe)

    found = choices(telling, grid_of, setup.plate, probe, 0.008, 0.2)
    whole = [c for c in found if c.readings == max(o.readings for o in found if o.columns == c.columns)]
    assert [c.columns for c in whole] == sorted({c.columns for c in whole})
    left = [c.left_mm for c in whole]
    assert left == sorted(left, reverse=True)
    assert all(c.minutes == round(c.readings * 0.2, 1) for c in found)
    parts = [c for c in found if c.columns == 5]
    assert len(parts) > 1
    assert [c.readings for c in parts] == sorted(c.readings for c in parts)
    assert [c.left_mm for c in parts] == sorted((c.left_mm for c in parts), reverse=True)


def test_the_points_that_are_chosen_one_by_one_leave_less_than_as_many_by_chance() -> None:
    telling, setup = survey_of()
    grid = grid_on(setup.plate, 5, 5, probe=setup.machine.probe)
    places = np.array([p.place_mm for p in walk(plan_points(grid, setup.plate, setup.machine.probe))])
    used = used_places(setup.plate, grid, 9)
    found = choices(telling, lambda _: grid, setup.plate, setup.machine.probe, 0.008, 0.2)
    some = next(c for c in found if c.columns == 5 and c.readings < len(places))
    r = np.random.default_rng(1)
    by_chance = [
        telling.left_mm(grid, places[r.choice(len(places), some.readings, replace=False)], used, 0.008)
        for _ in range(30)
    ]
    assert some.left_mm < np.median(by_chance)
    assert some.left_mm <= min(by_chance) * 1.15


def test_what_is_left_without_noise_at_the_points_themselves_is_nothing() -> None:
    telling, setup = survey_of()
    grid = grid_on(setup.plate, 4, 4)
    points = grid.places
    assert telling.left_mm(grid, points, points, 1e-4) < 0.001
    # Nothing read at all but one corner: about what is believed beforehand.
    one = telling.left_mm(grid, points[:1], points[-1:], 0.01)
    prior = float(np.sqrt(telling.prior(points[-1:], points[-1:])[0, 0]))
    assert 0.2 * prior < one <= prior * 1.001
