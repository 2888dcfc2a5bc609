"""Programs of every kind of proof, read back; and the same shapes as solids."""

import io
import itertools
import re
import zipfile
from xml.etree import ElementTree

import numpy as np
import pytest

from ivory_table.core.defaults import PROOF
from ivory_table.core.manner import shipped
from ivory_table.core.plate import KeepOut, Plate
from ivory_table.core.proof import PROOF_CHOICES, ProofChoice, ladder_aways, plan
from ivory_table.demo.tidewater import FILAMENTS, MACHINES
from ivory_table.program.laying import CHANGE
from ivory_table.program.proof import estimate, program, stretches
from ivory_table.program.reader import read_program
from ivory_table.program.solids import stl, threemf, triangles

HERON = next(m for m in MACHINES if m.id == "heron")
ROUND = Plate(id="disc", name="disc", shape="round", width_mm=220, depth_mm=220)
ABS = FILAMENTS[0].model_copy(
    update={"id": "abs", "name": "ABS grey", "material": "ABS", "nozzle_c": 250, "bed_c": 100}
)
CHOICES = [c for c in PROOF_CHOICES if c not in ("advised", "mesh")]


@pytest.mark.parametrize("plate", [HERON.plates[0], ROUND], ids=["clips", "round"])
@pytest.mark.parametrize("choice", CHOICES, ids=str)
def test_every_kind_is_laid_on_the_plate_with_each_zone_named(choice: ProofChoice, plate: Plate) -> None:
    laid = plan(HERON, plate, FILAMENTS[0], choice, ladder_mm=(0.1, 0.0, -0.1, -0.2), other=ABS)
    made = program(HERON, plate, FILAMENTS[0], laid, mesh_on=True)
    named = [line for line in made.text.splitlines() if line.startswith("; patch ")]
    assert [line.split(": ")[1] for line in named] == [z.name for z in laid.zones]
    read = read_program(made.text)
    assert not read.unknown if hasattr(read, "unknown") else True
    pushed = sum(m.filament_mm for m in read.moves if m.filament_mm > 0 and m.start[:2] != m.end[:2])
    assert pushed == pytest.approx(made.filament_mm, rel=0.35)
    assert len(made.text) < 5_000_000
    lowest = min(m.end[2] for m in read.moves if m.filament_mm > 0)
    assert lowest == pytest.approx(laid.layer_mm + laid.away_mm.min(), abs=1e-3)
    # The same again is the same to the letter; an estimate takes as long.
    assert program.__wrapped__(HERON, plate, FILAMENTS[0], laid, mesh_on=True).text == made.text
    assert estimate(HERON, plate, FILAMENTS[0], laid).minutes == pytest.approx(made.minutes, rel=1e-6)


def test_a_ladder_comes_closer_step_by_step_and_waits_to_be_looked_at() -> None:
    laid = plan(HERON, HERON.plates[0], FILAMENTS[0], "ladder", ladder_mm=(0.16, 0.08, 0.0, -0.08))
    text = program(HERON, HERON.plates[0], FILAMENTS[0], laid, mesh_on=False).text
    heights, zone = {}, -1
    for line in text.splitlines():
        zone += line.startswith("; patch ")
        if line.startswith("G0 Z") and zone >= 0:
            heights.setdefault(zone, []).append(float(line.split("Z")[1].split()[0]))
    assert [min(h) for h in heights.values()][:3] == pytest.approx([0.36, 0.28, 0.2])
    assert text.count("; look: stop it here") == 4


@pytest.mark.parametrize(("gap", "sd"), [(0.2, 0.05), (0.2, 0.5), (1.0, 0.4), (0.05, 0.1)])
def test_a_ladders_steps_cannot_scrape_from_one_that_does_not_hold(gap: float, sd: float) -> None:
    aways = ladder_aways(gap, sd, 0.2)
    steps = -np.diff(aways)
    assert (steps > 0).all()
    # A step that does not hold lies at 1.1 round beads or more; the next one is still above half of the layer.
    assert steps.max() < 0.34 - 0.1
    assert gap - 2 * sd + aways[0] >= 0.1 - 1e-9
    assert gap + 2 * sd + aways[-1] <= 0.2 or len(aways) == 24


def test_two_temperatures_are_waited_for() -> None:
    laid = plan(HERON, HERON.plates[0], FILAMENTS[0], "pair")
    text = program(HERON, HERON.plates[0], FILAMENTS[0], laid, mesh_on=False).text
    hotter = shipped("harbour").send("heat_tip_wait", celsius=laid.nozzle_c + 10)
    assert text.count(hotter) == 1
    assert text.index(hotter) < text.index("front, hotter")


def test_two_filaments_are_changed_clear_of_what_is_laid_and_the_other_is_primed() -> None:
    plate, usual = HERON.plates[0], FILAMENTS[0]
    laid, manner = plan(HERON, plate, usual, "two_filaments", other=ABS), shipped("harbour")
    lines = program(HERON, plate, usual, laid, mesh_on=False).text.splitlines()
    change = next(k for k, line in enumerate(lines) if line.endswith(CHANGE))
    first, second = lines[:change], lines[change:]
    assert lines[change].startswith(manner.send("pause"))
    # As hot as the hotter one needs it, lifted, and not over a patch.
    assert f"{manner.send('heat_tip_wait', celsius=ABS.nozzle_c)} ; so hot that the old one comes out" in first
    assert "G0 Z30.000 F600" in first[-6:]
    at = next(line for line in reversed(first) if line.startswith("G0 X"))
    x, y = (float(re.search(rf"{axis}(-?[\d.]+)", at)[1]) for axis in "XY")
    assert all(max(abs(x - z.x_mm), abs(y - z.y_mm)) > laid.patch_mm / 2 + 5 for z in laid.zones)
    assert [line for line in first if line.startswith("; patch")][-1] == "; patch 3: rear, as usual"
    named = [line for line in second if line.startswith(("; prime", "; patch"))]
    assert named == ["; prime", "; patch 4: front, other", "; patch 5: middle, other", "; patch 6: rear, other"]
    one = estimate(HERON, plate, usual, plan(HERON, plate, usual, "pair"))
    both = estimate(HERON, plate, usual, laid)
    assert both.minutes > one.minutes + PROOF.change_s / 60
    # Who cannot pause waits; who cannot wait is told.
    other = shipped("lantern")
    waits = program(HERON, plate, usual, laid, mesh_on=False, manner=other).text
    assert f"{other.send('dwell', seconds=PROOF.change_s)} {CHANGE}" in waits


