"""What earlier versions kept still opens, and shows what it showed then."""

import json
from dataclasses import replace
from pathlib import Path

import pytest

from ivory_table.core.manner import shipped
from ivory_table.core.setup import RunSetup
from ivory_table.core.signs import Mark
from ivory_table.demo.tidewater import furnish
from ivory_table.desk.bring import import_run
from ivory_table.desk.desk import Desk
from ivory_table.runs.entry import Entry, RunFile
from ivory_table.runs.proof import ProofRun
from ivory_table.runs.row import Row
from ivory_table.runs.run import OpenRun
from ivory_table.runs.state import RunState
from ivory_table.runs.summary import MATHS
from ivory_table.store.tables import PageRow
from ivory_table.store.workshop import Workshop
from tests.conftest import NOON
from tests.runs.freeze import shows

ROWS = Path(__file__).parent / "rows"
RELEASED = sorted(ROWS.iterdir())
RUNS = [path for version in RELEASED for path in sorted(version.glob("*.json")) if path.stem != "kinds"]
NEWEST = json.loads((RELEASED[-1] / "kinds.json").read_text())


def entry_of(body: dict, station: str) -> Entry:
    return Entry.model_validate(
        {"id": "e1", "seq": 1, "at": NOON, "by": "mk", "source": "hand", "station": station, "what": body}
    )


def station_of(body: dict) -> str:
    kind = Row.kinds[body["kind"]]
    return kind.stations[0]


@pytest.mark.parametrize("version", RELEASED, ids=lambda p: p.name)
def test_every_kind_that_was_ever_kept_is_read_and_told(version: Path) -> None:
    frozen = json.loads((version / "kinds.json").read_text())
    setup = RunSetup.model_validate(frozen["setup"])
    for body in frozen["rows"]:
        entry = entry_of(body, station_of(body))
        assert entry.what.words(setup.machine)
        assert Entry.model_validate_json(entry.model_dump_json()) == entry


@pytest.mark.parametrize("path", RUNS, ids=lambda p: f"{p.parent.name}-{p.stem}")
def test_a_run_kept_by_an_earlier_version_shows_the_same(path: Path) -> None:
    frozen = json.loads(path.read_text())
    file = RunFile.model_validate(frozen["file"])
    state = RunState.start(file.setup)
    run = OpenRun(file.setup, file.entries, state, shipped(file.setup.machine.manner))
    for entry in run.kept:
        state = state.apply(entry)
    now = shows(OpenRun(file.setup, file.entries, state, run.manner))
    then = frozen["shows"]
    assert len(now.pop("rows")) == len(then.pop("rows"))  # words may get better
    assert now.pop("heights_mm") == pytest.approx(then.pop("heights_mm"), abs=2e-4)
    assert now.pop("sds_mm") == pytest.approx(then.pop("sds_mm"), abs=2e-4)
    assert now == then


def of_an_earlier_version(folder: Path) -> tuple[Workshop, RunSetup, dict]:
    """A database with one run, its rows as they stood on disk then; its set-up, and what it showed."""
    shop = Workshop(folder / "old.db")
    furnish(shop)
    frozen = json.loads((RELEASED[0] / "heron.json").read_text())
    setup = RunSetup.model_validate(frozen["file"]["setup"])
    shop.start_run(setup)
    with shop.writing():
        for body in frozen["file"]["entries"]:
            text = json.dumps(body)
            shop._db.execute_sql("INSERT INTO entry VALUES (?, ?, ?, ?)", (body["id"], setup.id, body["seq"], text))
    return shop, setup, frozen["shows"]


def test_a_database_of_an_earlier_version_opens_with_its_runs(tmp_path: Path) -> None:
    """Rows as they stand on disk since then, without a version, a lesson or a summary."""
    shop, setup, shown = of_an_earlier_version(tmp_path)
    desk = Desk(shop)
    assert shop.figures.missing() == (setup.id,)
    assert desk.catch_up() == 1
    summary = shop.figures.summary(setup.id)
    assert summary is not None
    assert summary.signed_off
    assert {s.station: [s.state, s.figure] for s in summary.stations} == shown["stations"]
    assert shop.figures.missing() == ()
    shop.close()


