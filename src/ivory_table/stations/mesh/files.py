"""The kept mesh as a file."""

import csv
import io

from ivory_table.runs.doubts import Refused
from ivory_table.runs.run import OpenRun


def mesh_csv(run: OpenRun) -> str:
    """The kept mesh with headings in mm, front row first."""
    mesh = run.state.mesh
    if mesh is None:
        raise Refused("no_mesh", "No mesh was kept in this run.")
    out = io.StringIO()
    table = csv.writer(out)
    table.writerow(["", *mesh.grid.xs_mm])
    for y, row in zip(mesh.grid.ys_mm, mesh.heights_mm, strict=True):
        table.writerow([y, *row])
    return out.getvalue()
