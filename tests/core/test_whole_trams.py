"""Whole trams on random plates that the policy cannot see: they end, they are right, they beat the ring, intervals hold."""

from typing import Literal

import numpy as np
import pytest

from ivory_table.core import advice, tram_told
from ivory_table.core.defaults import TRAM
from ivory_table.trial import tram as trial
from ivory_table.trial.tram import new_belief
from ivory_table.trial.tram_plates import TOL, screws_of

SCREWS = screws_of()


@pytest.fixture(scope="module")
def rows() -> dict:
    """The table of the trial, on few machines: the benchmark measures many."""
    made = trial.table(40, 5, [1.0, 0.4, "elastic"], workers=2, known_runs=2)
    return {row["truth"]: row for row in made["rows"]}


@pytest.mark.slow
@pytest.mark.parametrize(("truth", "bar"), [(1.0, 8.2), (0.4, 10.2), ("elastic", 10.5)])
def test_counting_ends_soon_and_rightly_and_beats_the_ring(rows: dict, truth: float | str, bar: float) -> None:
    counting = rows[truth]["counting, new"]
    assert counting["mean"] <= bar
    assert counting["mean"] < rows[truth]["ring"]["mean"]
    assert counting["truly_within"] >= 0.8
    assert counting["capped"] == 0


@pytest.mark.slow
def test_a_known_machine_needs_less_than_a_new_one(rows: dict) -> None:
    for way in ("counting", "read all"):
        known, new = (np.mean([row[f"{way}, {which}"]["mean"] for row in rows.values()]) for which in ("known", "new"))
        assert known < new


@pytest.mark.slow
@pytest.mark.parametrize("truth", [1.0, 0.4, "elastic"])
def test_reading_all_takes_two_rounds_and_less_on_a_known_machine(rows: dict, truth: float | str) -> None:
    # Beyond what forty machines may be off by.
    for which, bar in (("new", 2.4), ("known", 1.8)):
        row = rows[truth][f"read all, {which}"]
        assert row["mean"] - row["two_se"] <= bar
    assert rows[truth]["read all, new"]["truly_within"] >= 0.85


@pytest.mark.slow
def test_what_is_stated_mostly_holds(rows: dict) -> None:
    shares = [row[k]["heights_held"] for row in rows.values() for k in ("counting, new", "read all, new")]
    assert 0.82 <= float(np.mean(shares)) <= 0.98


@pytest.mark.slow
def test_a_reversed_knob_is_found_where_it_shows(rows: dict) -> None:
    seen = sum(row["reversed"]["seen"] for row in rows.values())
    found = sum(row["reversed"]["seen"] * row["reversed"]["found_at_once"] for row in rows.values())
    assert found >= 0.9 * seen > 0
    for row in rows.values():
        assert row["counting, new"]["false_alarms_per_1000"] <= 12  # one, of some 80 stops


@pytest.mark.parametrize("count", [3, 4, 6, 9])
@pytest.mark.parametrize("pitch", [0.5, 0.7])
def test_other_numbers_of_screws_and_threads_are_trammed_too(count: int, pitch: float) -> None:
    screws = screws_of(count, pitch)
    rng = np.random.default_rng(count)
    person = trial.Person(rng, screws, trial.plate_for(0.5, rng, screws, 0.0))
    tally, _ = trial.counting(person, new_belief(screws))
    assert tally.stops < 5 * count
    assert np.ptp(person.plant.heights) < 0.12


@pytest.mark.parametrize("count", [3, 4, 6, 9])
def test_any_number_of_screws_is_done_by_readings_in_mm(count: int) -> None:
    screws = screws_of(count)
    rng = np.random.default_rng(count)
    person = trial.Person(rng, screws, trial.plate_for(0.5, rng, screws, 0.0))
    tally, _ = trial.read_all(person, new_belief(screws))
    assert tally.rounds <= 5
    assert person.within()


@pytest.mark.slow
@pytest.mark.parametrize("truth", [0.4, "elastic"])
def test_six_screws_take_fewer_stops_than_the_ring_and_end_within(truth: float | str) -> None:
    # Of eight machines five may be within by chance where 97 of 100 are; of two dozen 19 where 88 are.
    row = trial.table(48, 23, [truth], count=6, workers=2, known_runs=1)["rows"][0]
    counting, reading = row["counting, new"], row["read all, known"]
    # About one bending plate in fifty is not done: slack bolts that come and go.
    assert counting["capped"] <= (1 if truth == "elastic" else 0)
    assert counting["mean"] < 0.8 * row["ring"]["mean"]
    assert counting["truly_within"] >= 0.85
    assert reading["truly_within"] >= 0.9
    assert reading["capped"] == 0


