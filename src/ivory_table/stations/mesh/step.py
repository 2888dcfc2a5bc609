"""Where the mesh stands: which step is at hand, and on which grid."""

from typing import Literal

from ivory_table.core.mesh import MeshGrid
from ivory_table.runs.run import OpenRun
from ivory_table.stations.mesh.state import Mesh
from ivory_table.stations.mesh.survey import survey_at

Step = Literal["choose", "read", "keep", "check", "kept"]


def grid_of(run: OpenRun) -> MeshGrid | None:
    """Where the mesh at hand is measured: the planned one, else the kept one."""
    survey = survey_at(run)
    if survey is not None:
        return survey.grid
    return run.state.mesh.grid if run.state.mesh else None


def step_of(run: OpenRun) -> Step:
    """The step at hand."""
    survey = survey_at(run)
    if survey is not None:
        return "keep" if survey.complete and not Mesh.of(run.state).base_due else "read"
    if Mesh.of(run.state).earlier is not None:
        return "check"
    return "kept" if run.state.mesh is not None else "choose"
