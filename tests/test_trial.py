"""The trial is the benchmark: it counts what it says, and a few machines through it meet the bars."""

import json
import subprocess
import sys

import pytest

from ivory_table.trial.run import SCENARIO, trial


@pytest.fixture(scope="module")
def report() -> dict:
    return trial(12, 7)


def test_the_report_names_its_scenario_and_everything_it_counted(report: dict) -> None:
    assert report["scenario"].endswith("scenario.toml")
    assert {"stops", "rounds", "within", "moves", "proofs", "human_minutes", "machine_minutes", "crashes"} <= set(
        report["program"]
    )
    assert set(report["by_hand"]) == {"ring", "diagonal", "fixed steps", "nudging"}
    assert set(report["intervals_90_held"]) == {"screw_heights", "zone_gaps"}


def test_the_program_takes_fewer_stops_moves_and_proofs_than_working_by_hand(report: dict) -> None:
    program, hand = report["program"], report["by_hand"]
    assert program["stops"]["mean"] < hand["ring"]["stops"]["mean"]
    assert program["moves"]["mean"] < hand["fixed steps"]["moves"]["mean"]
    assert program["proofs_until_truly_sound"]["mean"] < hand["nudging"]["proofs_until_truly_sound"]["mean"]


def test_nothing_crashes_and_what_is_stated_mostly_holds(report: dict) -> None:
    assert report["crashes"] == 0
    assert report["program"]["within"]["mean"] >= 0.9
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
    wrong = subprocess.run([*command, "kitchen"], capture_output=True, text=True, check=False)
    assert wrong.returncode == 2
    assert SCENARIO["stops_cap"] == 40
