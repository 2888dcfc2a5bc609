"""What the stations show: figures, states, reasons, sheets; and the bench."""

import itertools

import numpy as np
import pytest
from scipy.stats import norm

from ivory_table.core import advice
from ivory_table.core.defaults import FACES
from ivory_table.core.placing import Footprint
from ivory_table.core.words import signed
from ivory_table.desk.desk import Desk, StartRun
from ivory_table.runs.common import CautionSeen, StationSkipped
from ivory_table.runs.doubts import Refused
from ivory_table.runs.judging import next_proof
from ivory_table.stations import bench, first_layer, mesh, offset, prepare, sign_off, tram
from ivory_table.stations.first_layer.entries import Judged, ProofStarted
from ivory_table.stations.first_use import FirstMachine, furnish_first
from ivory_table.stations.head import head_of
from ivory_table.stations.mesh.entries import MeshKept, MeshPlanned
from ivory_table.stations.mesh_used import MeshUsed
from ivory_table.stations.offset.entries import Felt
from ivory_table.stations.offset.step import OffsetTry
from ivory_table.stations.prepare.entries import CheckDone, Heated
from ivory_table.stations.sheet import class_of
from ivory_table.stations.sign_off.entries import SignedOff
from ivory_table.stations.stored.entries import OffsetSet, Readback
from ivory_table.stations.tram.entries import Counted, ReadMm, SenseTried, WayChosen
from ivory_table.stations.tram.slice import Tram
from ivory_table.stations.turned import Turned
from ivory_table.store.trouble import Clash, Unknown
from tests.conftest import NOON

from .keeping import keep, practise, start


def line(run, station: str):
    return next(s for s in head_of(run).stations if s.station == station)


def test_a_new_run_has_every_station_open(desk: Desk) -> None:
    head = head_of(start(desk, "heron"))
    assert {s.state for s in head.stations} == {"open"}
    assert head.kept_at is None
    assert head.rows == ()


def test_stations_tell_how_far_they_are(desk: Desk) -> None:
    start(desk, "heron")
    run = keep(desk, "prepare", CheckDone(check="homed", outcome="done"))
    assert (line(run, "prepare").state, line(run, "prepare").figure) == ("begun", "1 of 6 checks")
    run = keep(desk, "mesh", StationSkipped(station="mesh"))
    assert line(run, "mesh").state == "skipped"
    run = practise(desk, "tram")
    assert line(run, "tram").state == "done"
    assert "stops" in line(run, "tram").figure
    found = offset.step.now_at(run).wanted.new_mm
    run = keep(desk, "offset", OffsetSet(stored_mm=found))
    assert line(run, "offset").state == "begun"
    assert "read it back" in line(run, "offset").figure
    run = keep(desk, "offset", Readback(reported_mm=found))
    assert line(run, "offset").state == "done"
    run = keep(desk, "sign_off", SignedOff())
    assert line(run, "sign_off").state == "done"


def test_prepare_counts_the_minutes_the_heat_is_held(desk: Desk) -> None:
    start(desk, "kestrel")
    run = keep(desk, "prepare", Heated(bed_c=60, nozzle_c=150, held_since=NOON))
    view = prepare.view.view(run)
    assert view.held_minutes > 1000
    assert not view.ready
    for check in view.checks:
        run = keep(desk, "prepare", CheckDone(check=check.id, outcome="done"))
    assert prepare.view.view(run).ready
    assert head_of(run).heated == "bed 60°, tip 150°"


def test_a_caution_is_seen_once_a_run(desk: Desk) -> None:
    run = start(desk, "heron")
    assert [c.id for c in tram.view.view(run).cautions if not c.seen] == ["lift"]
    run = keep(desk, "tram", CautionSeen(caution="lift"))
    assert all(c.seen for c in tram.view.view(run).cautions)


