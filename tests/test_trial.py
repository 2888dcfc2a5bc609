"""The trial is the benchmark: it counts what it says, and a few machines through it meet the bars."""

import json
import subprocess
import sys
import tempfile

import numpy as np
import pytest
from typer.testing import CliRunner

from ivory_table.cli.app import app
from ivory_table.trial.drift import SCENARIO as DRIFT
from ivory_table.trial.drift import trial as run_drift
from ivory_table.trial.figures import missed
from ivory_table.trial.first_layer import SCENARIO as FIRST_LAYER
from ivory_table.trial.first_layer import Session
from ivory_table.trial.first_layer import trial as first_layer_trial
from ivory_table.trial.harm import SCENARIO as HARM
from ivory_table.trial.harm import contact_figures, harm, tram_figures
from ivory_table.trial.mesh import SCENARIO as MESH
from ivory_table.trial.mesh import plate_figures
from ivory_table.trial.offset import SCENARIO as OFFSET
from ivory_table.trial.offset import machine_figures
from ivory_table.trial.run import SCENARIO, trial


def test_the_whole_way_counts_everything_and_beats_working_by_hand() -> None:
    """One report, one test: each process that ran a part of it would work it out anew."""
    report = trial(8, 7)
    program, hand = report["program"], report["by_hand"]
    assert report["scenario"].endswith("scenario.toml")
    assert {"stops", "rounds", "within", "moves", "proofs", "human_minutes", "machine_minutes", "crashes"} <= set(
        program
    )
    assert set(hand) == {"ring", "diagonal", "fixed steps", "nudging"}
    assert set(report["intervals_90_held"]) == {"screw_heights", "zone_gaps"}
    assert program["stops"]["mean"] < hand["ring"]["stops"]["mean"]
    assert program["moves"]["mean"] < hand["fixed steps"]["moves"]["mean"]
    assert program["proofs_until_truly_sound"]["mean"] < hand["nudging"]["proofs_until_truly_sound"]["mean"]
    assert report["crashes"] == 0
    # Done is declared at 90 %: of eight, one may be out.
    assert program["within"]["mean"] >= 7 / 8
    for share in report["intervals_90_held"].values():
        assert share > 0.8


def test_the_same_seed_is_the_same_trial() -> None:
    one, same, other = (trial(3, seed, "tram") for seed in (5, 5, 6))
    assert one["program"] == same["program"]
    assert one["program"] != other["program"]


def test_the_command_prints_json_and_refuses_nonsense() -> None:
    command = [sys.executable, "-m", "ivory_table.cli", "trial", "--machines", "1", "--station"]
    done = subprocess.run([*command, "tram", "--json", "--known", "0"], capture_output=True, text=True, check=True)
    row = json.loads(done.stdout)["rows"][0]
    assert row["counting, new"]["mean"] >= 3
    assert "counting, known" not in row
    wrong = CliRunner().invoke(app, ["trial", "--station", "kitchen"])
    assert wrong.exit_code == 2
    assert "no station 'kitchen'" in wrong.output
    assert SCENARIO["stops_cap"] == 40


def test_machines_that_do_not_fit_come_to_an_end_and_no_harm() -> None:
    """A few of the trial of hands that slip and knobs that work the other way: nothing diverges, everything ends."""
    with tempfile.TemporaryDirectory() as folder:
        for number in range(3):
            found = tram_figures((folder, 7, number))
            assert found["read_all_diverged"] == found["counting_diverged"] == found["crashes"] == 0
            assert found["read_all_ended"] == found["counting_ended"] == 1
        contact = contact_figures((folder, 7, 0))
    assert contact["found_untouched"] == 0
    assert contact["moves_far_eye"] < contact["moves_far_feel"] < 50


def test_a_bar_is_missed_only_beyond_its_error() -> None:
    bars = {"crashes": (0.0, 0.0), "declared": (1.0, 0.0), "moves_far_eye": (9.4, 0.5), "moves_far_feel": (21.0, 0.5)}
    report = {"figures": {k: {"mean": m, "two_se": e, "bar": HARM["bars"][k][0]} for k, (m, e) in bars.items()}}
    assert missed(report, HARM) == ["moves_far_feel"]


def test_from_anywhere_no_slip_of_a_hand_drives_the_tip_into_the_plate() -> None:
    found: dict[str, list[float]] = {}
    with tempfile.TemporaryDirectory() as folder:
        for number in range(4):
            for name, values in machine_figures((folder, 3, number)).items():
                found.setdefault(name, []).extend(values)
    assert set(OFFSET["bars"]) <= set(found)
    assert found["below"] == [0.0] * 4
    assert max(found["pressed_hard"]) == 0.0
    assert sum(found["moves_far_eye"]) < sum(found["fixed_steps"])
    worse = {"figures": {"pressed": {"mean": 0.5, "two_se": 0.1, "bar": 0.01}}}
    assert missed(worse, OFFSET) == ["pressed"]


def test_fewer_readings_leave_no_more_than_all_of_them_as_read() -> None:
    found: dict[str, list[float]] = {}
    for number in range(6):
        for name, values in plate_figures((5, number)).items():
            found.setdefault(name, []).extend(values)
    assert set(MESH["bars"]) - {"drift_ratio"} <= set(found)
    left = {name: float(np.mean(squares) ** 0.5) for name, squares in found.items() if name[:4] in ("rms_", "raw_")}
    assert left["rms_25"] < left["raw_25"]
    assert left["rms_9"] < left["raw_9"]
    assert left["rms_25"] <= left["rms_12"] < left["raw_9"]
    assert left["rms_drifted"] < 1.15 * left["rms_still"]


def test_first_layers_end_and_every_figure_is_counted() -> None:
    report = first_layer_trial(1, 7)
    assert set(FIRST_LAYER["bars"]) - {"feed_bias", "cause_false", "cause_named"} <= set(report["figures"])
    assert report["figures"]["declared"]["mean"] == 1.0
    assert report["figures"]["scraped"]["mean"] == 0.0


def test_a_cold_plate_is_mended_and_not_squeezed_out() -> None:
    """A machine whose plate is too cold: it is warmed, and the height is left where it was right."""
    one = Session(7, 0, "006", caliper=False)
    world = one.world
    world.greasy, world.cold, world.flow, world.cause = None, True, 1.0, "cold_plate"
    world.shift += 0.06 if world.gaps(one.now.state.wanted.plan).mean() < one.target else -0.06
    one.go()
    assert one.declared
    assert not world.cold
    assert world.lowest > 0.05
    assert abs(float(world.gaps(one.now.state.wanted.plan).mean()) - one.target) < 0.04


@pytest.mark.slow
def test_the_report_of_harm_has_every_figure() -> None:
    report = harm(2, 7)
    assert set(HARM["bars"]) <= set(report["figures"])
    assert report["figures"]["slack_new_stops"]["bar"] is None
    assert report["figures"]["counting_stops"]["bar"] == 9.4


def test_the_drift_trial_is_the_same_for_the_same_seed_and_says_all_its_figures() -> None:
    one, again = (run_drift(1, 5) for _ in range(2))
    assert one["figures"] == again["figures"]
    assert set(one["figures"]) > set(DRIFT["bars"])
    assert 0 < one["figures"]["bad_share"]["mean"] < 0.5