def test_figures_that_an_earlier_computation_made_are_made_anew_and_pages_stay(tmp_path: Path) -> None:
    shop, setup, _ = of_an_earlier_version(tmp_path)
    desk = Desk(shop)
    desk.catch_up()
    now = shop.figures.summary(setup.id)
    assert now is not None
    assert now.maths == MATHS
    assert desk.renew(most=5) == 0
    with shop.writing():
        shop.figures.renew(now.model_copy(update={"maths": 1, "zones_sound": (7, 10)}))
        shop._db.execute_sql("UPDATE page SET body = 'as it was' WHERE run_id = ?", (setup.id,))
    assert shop.figures.older(5) == (setup.id,)
    assert desk.renew(most=5) == 1
    assert shop.figures.summary(setup.id) == now
    assert {row.body for row in PageRow.select()} == {"as it was"}
    shop.close()


def test_the_old_feel_is_read_by_the_station_it_came_through() -> None:
    felt = {"kind": "felt", "x_mm": 32.0, "y_mm": 32.0, "z_mm": 0.05, "feel": "brush", "sure": True}
    at_screw = entry_of(felt | {"screw": "front left"}, "tram").what
    at_centre = entry_of(felt | {"screw": None}, "tram").what
    stepped = entry_of(felt | {"screw": None}, "offset").what
    assert [w.kind for w in (at_screw, at_centre, stepped)] == ["screw_felt", "centre_felt", "felt"]
    assert at_screw.screw == "front left"
    assert at_centre.feel == stepped.feel == "brush"


def test_a_proof_of_two_heights_is_read_as_one_with_two_patches_to_a_zone() -> None:
    halves = [
        {"name": f"centre, {word}", "x_mm": x, "y_mm": 60, "away_mm": away, "half_of": [60, 60]}
        for word, x, away in (("closer", 54.5, -0.026), ("further", 65.5, 0.026))
    ]
    proof = {
        "kind": "two_heights",
        "zones": halves,
        "patch_mm": 9,
        "line_mm": 0.4,
        "layer_mm": 0.2,
        "bed_c": 60,
        "nozzle_c": 210,
    }
    body = {"id": "e1", "seq": 1, "at": NOON, "by": "mk", "source": "hand", "station": "first_layer", "version": 1}
    laid = Entry.model_validate({**body, "what": {"kind": "proof_started", "proof": proof}}).what.proof
    assert laid.kind == "three_heights"
    assert laid.zone_places == ((60, 60), (60, 60))
    seen = replace(ProofRun(laid), marks={0: Mark(0, "sound"), 1: Mark(1, "parted")})
    assert seen.zones_sound == (1, 1)
    whole = [{**halves[0], "half_of": None, "away_mm": 0}]
    plain = {**body, "what": {"kind": "proof_started", "proof": {**proof, "kind": "patches", "zones": whole}}}
    assert Entry.model_validate(plain).what.proof.zone_places == ((54.5, 60),)


def test_a_row_of_a_newer_version_says_so() -> None:
    body = entry_of({"kind": "turned", "screw": "front left", "marks": 1}, "tram").model_dump(mode="json")
    with pytest.raises(ValueError, match="newer Ivory Table"):
        Entry.model_validate(body | {"version": 99})
    with pytest.raises(ValueError, match="no kind of row called 'guessed'"):
        entry_of({"kind": "guessed"}, "tram")


def test_a_run_brought_to_an_empty_installation_teaches_what_it_taught_at_home(tmp_path: Path) -> None:
    shop = Workshop(tmp_path / "empty.db")
    file = RunFile.model_validate(json.loads((RELEASED[0] / "heron.json").read_text())["file"])
    assert import_run(shop, file)
    machine = shop.machine("heron")
    assert machine.stored_mm == 0.97
    assert any(s.sense_proved for s in machine.screws)
    person = shop.person_by("mk")
    assert person is not None
    assert person.eye is not None
    assert person.eye.marks > 0
    assert not import_run(shop, file)  # the very same again
    shop.close()
