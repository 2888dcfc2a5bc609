"""Whatever is kept, in whatever order: it is taken or refused with a sentence, and every page answers after it."""

import json
from contextlib import suppress
from random import Random

import pytest
from pydantic import ValidationError

from ivory_table.core.beam import BeamReading
from ivory_table.core.gauge import FeelScale
from ivory_table.core.proof import PROOF_CHOICES
from ivory_table.desk.desk import Desk, Keep
from ivory_table.runs.doubts import Refused
from ivory_table.runs.row import Row
from ivory_table.runs.run import OpenRun
from ivory_table.runs.standing import signed_pages
from ivory_table.stations import first_layer, mesh, offset, prepare, sign_off, tram
from ivory_table.stations.first_layer.files import plan_of, proof_file
from ivory_table.stations.first_layer.settings import recipe_view
from ivory_table.stations.first_use import FirstMachine, furnish_first
from ivory_table.stations.mesh.files import mesh_lines
from ivory_table.stations.offset.entries import MarkSighted
from ivory_table.stations.offset.feel import feel_check
from ivory_table.stations.offset.probe import probe_check
from ivory_table.stations.offset.second import pads_program, second_view
from ivory_table.stations.offset.tip import tip_heat_view
from ivory_table.stations.sign_off.files import readings_csv
from ivory_table.stations.tram.entries import BeamRead, ReadMm
from ivory_table.stations.tram.shim import shim
from ivory_table.stations.tram.skirt import skirt_for
from ivory_table.stations.tram.walk_file import walk_for
from ivory_table.stations.turned import TurnedAll
from ivory_table.store.trouble import Clash
from tests.runs.test_effects import EXAMPLES

from .keeping import PLATES, keep, start

PAGES = {
    "prepare": prepare.view.view,
    "tram": tram.view.view,
    "mesh": mesh.view.view,
    "offset": offset.view.view,
    "first_layer": first_layer.view.view,
    "sign_off": sign_off.view.view,
}
#: Beside the stations: what is not there is refused with a sentence.
BESIDE = {
    "probe": probe_check,
    "tip": tip_heat_view,
    "second": second_view,
    "pads": pads_program,
    "feel": feel_check,
    "shim": lambda run: shim(run, 0.1),
    "walk": lambda run: walk_for(run, 2, "ring", True),
    "skirt": skirt_for,
    "recipe": recipe_view,
    "proof": lambda run: proof_file(run, "advised"),
    "mesh": mesh_lines,
    "readings": readings_csv,
    "record": signed_pages,
}
#: More of what only says something once something else is there.
KINDS = [*EXAMPLES, *["judged"] * 8, *["proof_started"] * 4]


def varied(found: object, rng: Random) -> object:
    """The same with other numbers: a bit off, turned round, nought."""
    if isinstance(found, bool):
        return rng.random() < 0.6
    if isinstance(found, float):
        return rng.choice([found, -found, found * rng.uniform(0.3, 3), 0.0, round(rng.gauss(0, 0.2), 3)])
    if isinstance(found, int):
        return rng.choice([found, 0, 1, 2, 3, 4, found + 1])
    if isinstance(found, list):
        return [varied(each, rng) for each in found]
    if isinstance(found, dict):
        return {key: each if key == "kind" else varied(each, rng) for key, each in found.items()}
    return found


def some_row(run: OpenRun, rng: Random) -> Row:
    """A row of any kind, about this run's own screws and proofs. Raises ValidationError for one that cannot be."""
    kind = rng.choice(KINDS)
    body = json.loads(EXAMPLES[kind].model_dump_json())
    if rng.random() < 0.7:
        body = varied(body, rng)
    screws = [s.name for s in run.setup.machine.screws]
    if screws and "screw" in body:
        body["screw"] = rng.choice(screws)
    if screws and isinstance(body.get("marks"), list):
        body["marks"] = [rng.randint(-6, 6) for _ in screws]
    if kind == "proof_started":
        choices = [c for c in PROOF_CHOICES if c != "mesh"]
        body["proof"] = json.loads(plan_of(run, rng.choice(choices)).model_dump_json())
    if kind == "judged":
        body["zone"] = rng.randint(0, 9)
    return type(EXAMPLES[kind]).model_validate(body)


