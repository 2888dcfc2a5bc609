"""Settings that forgive what is left, and the places on this plate where parts hold best."""

import numpy as np

from ivory_table.core.bead import Bead
from ivory_table.core.causes import holds_at
from ivory_table.core.defaults import LAYER
from ivory_table.core.face import Grip
from ivory_table.core.hold_down import HoldDown, hold_down
from ivory_table.core.placing import Footprint, Placing, placing
from ivory_table.core.recipe import Recipe, forgives, recipes
from ivory_table.core.value import Value
from ivory_table.runs.run import OpenRun
from ivory_table.stations.asked import grip_here
from ivory_table.stations.first_layer.doing import cells_believed
from ivory_table.stations.sheet import Figure, Sheet, sheet_of

#: A footprint is looked at in at most so many cells along its longer side.
MOST_CELLS, LEAST_CELL_MM = 500, 0.1


class RecipeView(Value):
    recipes: tuple[Recipe, ...]
    #: One sd in mm of what is left between zones, and of what is not known of them.
    uneven_mm: float
    zones: int
    #: What the hot end is taken to melt, mm^3 a second.
    melts_mm3_s: float
    cautions: tuple[str, ...]


class PlacingView(Value):
    sheet: Sheet
    footprint: Footprint
    placing: Placing
    #: Whether a part stays down once it is laid, and the brim that would see to it.
    held: HoldDown
    #: A raft's lines forgive more: said where the plate is too uneven for the layer.
    raft: str
    #: What the chances stand on.
    words: str


def recipe_view(run: OpenRun) -> RecipeView:
    """Recipes for this nozzle and filament, weighed with what this run knows of the plate."""
    setup, wanted = run.setup, run.state.wanted
    gaps, sds = wanted.field.gaps
    uneven = float(np.sqrt(np.mean(np.square(gaps - gaps.mean())) + np.mean(np.square(sds))))
    nozzle, filament = setup.machine.nozzle_mm, setup.filament
    grip = grip_here(run)
    return RecipeView(
        recipes=recipes(
            nozzle,
            filament.material,
            filament.nozzle_c,
            filament.bed_c,
            uneven,
            len(gaps),
            run.state.layer_chosen,
            grip,
        ),
        uneven_mm=uneven,
        zones=len(gaps),
        melts_mm3_s=LAYER.recipe.melt_mm3_s[filament.material] * nozzle / 0.4,
        cautions=(
            *((f"{grip.words}.",) if grip is not None and grip.words else ()),
            "Hotter plates and tips burn, and some plastics give off more fumes: ventilate; local rules come first.",
            "Change one thing at a time, unless two do not disturb one another; a new layer or line needs a new proof.",
        ),
    )


def placing_view(run: OpenRun, footprint: Footprint, *, enclosed: bool = False) -> PlacingView:
    """The best places for parts, by what is believed of the plate now, the mesh in use and its keep-outs."""
    state, plate = run.state.with_marks(), run.setup.plate
    cells, believes = cells_believed(state)
    nozzle, bead = run.setup.machine.nozzle_mm, state.bead
    holds = holds_at(state.causes, cells.reshape(-1, 2)).reshape(cells.shape[:2])
    found = placing(state.belief, plate, bead, believes, cells, footprint, holds)
    _, sd = state.belief.height(cells.reshape(-1, 2))
    known = float(np.median(sd))
    words = f"The plate is known to ±{known:.3f} mm"
    words += ", with the mesh in use" if state.mesh_on else ", without a mesh"
    if float(np.ptp(holds)) >= LAYER.placing.heat_told_from:
        words += "; what cools or blows at the rim is likely, so parts are placed nearer to the middle where the gap allows it"
    figures = (
        Figure(name="All sound", value=f"{100 * found.p_all:.0f}", unit="%"),
        Figure(name="Placed", value=str(len(found.places)), unit=""),
        Figure(name="Plate known to", value=f"{known:.3f}", unit="mm"),
    )
    return PlacingView(
        sheet=sheet_of(state, None, figures=figures),
        footprint=footprint,
        placing=found,
        held=_held(footprint, run.setup.filament.material, grip_here(run), enclosed=enclosed),
        raft=_raft(nozzle, bead) if found.places and found.p_all < LAYER.placing.raft_below else "",
        words=words + ".",
    )


def _held(footprint: Footprint, material: str, grip: Grip | None, *, enclosed: bool) -> HoldDown:
    """Of one part by itself, as the rectangle it covers; its own outline may be sharper."""
    short, long = sorted((footprint.width_mm, footprint.depth_mm))
    cell = max(min(max(0.5, long / 300), short / 2), LEAST_CELL_MM, long / MOST_CELLS)
    foot = np.ones((max(round(short / cell), 1), max(round(long / cell), 1)), dtype=bool)
    return hold_down(
        foot,
        cell,
        footprint.height_mm,
        material,
        corner_deg=90.0,
        enclosed=enclosed,
        grip=grip.times if grip else 1.0,
    )


def _raft(nozzle_mm: float, bead: Bead) -> str:
    best = max(
        (Bead(w * nozzle_mm, h * nozzle_mm) for w in LAYER.recipe.lines for h in LAYER.recipe.layers),
        key=lambda b: forgives(b)[1],
    )
    return (
        f"The plate is more uneven there than this layer forgives (±{forgives(bead)[1]:.3f} mm). A raft laid {best.layer_mm:.2f} mm high "
        f"with lines {best.line_mm:.2f} mm wide forgives ±{forgives(best)[1]:.3f} mm, and the part stands on it evenly."
    )
