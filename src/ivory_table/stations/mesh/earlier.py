"""Meshes measured before: of this plate to be used again, of the others to see which lies flattest."""

from datetime import UTC, datetime

import numpy as np
from pydantic import AwareDatetime

from ivory_table.core.form import fit
from ivory_table.core.mesh import MeshSurvey, believed_by_machine
from ivory_table.core.mesh_check import compare
from ivory_table.core.value import Value
from ivory_table.desk.desk import Desk
from ivory_table.desk.knowledge import meshes_of
from ivory_table.runs.run import OpenRun
from ivory_table.stations.sheet import Spot

from .check import old_mesh
from .state import Earlier

#: So many meshes are listed, of the newest.
MOST = 12


class EarlierMesh(Value):
    """A mesh measured in an earlier run, or in this one before the one in use."""

    measured_at: AwareDatetime
    plate_name: str
    #: Of the plate mounted now: it can be used again.
    this_plate: bool
    in_use: bool
    size: str
    range_mm: float
    #: What is left of its range once the plane is taken out: how flat the plate is.
    flat_mm: float
    bed_c: float | None
    days: float
    #: The chance that it still holds, by its age alone; None for another plate.
    p_holds: float | None
    #: What it has more than the mesh in use.
    against_words: str
    #: The same on the sheet: what it has more than the mesh in use, place by place.
    against: tuple[Spot, ...]
    survey: MeshSurvey


def earlier_meshes(desk: Desk, run: OpenRun) -> tuple[EarlierMesh, ...]:
    """The newest meshes of this machine."""
    setup, mesh = run.setup, run.state.mesh
    plates = {p.id: p for p in setup.machine.plates}
    now = datetime.now(UTC)
    out = []
    for one in [m for m in meshes_of(desk.workshop, setup.machine.id) if m.survey.plate_id in plates][:MOST]:
        survey, plate = one.survey, plates[one.survey.plate_id]
        this, same = survey.plate_id == setup.plate_id, survey == mesh
        days = max((now - one.at).total_seconds() / 86400, 0.0)
        against, spots = "", tuple[Spot, ...]()
        if this and mesh is not None and not same:
            try:
                against = compare(survey, mesh, plate).words
                spots = _against(survey, mesh)
            except ValueError as wrong:
                against = str(wrong)
        places, values = survey.grid.places, survey.values.ravel()
        plane = np.column_stack([np.ones(len(values)), places])
        flat = values - plane @ np.linalg.lstsq(plane, values, rcond=None)[0]
        p = None
        if this:
            p = old_mesh(run.state, Earlier(survey, one.at), days).p_holds
        out.append(
            EarlierMesh(
                measured_at=one.at,
                plate_name=plate.name,
                this_plate=this,
                in_use=same and run.state.mesh_on,
                size=f"{len(survey.grid.xs_mm)} x {len(survey.grid.ys_mm)}",
                range_mm=fit(places, values, plate.bounds).range_mm,
                flat_mm=float(np.ptp(flat)),
                bed_c=survey.bed_c,
                days=round(days, 1),
                p_holds=p,
                against_words=against,
                against=spots,
                survey=survey,
            )
        )
    return tuple(out)


def _against(one: MeshSurvey, other: MeshSurvey) -> tuple[Spot, ...]:
    """What a mesh has more than another at its own points, mm."""
    off = one.values.ravel() - believed_by_machine(other, one.grid.places)
    return tuple(
        Spot(x_mm=float(x), y_mm=float(y), kind="measured", value_mm=round(float(v), 4))
        for (x, y), v in zip(one.grid.places, off, strict=True)
    )
