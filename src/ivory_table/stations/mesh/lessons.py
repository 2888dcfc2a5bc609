"""What a run teaches of its plate's form: the mesh it measured, for later runs to use again."""

from typing import Any

from ivory_table.runs.lessons import MeshLesson, teaches
from ivory_table.runs.run import OpenRun

from .entries import MeshDiscarded, MeshKept


@teaches
def _meshes(run: OpenRun) -> dict[str, Any]:
    kept = [MeshLesson(at=e.at, survey=e.what.survey) for e in run.kept if isinstance(e.what, MeshKept)]
    discards = tuple(e.what.measured_at for e in run.kept if isinstance(e.what, MeshDiscarded))
    # Of several the last: those before it were measured again.
    return {"mesh": kept[-1] if kept else None, "mesh_discards": discards}
