"""The kept mesh as a file."""

import csv
import io

from ivory_table.runs.doubts import Refused
from ivory_table.runs.run import OpenRun

from .use import lines_to_send


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


def mesh_json(run: OpenRun) -> str:
    """The kept mesh with everything that is known of it."""
    if run.state.mesh is None:
        raise Refused("no_mesh", "No mesh was kept in this run.")
    return run.state.mesh.model_dump_json(indent=1)


def mesh_lines(run: OpenRun) -> str:
    """The kept mesh as lines for this machine, one after the other."""
    lines = lines_to_send(run)
    if not lines:
        raise Refused("no_mesh_lines", "There is no kept mesh, or no lines for one are on record for this machine.")
    does = run.manner
    after = [does.does.mesh_store, does.does.mesh_on]
    return "\n".join([*lines, *(line for line in after if line)]) + "\n"