def test_a_plastic_that_holds_too_well_gets_a_release_layer_first(desk: Desk) -> None:
    """PETG on bare glass: asked for in Prepare, warned of at the first layer until it is laid, and never laid hotter for grip."""
    run = start(desk, "bittern", filament="petg-grey")
    view = prepare.view.view(run)
    checks = {c.id: c for c in view.checks}
    assert checks["release_layer"].text == "Release layer laid: PETG on bare glass holds too well"
    assert "dish soap and warm water first" in checks["plate_clean"].why
    assert "coat_for_grip" not in checks
    assert "washable glue" in view.tools

    def warned() -> bool:
        return "holds_too_well" in {c.id for c in first_layer.view.view(desk.open("run")).cautions}

    assert warned()
    names = [r.name for r in first_layer.settings.recipe_view(run).recipes]
    held = first_layer.settings.placing_view(run, Footprint(width_mm=4, depth_mm=4, height_mm=60)).held
    run = keep(desk, "first_layer", ProofStarted(proof=next_proof(run.state, 5)))
    assert first_layer.view.view(run).stuck == ""
    run = keep(desk, "first_layer", Judged(zone=0, grade="sound", signs=("holds_hard",)))
    assert "chips out of it" in first_layer.view.view(run).stuck
    run = keep(desk, "prepare", CheckDone(check="release_layer", outcome="done"))
    assert not warned()
    assert "it happens at the right height" in first_layer.view.view(run).stuck
    assert "and hotter, for what will not hold" not in names
    assert [r.name for r in first_layer.settings.recipe_view(run).recipes][-1] == "and hotter, for what will not hold"
    after = first_layer.settings.placing_view(run, Footprint(width_mm=4, depth_mm=4, height_mm=60)).held
    assert after.knock == pytest.approx(FACES.too_well_grip * held.knock)


def test_a_plate_whose_face_nobody_named_is_cleaned_as_most_are(desk: Desk) -> None:
    furnish_first(desk, FirstMachine(id="osprey", name="Osprey", width_mm=200, depth_mm=200, knobs=4))
    view = prepare.view.view(start(desk, "osprey", plate="osprey-plate", filament="petg-grey"))
    checks = {c.id: c.text for c in view.checks}
    assert checks["plate_clean"] == "Plate clean: 90 % isopropyl, lint-free cloth"
    assert "Say in set-up what its face is made of" in next(c.right for c in view.checks if c.id == "plate_clean")
    assert not {"release_layer", "coat_for_grip"} & set(checks)


@pytest.mark.parametrize(("face", "warned"), [(None, True), ("glass", True), ("painted", False)])
def test_of_isopropyl_is_warned_where_it_is_used(desk: Desk, face: str | None, warned: bool) -> None:
    machine = desk.workshop.machine("wren")
    plates = tuple(p.model_copy(update={"face": face}) for p in machine.plates)
    desk.workshop.keep_machine(machine.model_copy(update={"plates": plates}))
    view = prepare.view.view(start(desk, "wren"))
    assert ("solvent" in {c.id for c in view.cautions}) is warned
    assert any("isopropyl" in t for t in view.tools) is warned


def test_a_glued_plate_is_not_wiped_with_alcohol(desk: Desk) -> None:
    view = prepare.view.view(start(desk, "heron", plate="heron-glass"))
    ids = {c.id for c in view.checks}
    assert "plate_refreshed" in ids
    assert "plate_clean" not in ids
    assert "solvent" not in {c.id for c in view.cautions}


@pytest.mark.parametrize(
    ("change", "wrong"),
    [
        ({"machine_id": "gull"}, Unknown),
        ({"plate_id": "kestrel-glass"}, Refused),
        ({"gauge_id": "gull"}, Unknown),
        ({"filament_id": "gull"}, Unknown),
    ],
)
def test_a_run_cannot_start_from_what_is_not_there(desk: Desk, change: dict, wrong: type[Exception]) -> None:
    ask = {
        "id": "run",
        "machine_id": "heron",
        "plate_id": "heron-steel",
        "filament_id": "pla-white",
        "gauge_id": "copy-paper",
        "initials": "mk",
    }
    with pytest.raises(wrong):
        desk.start(StartRun.model_validate(ask | change))
    with pytest.raises(Unknown):
        desk.open("run")


def test_starting_the_same_run_twice_is_harmless_and_another_under_its_id_is_not(desk: Desk) -> None:
    first = start(desk, "heron").setup
    assert start(desk, "heron").setup == first
    with pytest.raises(Clash, match="Another run"):
        start(desk, "kestrel")


def test_the_tram_shows_one_screw_at_a_time(desk: Desk) -> None:
    start(desk, "heron")
    for _ in range(12):
        view = tram.view.view(practise(desk, "tram", times=1))
        marked = [k for k in view.sheet.knobs if k.next]
        if view.step in ("count", "further", "read"):
            assert [k.name for k in marked] == [view.screw]
        else:
            assert marked == []