@pytest.mark.slow
def test_nine_screws_are_brought_to_done_by_counts() -> None:
    row = trial.table(8, 7, [0.4], count=9, workers=2, known_runs=0)["rows"][0]
    assert row["counting, new"]["capped"] == 0
    assert row["counting, new"]["mean"] < 0.7 * row["ring"]["mean"]
    assert row["counting, new"]["truly_within"] >= 0.75


def test_a_person_stops_where_the_knob_does_no_more_and_puts_it_back() -> None:
    class Stuck:
        """A plate that no knob lifts: its bolts are slack."""

        heights = np.array([-0.4, 0.0, 0.0, 0.0])
        moved = 0.0

        def move(self, j: int, up_mm: float) -> float:
            self.moved += up_mm
            return up_mm

    person = trial.Person(np.random.default_rng(1), SCREWS, Stuck())
    assert person.until_drag(0, 32) == (32, "loose")
    assert person.until_drag(1, 32)[1] is None


def test_nine_screws_on_slack_bolts_are_read_until_they_are_within() -> None:
    """Machine 4 of seed 7 would be said to be within after its third round's turns, and is not: a bolt came loose by them."""
    screws = screws_of(9)
    plate = trial.plate_for("elastic", trial.draws(7, 4), screws, 0.0)
    person = trial.Person(trial.draws(7, 4, 1), screws, plate)
    tally, _ = trial.read_all(person, new_belief(screws))
    assert tally.rounds <= 8
    assert person.within()


def test_many_screws_that_are_within_are_left_alone() -> None:
    screws = screws_of(6)
    belief = new_belief(screws)
    for s in screws:
        belief = belief.read(
            belief.gap_row(s.x_mm, s.y_mm) + belief.surface.unit(belief.surface.probe_zero), 0.3, 0.006
        )
    marks, after = advice.turns_worth_making(belief, screws, 0.5, TOL)
    assert not np.any(marks)
    assert after is belief


@pytest.mark.parametrize("sunk", [(-0.2, -1.6, -1.7), (-0.3, -0.7, -0.5, -2.4), (1.9, 0.1, 1.8, 0.2)])
def test_a_plate_further_off_than_two_turns_is_brought_to_the_drag(sunk: tuple[float, ...]) -> None:
    screws, heights = screws_of(len(sunk)), np.array(sunk)
    belief, last, dragged = new_belief(screws), None, set()
    for _ in range(16):
        if belief.p_within(TOL) >= TRAM.done_at and len(dragged) == len(sunk):
            break
        stop = advice.next_stop(belief, screws, 0.0, TOL, last)
        j = last = stop.screw
        wanted = round(-heights[j] / screws[j].mm_per_mark)
        if abs(wanted) > stop.most_marks:
            went = float(np.sign(wanted) * stop.most_marks)
            still: Literal["tight", "loose"] = "loose" if wanted > 0 else "tight"
            belief = tram_told.not_reached(belief, screws, j, went, still, 0.0, dragged_before=j in dragged)
            continue
        heights[j] += wanted * screws[j].mm_per_mark
        belief = tram_told.counted(belief, screws, j, wanted, 0.0)
        dragged.add(j)
    assert np.ptp(heights) <= 2 * TOL


@pytest.mark.parametrize("number", [4, 33])
def test_a_knob_whose_bolt_goes_slack_does_not_swing_for_ever(number: int) -> None:
    """It does nothing for a while each time it is turned back: these two were swung by three turns each for sixty rounds."""
    screws = screws_of(6)
    plate = trial.plate_for("elastic", trial.draws(23, number), screws, 0.0)
    person = trial.Person(trial.draws(23, number, 1), screws, plate)
    first, belief = trial.read_all(person, new_belief(screws))
    again = trial.Person(
        trial.draws(23, number, 1), screws, trial.plate_for("elastic", trial.draws(23, number), screws, 0.0)
    )
    second, _ = trial.read_all(again, trial.known_belief(belief))
    assert first.rounds <= 15
    assert second.rounds <= 15
    assert person.within()
    assert again.within()
