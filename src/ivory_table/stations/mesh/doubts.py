"""What the mesh refuses."""

from ivory_table.runs.doubts import Refused, doubt
from ivory_table.runs.entry import Source
from ivory_table.runs.run import OpenRun

from .entries import MeshPoint
from .state import Mesh


@doubt.register
def _point(what: MeshPoint, run: OpenRun, source: Source) -> None:
    if Mesh.of(run.state).plan is None and run.state.mesh is not None:
        raise Refused(
            "needs_neighbour",
            "The kept mesh counts from the zero of the day it was taken. Measure this point and a neighbour in the same go, and give both.",
            "height_mm",
        )