def test_a_turn_is_foretold_only_where_the_gauge_has_been(desk: Desk) -> None:
    start(desk, "heron")
    run = practise(desk, "tram", times=1)
    while (view := tram.view.view(run)).step != "centre" and len(run.entries) < 40:
        if view.step == "count":
            visited = {k.name for k in view.sheet.knobs if k.visited}
            assert (view.about_marks is not None) == (view.screw in visited)
        run = practise(desk, "tram", times=1)


def test_the_field_is_centred_and_carries_its_doubt(desk: Desk) -> None:
    run = start(desk, "heron")
    blank = tram.view.view(run).sheet.field
    sharp = tram.view.view(practise(desk, "tram")).sheet.field
    assert np.abs(np.array(blank.mean_mm)).max() < 1e-3
    assert np.array(blank.sd_mm).min() > np.array(sharp.sd_mm).min()
    assert len(sharp.mean_mm) == len(sharp.ys_mm)
    assert len(sharp.mean_mm[0]) == len(sharp.xs_mm)


def test_reasons_carry_this_runs_numbers(desk: Desk) -> None:
    start(desk, "heron")
    view = tram.view.view(practise(desk, "tram", times=6))
    assert any("P(spread" in r and "%" in r for r in view.reasons)
    assert any("of a twist" in r for r in view.reasons)


def test_every_point_is_read_on_the_shortest_walk_and_shown_before_it_is_kept(desk: Desk) -> None:
    start(desk, "wren")
    run = keep(desk, "mesh", MeshPlanned(columns=3, rows=3, owns_zero=True, readings=9))
    seen: list[tuple[int, int]] = []
    while (view := mesh.view.view(run)).step == "read":
        at = (view.next_column, view.next_row)
        seen += [at] if not seen or seen[-1] != at else []
        run = practise(desk, "mesh", times=1)
    assert seen == [(0, 0), (1, 0), (2, 0), (2, 1), (1, 1), (0, 1), (0, 2), (1, 2), (2, 2)]
    assert view.step == "keep"
    assert view.shown.fit.range_mm > 0
    assert run.state.mesh is None
    run = keep(desk, "mesh", MeshKept(survey=view.draft))
    assert mesh.view.view(run).step == "kept"
    assert mesh.files.mesh_csv(run).count("\n") == 4


def test_a_mesh_in_use_leaves_less_than_none(desk: Desk) -> None:
    start(desk, "kestrel")
    practise(desk, "tram")
    keep(desk, "mesh", MeshPlanned(columns=5, rows=5, owns_zero=False))
    run = practise(desk, "mesh")
    used = np.ptp(np.array(mesh.view.view(run).sheet.field.mean_mm))
    run = keep(desk, "mesh", MeshUsed(on=False))
    bare = np.ptp(np.array(mesh.view.view(run).sheet.field.mean_mm))
    assert used < bare
    assert line(run, "mesh").figure.endswith(", off")


def test_both_values_are_shown_with_and_without_the_gauge(desk: Desk) -> None:
    start(desk, "heron")
    run = keep(desk, "offset", Felt(x_mm=122, y_mm=118, z_mm=0.0, feel="drag"))
    view = offset.view.view(run)
    assert view.wanted.new_mm - view.drag_is_zero.new_mm == pytest.approx(0.1, abs=0.011)
    assert "measured 0.10 mm: taken off" in view.gauge_words
    assert view.wanted.words.endswith("closer")


def test_a_number_is_looked_at_in_words_before_it_is_set(desk: Desk) -> None:
    run = start(desk, "kestrel")
    assert offset.step.preview(run, OffsetTry(stored_mm=-1.97)).words == "0.05 mm closer"
    assert offset.step.preview(run, OffsetTry(stored_mm=-1.87)).words == "0.05 mm further"
    assert desk.open("run").seq == 0


def test_a_mesh_felt_by_hand_is_not_counted_twice_in_the_offset(desk: Desk) -> None:
    start(desk, "heron")
    practise(desk, "tram")
    keep(desk, "mesh", MeshPlanned(columns=3, rows=3, owns_zero=True))
    run = practise(desk, "mesh")
    view = offset.view.view(run)
    assert view.mesh_owns_zero
    hands = desk.hands(run)
    cx, cy = run.setup.plate.centre
    hands.move_nozzle(view.wanted.shift_mm)
    assert abs(hands.body.gap(cx, cy, 0.0)) < 0.06


