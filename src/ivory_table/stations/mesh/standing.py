"""Where the mesh stands, and what it adds to the record."""

from ivory_table.runs.run import OpenRun
from ivory_table.runs.standing import RecordLine, Standing, records, stands

from .state import Mesh


@stands("mesh")
def standing(run: OpenRun) -> Standing:
    mesh, on = run.state.mesh, run.state.mesh_on
    figure = "none kept"
    if mesh is not None:
        figure = f"range {float(mesh.values.max() - mesh.values.min()):.2f} mm" + ("" if on else ", off")
    return Standing(
        begun=mesh is not None or bool(Mesh.of(run.state).points),
        done=mesh is not None and not run.state.mesh_off_for_tram,
        figure=figure,
    )


@records("mesh")
def record(run: OpenRun) -> tuple[RecordLine, ...]:
    mesh = run.state.mesh
    if mesh is None:
        return ()
    kind = "felt by hand" if mesh.owns_zero else "probed"
    size = f"{len(mesh.grid.xs_mm)} x {len(mesh.grid.ys_mm)}, {kind}"
    return (RecordLine(name="Mesh", before="", after=size + (", in use" if run.state.mesh_on else ", off")),)
