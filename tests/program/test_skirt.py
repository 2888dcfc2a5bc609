"""The skirt to turn beside: on the plate, off the clips, past the screws, one line beside the other."""

import itertools
from math import pi

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.bead import Bead
from ivory_table.core.defaults import PROOF
from ivory_table.core.manner import shipped
from ivory_table.core.plate import KeepOut, Plate
from ivory_table.program.reader import read_program
from ivory_table.program.skirt import loop, loops, skirt_program
from tests.conftest import setup_for

MACHINES = ["heron", "kestrel", "wren", "bittern"]
SKIRT = Bead(line_mm=0.42, layer_mm=0.2)


def printed(machine: str) -> list:
    s = setup_for(machine)
    text = skirt_program(s.machine, s.plate, s.filament, SKIRT, shipped("harbour")).text
    return [m for m in read_program(text).moves if m.filament_mm > 0 and m.start[:2] != m.end[:2]]


@pytest.mark.parametrize("machine", MACHINES)
def test_every_loop_is_on_the_plate_off_the_clips_and_at_the_layers_height(machine: str) -> None:
    plate = setup_for(machine).plate
    moves = printed(machine)
    assert len(moves) > 300
    for move in moves:
        for share in np.linspace(0, 1, 9):
            x, y = np.array(move.start[:2]) + share * (np.array(move.end[:2]) - move.start[:2])
            assert plate.holds(x, y)
            assert plate.kept_out(x, y, 1) is None
        assert move.end[2] == pytest.approx(SKIRT.layer_mm)


@pytest.mark.parametrize("machine", MACHINES)
def test_filament_is_what_the_loops_are_long(machine: str) -> None:
    s = setup_for(machine)
    found = loops(s.plate, SKIRT.line_mm)
    length = sum(np.hypot(*np.subtract(b, a)) for points in found for a, b in itertools.pairwise(points))
    length += sum(np.hypot(*np.subtract(b[0], a[-1])) for a, b in itertools.pairwise(found))
    area = (SKIRT.line_mm - SKIRT.layer_mm) * SKIRT.layer_mm + pi * SKIRT.layer_mm**2 / 4
    assert sum(m.filament_mm for m in printed(machine)) == pytest.approx(
        length * area / (pi / 4 * s.filament.diameter_mm**2), rel=2e-3
    )


@given(
    st.floats(80, 600),
    st.floats(80, 600),
    st.floats(4, 30),
    st.sampled_from(["rectangle", "round"]),
)
def test_a_loop_keeps_its_distance_from_the_edge(width: float, depth: float, inset: float, shape: str) -> None:
    depth = width if shape == "round" else depth
    plate = Plate(id="p", name="p", width_mm=width, depth_mm=depth, shape=shape)
    off = np.abs(np.array(loop(plate, inset)) - plate.centre)
    if shape == "round":
        away = width / 2 - np.hypot(off[:, 0], off[:, 1])
        assert away == pytest.approx(inset, abs=0.01)
    else:
        away = np.minimum(width / 2 - off[:, 0], depth / 2 - off[:, 1])
        assert away.min() == pytest.approx(inset, abs=0.01)
        # Only its rounded corners lie further in.
        assert away.max() <= inset + PROOF.tram_corner_mm * (1 - 2**-0.5) + 0.01


def test_lines_lie_side_by_side_and_do_not_touch() -> None:
    s = setup_for("heron")
    found = loops(s.plate, SKIRT.line_mm)
    assert len(found) == PROOF.tram_loops
    for outer, inner in itertools.pairwise(found):
        assert inner[0][0] - outer[0][0] == pytest.approx(2 * SKIRT.line_mm, abs=2e-3)


def test_the_mesh_is_off_and_the_loops_are_counted_aloud() -> None:
    s = setup_for("heron")
    manner = shipped("harbour")
    text = skirt_program(s.machine, s.plate, s.filament, SKIRT, manner).text
    commands = [c for _, c, _ in read_program(text).commands]
    off = manner.send("mesh_off").split()[0]
    assert commands.index("G28") < commands.index(off) < commands.index("M109")
    assert manner.send("mesh_on") not in text
    assert manner.send("message", text="loop 12 of 12") in text
    assert read_program(text).moves[-1].end[2] >= 20


def test_it_keeps_clear_of_a_clip_or_says_that_it_cannot() -> None:
    plate = setup_for("heron").plate
    clip = KeepOut(name="clip", x_min_mm=0, y_min_mm=80, x_max_mm=22, y_max_mm=120)
    found = loops(plate.model_copy(update={"keep_outs": (clip,)}), SKIRT.line_mm)
    assert found[0][0][0] > 22
    # A peg so small that it would stand between the first loop and the last.
    peg = KeepOut(name="peg", x_min_mm=9, y_min_mm=100, x_max_mm=10, y_max_mm=101)
    assert loops(plate.model_copy(update={"keep_outs": (peg,)}), SKIRT.line_mm)[0][0][0] > 10
    wall = KeepOut(name="wall", x_min_mm=0, y_min_mm=100, x_max_mm=plate.width_mm, y_max_mm=110)
    with pytest.raises(ValueError, match="no room for a skirt"):
        loops(plate.model_copy(update={"keep_outs": (wall,)}), SKIRT.line_mm)