def test_the_proof_shows_its_card_its_target_and_each_zone(desk: Desk) -> None:
    run = start(desk, "heron")
    view = first_layer.view.view(run, 9)
    assert view.step == "print"
    assert len(view.zones) == 9
    assert view.sound_from_mm < view.target_mm < view.sound_to_mm
    assert view.target_swatch.grade == "sound"
    assert 5 < view.minutes < 20
    run = keep(desk, "first_layer", ProofStarted(proof=view.plan))
    run = keep(desk, "first_layer", Judged(zone=0, grade="parted"))
    judged = first_layer.view.view(run)
    assert judged.zones[0].grade == "parted"
    assert judged.zones[0].gap_mm > view.target_mm
    assert judged.next_zone == 1
    assert judged.steps[0].action.reason


def test_a_nozzle_of_another_size_gets_its_own_line_and_layer(desk: Desk) -> None:
    big = desk.workshop.machine("heron").model_copy(update={"nozzle_mm": 0.8})
    desk.workshop.keep_machine(big)
    view = first_layer.view.view(start(desk, "heron"))
    assert (view.plan.line_mm, view.plan.layer_mm) == (0.8, 0.4)
    assert view.cards[3].from_mm == pytest.approx(0.85 * 0.4)


def test_sign_off_tells_before_and_after_and_what_is_missing(desk: Desk) -> None:
    start(desk, "heron")
    practise(desk, "tram")
    run = practise(desk, "offset")
    view = sign_off.view.view(run)
    names = {row.name: row for row in view.lines}
    assert "about" in names["Spread at the screws"].before
    assert names["Z offset stored"].before == "+1.340"
    assert set(view.missing) == {"Prepare", "Mesh", "First layer"}
    assert view.offset.words.split()[-1] in ("closer", "further", "change")


def test_the_bench_tells_every_machine_in_one_line(desk: Desk) -> None:
    view = bench.view(desk)
    assert {m.words for m in view.machines} == {"no run yet"}
    start(desk, "wren", "a")
    keep(desk, "tram", Turned(screw="rear", marks=1), "a")
    start(desk, "wren", "b")
    keep(desk, "sign_off", SignedOff(), "b")
    wren = next(m for m in bench.view(desk).machines if m.machine.name == "Wren")
    assert wren.open_run.id == "a"
    assert wren.last_run.id == "b"
    assert wren.words == "signed off"
    assert [r.id for r in bench.view(desk).runs] == ["b", "a"]


def test_many_open_runs_do_not_crowd_each_other_out(desk: Desk) -> None:
    for k in range(40):
        start(desk, "wren", f"r{k}")
    keep(desk, "tram", Turned(screw="rear", marks=2), "r0")
    assert len(desk._open) <= 32
    assert Tram.of(desk.open("r0").state).stops[0].further == 2


def test_what_a_person_does_on_a_practice_machine_happens_to_its_plate(desk: Desk) -> None:
    run = start(desk, "heron")
    before = list(desk.hands(run).body.truth.supports)
    run = keep(desk, "tram", Turned(screw="front left", marks=5))
    truth = desk.hands(run).body.truth
    assert truth.supports[0] - before[0] > 0.1
    keep(desk, "offset", OffsetSet(stored_mm=1.44, sure=True))
    assert desk.hands(run).body.truth.shift == pytest.approx(-0.1)


@pytest.mark.parametrize(("mm", "text"), [(0.126, "+0.13"), (-0.094, "−0.09"), (0.001, "0.00"), (-0.001, "0.00")])
def test_numbers_carry_a_sign_and_a_true_minus(mm: float, text: str) -> None:
    assert signed(mm) == text


def test_a_reading_with_the_wrong_sign_or_point_is_asked_about_before_it_is_kept(desk: Desk) -> None:
    run = start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    keep(desk, "tram", WayChosen(way="read_all"))
    screws = run.setup.machine.screws
    # The first reading only sets the dial's zero; a plate read all over leaves little to expect wrongly.
    for value in (0.12, 0.13):
        for screw in screws:
            keep(
                desk,
                "tram",
                ReadMm(x_mm=screw.x_mm, y_mm=screw.y_mm, instrument="dial", value_mm=value, screw=screw.name),
            )
    at = screws[0]
    for typed, meant in ((-0.12, 0.12), (1.2, 0.12)):
        what = ReadMm(x_mm=at.x_mm, y_mm=at.y_mm, instrument="dial", value_mm=typed, screw=at.name)
        with pytest.raises(Refused, match=f"did you mean {meant}") as found:
            keep(desk, "tram", what)
        assert found.value.code == "reading_doubtful"
        assert found.value.field == "value_mm"
    rows = desk.open("run").seq
    sure = ReadMm(x_mm=at.x_mm, y_mm=at.y_mm, instrument="dial", value_mm=1.2, screw=at.name, sure=True)
    assert keep(desk, "tram", sure).seq == rows + 1


