"""The mesh a run follows: what it was taken for, what the machine is sent of it, and what it was seen to have."""

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike

from ivory_table.core.defaults import HEAT, SURVEY, TRAM
from ivory_table.core.mesh import MeshSurvey, believed_by_machine
from ivory_table.core.thermal import warp
from ivory_table.core.value import Array

if TYPE_CHECKING:
    from ivory_table.runs.state import RunState


def mesh_rise(run: "RunState", survey: MeshSurvey, places: Array) -> Array:
    """(n,) mm that the plate rises at (n, 2) places, against their mean, from where a mesh was taken to print temperature.

    Zeros where nobody knows.
    """
    if survey.bed_c is None or run.study is None:
        return np.zeros(len(places))
    try:
        rise = warp(run.study, run.belief.surface, survey.bed_c, run.setup.filament.bed_c, places)
    except ValueError:
        return np.zeros(len(places))
    return np.asarray(rise - rise.mean())


def mesh_words(run: "RunState") -> str:
    """What the mesh in use was taken for, where that is not what is printed now; empty when it fits."""
    mesh = run.mesh
    if mesh is not None and run.mesh_off_for_tram:
        return (
            "It was switched off before the knobs were turned. Measure it again, or switch it on where none was turned."
        )
    if mesh is None or not run.mesh_on:
        return ""
    words = []
    hot = run.setup.filament.bed_c
    if mesh.bed_c is None:
        words.append("At which temperature this mesh was taken is not on record.")
    elif abs(mesh.bed_c - hot) > HEAT.study_beyond_c:
        known = run.study is not None and bool(np.any(mesh_rise(run, mesh, mesh.grid.places)))
        words.append(
            f"This mesh was taken at {mesh.bed_c:.0f} °C, the plate is printed at {hot:.0f} °C: "
            + ("the middle moves between, by the thermal study." if known else "the middle may stand otherwise.")
        )
    if mesh == run.setup.mesh:
        words.append("It is the one the machine had when this run began.")
    return " ".join(words)


def mesh_as_sent(run: "RunState") -> Array:
    """(rows, columns) heights in mm as the machine is told them: a probed mesh against the plate's centre."""
    mesh = run.mesh
    assert mesh is not None
    if mesh.owns_zero:
        return mesh.values
    centre = believed_by_machine(mesh, [run.setup.plate.centre], run.setup.mesh_law)[0]
    return np.asarray(mesh.values - centre)


def mesh_differs(run: "RunState", heights_mm: ArrayLike) -> Array:
    """(rows, columns) mm that the machine's list of its mesh differs from the kept one; of a probed one no zero counts.

    Raises ValueError where it is another grid.
    """
    theirs, meant = np.asarray(heights_mm, dtype=float), mesh_as_sent(run)
    if theirs.shape != meant.shape:
        raise ValueError(
            f"The machine lists {theirs.shape[1]} by {theirs.shape[0]} points, the kept mesh has "
            f"{meant.shape[1]} by {meant.shape[0]}: it is another mesh."
        )
    off = theirs - meant
    return off if run.mesh is not None and run.mesh.owns_zero else np.asarray(off - np.median(off))


def mesh_back_same(run: "RunState") -> bool | None:
    """Whether the machine's list of its mesh is the kept one; None where nobody has read it."""
    return None if run.mesh_back_mm is None else run.mesh_back_mm <= SURVEY.same_mm


def mesh_unseen(run: "RunState") -> str:
    """Why nobody knows yet that the machine follows the mesh in use; empty where it was seen, or none is."""
    if run.mesh is None or not run.mesh_on:
        return ""
    if mesh_back_same(run) is False:
        return "The machine lists another mesh than the kept one. Send it again before anything is printed."
    if run.mesh_sent and run.mesh_on_told:
        return ""
    what = "switched on" if run.mesh_sent else "sent to the machine"
    return (
        f"The mesh is taken to be in use, but nobody has said that it was {what}. Print over it only once that is done."
    )


def with_mesh_found(run: "RunState") -> "RunState":
    """The mesh that the machine brought into this run: it follows it still, and the plate has most of its form still.

    Its zero is of another day, and knobs may have been turned since: what is told is each height against their
    mean, as surely as a plate keeps its form.
    """
    mesh = run.setup.mesh
    if mesh is None:
        return run
    belief, values = run.belief, mesh.values.ravel()
    rows = belief.surface.rows(mesh.grid.places)
    rows, values = rows - rows.mean(axis=0), values - values.mean() + mesh_rise(run, mesh, mesh.grid.places)
    sd = float(np.hypot(run.mesh_noise(mesh), TRAM.mesh_keeps_mm))
    for row, value in zip(rows, values, strict=True):
        belief = belief.read(row, float(value), sd)
    return replace(run, belief=belief, mesh=mesh, mesh_on=run.setup.mesh_on)
