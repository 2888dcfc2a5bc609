"""The proof program, read back with our own reader."""

from math import pi

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.manner import shipped
from ivory_table.core.mesh import grid_on
from ivory_table.core.plate import KeepOut
from ivory_table.core.proof import plan, zones_on
from ivory_table.program.check import check_program
from ivory_table.program.proof import program
from ivory_table.program.reader import read_program
from tests.conftest import setup_for

MACHINES = ["heron", "kestrel", "wren", "bittern"]


def proof(machine: str, zones: int = 5, mesh_on: bool = True) -> tuple[str, object]:
    s = setup_for(machine)
    laid = plan(s.machine, s.plate, s.filament, zones)
    return program(s.machine, s.plate, s.filament, laid, mesh_on=mesh_on).text, laid


@pytest.mark.parametrize("zones", [5, 9])
@pytest.mark.parametrize("machine", MACHINES)
def test_every_printed_line_is_on_the_plate_and_off_the_clips(machine: str, zones: int) -> None:
    text, _ = proof(machine, zones)
    plate = setup_for(machine).plate
    printed = [m for m in read_program(text).moves if m.filament_mm > 0 and m.start[:2] != m.end[:2]]
    assert len(printed) > 200
    for move in printed:
        assert plate.holds(*move.end[:2])
        assert plate.kept_out(*move.end[:2]) is None
        assert move.end[2] == pytest.approx(0.2)


@pytest.mark.parametrize("machine", MACHINES)
def test_filament_is_the_beads_area_over_the_filaments(machine: str) -> None:
    text, laid = proof(machine)
    filament = setup_for(machine).filament
    for move in read_program(text).moves:
        length = np.hypot(move.end[0] - move.start[0], move.end[1] - move.start[1])
        if move.filament_mm > 0 and length > 5:
            expected = length * laid.bead.area_mm2 / (pi / 4 * filament.diameter_mm**2)
            assert move.filament_mm == pytest.approx(expected, abs=2e-4)


@pytest.mark.parametrize("machine", MACHINES)
def test_the_order_is_heat_home_mesh_wait_print_lift(machine: str) -> None:
    text, _ = proof(machine)
    names = [c for _, c, _ in read_program(text).commands]
    assert names.index("M190") < names.index("G28") < names.index("CHART_USE") < names.index("M109")
    assert names.count("G28") == 1
    assert names[-1] == "M84"
    lifted = read_program(text).moves[-1]
    assert lifted.end[2] >= 20


def test_what_heats_waits_homes_and_blows_is_in_the_machine_s_own_words() -> None:
    """Another manner's lines stand where the shipped one's stood, and none of those is left."""
    s = setup_for("heron")
    own = shipped("harbour")
    words = {
        "home": "G280",
        "heat_bed": "M1140 B{celsius:.1f}",
        "heat_tip": "M1104 T{celsius:.1f}",
        "heat_bed_wait": "M1190 B{celsius:.1f}",
        "heat_tip_wait": "M1109 T{celsius:.1f}",
        "dwell": "G40 S{seconds:.0f}",
        "fan": "M1106 S{share:.0f}",
        "motors_off": "M1840",
    }
    manner = own.model_copy(update={"does": own.does.model_copy(update=words)})
    laid = plan(s.machine, s.plate, s.filament, 5)
    lines = program(s.machine, s.plate, s.filament, laid, mesh_on=False, manner=manner).text.splitlines()
    sent = [line.split(";")[0].strip() for line in lines]
    order = ["M1140 B57.0", "M1104 T150.0", "M1190 B57.0", "G280", "M1106 S0", "M1109 T206.0"]
    assert [line for line in sent if line in order] == [*order, "M1104 T150.0"]
    assert sent[-4:] == ["G40 S300", "M1104 T0.0", "M1140 B0.0", "M1840"]
    usual = {"G28", "M104", "M109", "M140", "M190", "M106", "M84", "G4"}
    assert not usual & {line.split()[0] for line in sent if line}


def test_the_part_fan_is_off_in_the_first_layer_unless_the_filament_wants_it() -> None:
    s = setup_for("heron")
    laid = plan(s.machine, s.plate, s.filament, 5)
    for share, wanted in ((0.0, "M106 S0"), (0.3, "M106 S76")):
        filament = s.filament.model_copy(update={"first_layer_fan": share})
        text = program(s.machine, s.plate, filament, laid, mesh_on=False).text
        assert any(line.startswith(wanted + " ;") for line in text.splitlines())


def test_the_mesh_is_left_alone_when_there_is_none() -> None:
    assert "CHART_USE" not in proof("heron", mesh_on=False)[0]


def test_every_travel_is_lifted() -> None:
    for move in read_program(proof("heron", 9)[0]).moves:
        travelled = np.hypot(move.end[0] - move.start[0], move.end[1] - move.start[1])
        if move.filament_mm <= 0 and travelled > 3:
            assert move.end[2] >= 2