def test_some_zones_alone_are_a_proof_of_their_own() -> None:
    laid = plan(HERON, HERON.plates[0], FILAMENTS[0], 5).only((1, 4))
    text = program(HERON, HERON.plates[0], FILAMENTS[0], laid, mesh_on=False).text
    assert "; patch 1: front right" in text
    assert "; patch 2: rear right" in text
    assert "; patch 3" not in text


def test_strips_stay_out_of_a_keep_out_in_the_middle() -> None:
    plate = HERON.plates[0].model_copy(
        update={"keep_outs": (KeepOut(name="magnet", x_min_mm=100, y_min_mm=100, x_max_mm=130, y_max_mm=130),)}
    )
    laid = plan(HERON, plate, FILAMENTS[0], "rim")
    assert stretches(plate, laid)
    whole = plan(HERON, HERON.plates[0], FILAMENTS[0], "whole")
    for stretch in stretches(plate, whole):
        for line in stretch.lines:
            for (x0, y), (x1, _) in itertools.pairwise(line):
                if 100 <= y <= 130:
                    assert max(x0, x1) <= 100 or min(x0, x1) >= 130


@pytest.mark.parametrize("choice", [5, "skirt", "rim", "whole"], ids=str)
def test_solids_are_closed_and_as_large_as_what_is_laid(choice: ProofChoice) -> None:
    laid = plan(HERON, HERON.plates[0], FILAMENTS[0], choice)
    found = triangles(HERON.plates[0], laid)
    # By the divergence theorem a closed surface encloses the sum of its signed tetrahedra.
    volume = float(np.einsum("ij,ij->i", found[:, 0], np.cross(found[:, 1], found[:, 2])).sum() / 6)
    assert volume > 0
    if choice == 5:
        assert volume == pytest.approx(5 * 20 * 20 * laid.layer_mm)
    edges: dict[tuple, int] = {}
    for a, b, c in np.round(found, 5):
        for p, q in ((a, b), (b, c), (c, a)):
            edges[(*p, *q)] = edges.get((*p, *q), 0) + 1
    assert all(edges.get((*e[3:], *e[:3]), 0) == n for e, n in edges.items())


def test_stl_and_3mf_hold_the_same_triangles_and_the_same_bytes_each_time() -> None:
    plate = HERON.plates[0]
    laid = plan(HERON, plate, FILAMENTS[0], 5)
    body = stl(plate, laid)
    assert body == stl(plate, laid)
    assert len(body) == 84 + 50 * int.from_bytes(body[80:84], "little")
    package = threemf(plate, laid)
    assert package == threemf(plate, laid)
    with zipfile.ZipFile(io.BytesIO(package)) as files:
        assert {"[Content_Types].xml", "_rels/.rels", "3D/3dmodel.model"} == set(files.namelist())
        model = ElementTree.fromstring(files.read("3D/3dmodel.model"))
    space = "{http://schemas.microsoft.com/3dmanufacturing/core/2015/02}"
    assert model.get("unit") == "millimeter"
    assert len(model.findall(f".//{space}triangle")) == len(triangles(plate, laid))
    assert len(model.findall(f".//{space}vertex")) == 5 * 8


def test_a_ladder_is_no_shape() -> None:
    laid = plan(HERON, HERON.plates[0], FILAMENTS[0], "ladder", ladder_mm=(0.1, 0.0))
    with pytest.raises(ValueError, match="take the program"):
        triangles(HERON.plates[0], laid)


@pytest.mark.parametrize("plate", [HERON.plates[0], ROUND], ids=["clips", "round"])
def test_three_heights_lie_side_by_side_at_their_own_heights_and_touch_nothing_else(plate: Plate) -> None:
    laid = plan(HERON, plate, FILAMENTS[0], "three_heights")
    found = stretches(plate, laid)
    assert [s.name.split(": ")[-1] for s in found[1:]] == [z.name for z in laid.zones]
    assert [s.away_mm for s in found[1:]] == [z.away_mm for z in laid.zones]
    points = [np.array([p for line in s.lines for p in line]) for s in found]
    for a, b in itertools.combinations(points, 2):
        # No line of one comes nearer to another's than a nozzle is wide.
        apart = np.linalg.norm(a[:, None] - b[None], axis=2).min()
        assert apart > laid.line_mm
    # One number to a zone, beside the patch nearest to the plate's middle.
    strokes = [len(s.lines) - 1 for s in found[1:]]
    assert [max(strokes[k : k + 3]) for k in range(0, 15, 3)] == [1, 2, 3, 4, 1]
    assert all(sorted(strokes[k : k + 3])[:2] == [0, 0] for k in range(0, 15, 3))
    with pytest.raises(ValueError, match="machine's doing"):
        triangles(plate, laid)