def test_ways_by_hand_go_round_across_or_in_pairs(desk: Desk) -> None:
    run = start(desk, "heron")
    corners = run.state.belief.surface.screws
    names = [s.name for s in run.setup.machine.screws]
    ring, diagonal, pairs = ([names[j] for j in advice.order_of(corners, way)] for way in ("ring", "diagonal", "pairs"))
    assert {*ring} == {*diagonal} == {*pairs} == {*names}
    assert ring in ([*ring[k:], *ring[:k]] for k in range(4))
    for one, other in itertools.pairwise(ring):
        assert one.split()[0] == other.split()[0] or one.split()[1] == other.split()[1]
    assert diagonal[0].split()[0] != diagonal[1].split()[0]
    assert diagonal[0].split()[1] != diagonal[1].split()[1]
    assert pairs[0].split()[1] == pairs[1].split()[1]
    for way, order in (("diagonal", diagonal), ("pairs", pairs)):
        run_id = way
        start(desk, "heron", run_id)
        keep(desk, "tram", SenseTried(screw="front left", felt="tighter"), run_id)
        keep(desk, "tram", WayChosen(way=way), run_id)
        visited = []
        for _ in range(4):
            visited.append(tram.step.now_at(desk.open(run_id)).screw)
            keep(desk, "tram", Counted(screw=visited[-1], marks=1), run_id)
        assert visited == order


def test_a_step_brings_the_rows_that_are_kept_when_it_was_done(desk: Desk) -> None:
    """The page keeps what it is given: cleaned, turned and set are rows of their own, in that order."""
    start(desk, "heron")
    practise(desk, "tram")
    practise(desk, "offset")
    practise(desk, "first_layer", times=1)  # the feed, which nobody knows yet
    run = practise(desk, "first_layer", times=1)
    for zone in range(5):
        run = keep(desk, "first_layer", Judged(zone=zone, grade="parted"))
    steps = first_layer.step.next_steps(run)
    assert steps
    for step in steps:
        assert step.does
        assert bool(step.keeps) != (step.leads_to is not None), step.action.kind
        kinds = [row.kind for row in step.keeps]
        assert kinds == sorted(
            kinds, key=["zone_cleaned", "turned_all", "offset_set", "layer_chosen", "proof_started"].index
        )
    best = next(s for s in steps if s.stored is not None)
    run = keep(desk, "first_layer", best.keeps[-1])
    assert run.state.stored_mm == best.stored.new_mm


def test_every_place_of_the_field_has_one_class_by_its_chances(desk: Desk) -> None:
    run = start(desk, "heron")
    untold = offset.view.view(run).sheet.field
    # Nobody has felt anything yet: nothing is high, nothing is low.
    assert untold.said == "The whole plate: cannot tell."
    practise(desk, "tram", times=4)
    field = tram.view.view(desk.open("run")).sheet.field
    mean, sd = np.array(field.mean_mm), np.array(field.sd_mm)
    assert np.array(field.p_high) == pytest.approx(
        norm.sf(field.tol_mm, mean, sd), abs=2e-2
    )  # sent in whole micrometres
    assert np.array(field.p_low) == pytest.approx(
        norm.cdf(-field.tol_mm, mean, sd), abs=2e-2
    )  # sent in whole micrometres
    zones = [name for part in field.said.rstrip(".").split(". ") for name in part.split(": ")[1].split(", ")]
    assert len(zones) == len(set(zones)) == 9


@pytest.mark.parametrize(
    ("high", "low", "name"),
    [
        (0.95, 0.01, "surely high"),
        (0.6, 0.1, "probably high"),
        (0.1, 0.1, "within"),
        (0.2, 0.7, "probably low"),
        (0.0, 0.99, "surely low"),
        (0.5, 0.3, "cannot tell"),
        (0.5, 0.5, "cannot tell"),
    ],
)
def test_the_likeliest_class_is_said_and_else_that_nobody_can_tell(high: float, low: float, name: str) -> None:
    assert class_of(high, low) == name