def test_bittern_gets_its_live_adjustment_in_the_program_and_absolute_filament() -> None:
    text, _ = proof("bittern")
    names = [c for _, c, _ in read_program(text).commands]
    assert "ZERO_LIVE" in names
    assert "M82" in names


def test_a_program_that_leaves_the_plate_is_refused_with_its_line() -> None:
    s = setup_for("heron")
    with pytest.raises(ValueError, match="Line 3 would print off the plate"):
        check_program("G90\nG0 X10 Y10 Z0.2\nG1 X300 Y10 E5\n", s.machine, s.plate, 0.2)
    with pytest.raises(ValueError, match="keep-out 'front clip'"):
        check_program("G90\nG0 X100 Y5 Z0.2\nG1 X140 Y5 E5\n", s.machine, s.plate, 0.2)
    with pytest.raises(ValueError, match="below the first layer"):
        check_program("G90\nG0 X100 Y50 Z0.1\nG1 X140 Y50 E5\n", s.machine, s.plate, 0.2)


def test_patches_step_aside_for_a_clip() -> None:
    plate = setup_for("heron").plate
    clip = KeepOut(name="clip", x_min_mm=0, y_min_mm=0, x_max_mm=40, y_max_mm=40)
    moved = zones_on(plate.model_copy(update={"keep_outs": (clip,)}), 5)
    assert not clip.holds(moved[0].x_mm, moved[0].y_mm, 10)
    assert moved[0].x_mm > zones_on(plate, 5)[0].x_mm


@pytest.mark.parametrize(
    ("line", "command", "values"),
    [
        ("N12 G1X10.5Y-3E.2*" + str(0), None, None),
        ("G1 X10 Y20 ; to the left", "G1", {"X": 10, "Y": 20}),
        ("g1x10y20f3000", "G1", {"X": 10, "Y": 20, "F": 3000}),
        ("N3 G28 (all) Z", "G28", {"Z": 0}),
        ("SHOW Slide the gauge 2", "SHOW", {}),
        ("M777 slide the gauge", "M777", {}),
        ("CHART_AT C1 R2 Z-0.05", "CHART_AT", {"C": 1, "R": 2, "Z": -0.05}),
    ],
)
def test_the_reader_takes_what_people_write(line: str, command: str | None, values: dict | None) -> None:
    if command is None:
        with pytest.raises(ValueError, match="Line 1: the checksum"):
            read_program(line)
        return
    assert read_program(line).commands == [(1, command, values)]


@pytest.mark.parametrize("line", ["hello", "G1 X10 & Y2", "X10 Y20", "G2 X1 Y1 I2"])
def test_the_reader_names_the_line_it_cannot_read(line: str) -> None:
    with pytest.raises(ValueError, match="Line 2: "):
        read_program("G90\n" + line)


def test_inches_and_relative_moves() -> None:
    moves = read_program("G20\nG91\nG1 X1 E1\nG1 X1 E1\n").moves
    assert moves[-1].end[0] == pytest.approx(50.8)
    assert moves[-1].filament_mm == pytest.approx(25.4)


@given(st.text(max_size=60))
def test_any_text_is_read_or_refused_with_its_line(text: str) -> None:
    try:
        read_program(text)
    except ValueError as wrong:
        assert str(wrong).startswith("Line ")


@pytest.mark.parametrize("size", [3, 5, 8])
@pytest.mark.parametrize("machine", ["heron", "kestrel", "wren", "bittern"])
def test_a_proof_can_lie_at_points_of_the_mesh(machine: str, size: int) -> None:
    setup = setup_for(machine)
    grid = grid_on(setup.plate, size, size)
    laid = plan(setup.machine, setup.plate, setup.filament, "mesh", grid)
    assert 3 <= len(laid.zones) <= 9
    for zone in laid.zones:
        assert setup.plate.holds(zone.x_mm, zone.y_mm, laid.patch_mm / 2)
        assert setup.plate.kept_out(zone.x_mm, zone.y_mm, laid.patch_mm / 2) is None
        # It is about where its point is: moved only as far as the patch and its skirt need.
        column, row = (int(part.split()[-1]) - 1 for part in zone.name.split(","))
        assert abs(grid.xs_mm[column] - zone.x_mm) < 30
        assert abs(grid.ys_mm[row] - zone.y_mm) < 30
    assert plan(setup.machine, setup.plate, setup.filament, "mesh") == plan(
        setup.machine, setup.plate, setup.filament, 5
    )


def test_a_machines_own_words_stand_in_its_programs_but_no_place_without_a_code_does() -> None:
    read = read_program("warm_plate x57\nG1 X1 Y2 F600\nbed=60", own_words=True)
    assert [c for _, c, _ in read.commands] == ["warm_plate x57", "G1", "bed=60"]
    for line in ("X10 Y20", "G1 X1 ??", "N4 Z-1"):
        with pytest.raises(ValueError, match="Line 1"):
            read_program(line, own_words=True)