@pytest.fixture
def workshop_of_many(desk: Desk) -> Desk:
    """The demo's machines, and two of one's own that nobody has set up any further."""
    own = {
        "godwit": {"shape": "round", "knobs": 3, "convention": "stop_position"},
        "dunlin": {"knobs": 0, "convention": None},
    }
    for name, more in own.items():
        furnish_first(desk, FirstMachine(id=name, name=name, width_mm=240, depth_mm=240, **more))
        PLATES[name] = f"{name}-plate"
    return desk


@pytest.mark.parametrize("seed", [1, *(pytest.param(seed, marks=pytest.mark.slow) for seed in range(2, 40))])
def test_every_page_answers_after_any_rows(workshop_of_many: Desk, seed: int) -> None:
    desk, rng, kept = workshop_of_many, Random(seed), 0
    for number, machine in enumerate(sorted(PLATES)):
        run_id = f"run-{number}"
        run = start(desk, machine, run_id)
        for _ in range(20):
            try:
                what = some_row(run, rng)
                station = what.stations[0] if what.stations[0] in PAGES else "tram"
                seen = desk.open(run_id).seq
                run = desk.keep(run_id, station, Keep(id=f"{run_id}-{seen}", seen_seq=seen, what=what))
            except (Refused, ValidationError):
                continue
            except Clash:
                break
            kept += 1
            for page in rng.sample(sorted(PAGES), 2):
                assert PAGES[page](run) is not None, (machine, what, page)
            for page in rng.sample(sorted(BESIDE), 2):
                with suppress(Refused):
                    assert BESIDE[page](run) is not None, (machine, what, page)
            layer = first_layer.view.view(run)
            leads_on = layer.steps or layer.next_zone is not None or layer.step in ("print", "print_again")
            assert leads_on, (machine, what, layer.step)
            gap, sd = run.state.common_gap
            assert abs(gap) < 100, (machine, what)
            assert sd < 20, (machine, what)
    assert kept > 30


def test_cuts_that_meet_are_no_feel() -> None:
    """No gap is possible between two that cross: one `brush` would leave nothing of the belief."""
    for cuts in ((-0.04, -0.012, 0.0055, 0.0), (-0.04, -0.012, -0.012, 0.03)):
        with pytest.raises(ValidationError, match="rise from stuck to free"):
            FeelScale(cuts_mm=cuts)


def test_two_sides_of_a_beam_at_one_place_are_refused_and_not_kept(desk: Desk) -> None:
    start(desk, "bittern")
    close = BeamReading(left_x_mm=-0.3, right_x_mm=0.2, left_mm=0.01, right_mm=0.0)
    with pytest.raises(Refused, match="40 mm apart"):
        keep(desk, "tram", BeamRead(reading=close))
    assert desk.open("run").seq == 0
    assert tram.view.view(desk.open("run")).beam is None


def test_knobs_turned_before_anything_was_read_are_told_with_what_is_believed(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "tram", TurnedAll(marks=(2, 0, 0, -1)))
    for screw, (x, y) in {"front left": (29, 29), "rear right": (216, 206)}.items():
        run = keep(desk, "tram", ReadMm(x_mm=x, y_mm=y, instrument="dial", value_mm=0.1, screw=screw, sure=True))
    turned, told = tram.view.view(run).rounds
    assert (len(turned.stops), len(turned.readings)) == (2, 0)
    assert turned.spread_mm > 0.1
    assert len(told.readings) == 2
    assert told.spread_mm == pytest.approx(0.0)


def test_a_probe_far_beside_the_tip_is_a_number_misread(desk: Desk) -> None:
    start(desk, "heron")
    with pytest.raises(Refused, match="sits 161 mm beside the tip"):
        keep(desk, "offset", MarkSighted(tip_x_mm=60, tip_y_mm=60, probe_x_mm=221, probe_y_mm=60))
    assert desk.open("run").seq == 0
