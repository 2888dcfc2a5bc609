"""The points of a mesh by probe or by feel, and a mesh sent to the machine."""

from ivory_table.core.defaults import SURVEY
from ivory_table.core.mesh import believed_by_machine
from ivory_table.link.session import Session
from ivory_table.runs.doubts import Refused
from ivory_table.runs.run import OpenRun
from ivory_table.stations.mesh.entries import MeshBase, MeshPoint, MeshUsed
from ivory_table.stations.mesh.state import Mesh
from ivory_table.stations.mesh.step import grid_of, point_order
from ivory_table.stations.offers import offer, untried, walked
from ivory_table.stations.station import Job, Offer
from ivory_table.stations.work import Work, feel_down, probed


def survey(work: Work) -> None:
    """The points of the planned mesh that are still missing, the base point again every few of them."""
    work.ready()
    state = work.state
    planned = Mesh.of(state).plan
    if planned is None:
        raise Refused("no_mesh_planned", "Choose how many points to measure first.")
    grid = grid_of(work.now)
    assert grid is not None
    order = point_order(planned.columns, planned.rows)
    row, column = order[0]
    base = (grid.xs_mm[column], grid.ys_mm[row])
    began = work.session.now_s()
    done_before = len(Mesh.of(state).points)
    missing = [(r, c) for r, c in order if (c, r) not in Mesh.of(state).points]
    for k, (r, c) in enumerate(missing):
        name = f"point {c + 1}, {r + 1}"
        x, y = grid.xs_mm[c], grid.ys_mm[r]
        share = (done_before + k) / len(order)
        left = (work.session.now_s() - began) / k * (len(missing) - k) if k else None
        work.session.progress(name, share, left)
        if planned.owns_zero:
            z = feel_down(work, x, y, name)
            work.keep(MeshPoint(column=c, row=r, height_mm=round(z, 3)), "hand")
            continue
        if k % SURVEY.base_every == 0:
            work.keep(MeshBase(height_mm=probed(work, *base, "the base point")))
        work.keep(MeshPoint(column=c, row=r, height_mm=probed(work, x, y, name)))
    if not planned.owns_zero:
        work.keep(MeshBase(height_mm=probed(work, *base, "the base point")))
    work.leave()


def send_mesh(work: Work) -> None:
    survey, does = work.state.mesh, work.session.manner
    if survey is None:
        raise Refused("no_mesh", "There is no kept mesh to send.")
    heights = survey.values
    if not survey.owns_zero:
        # A probed mesh says nothing of the zero: it is sent against the centre.
        heights = heights - float(believed_by_machine(survey, [work.now.setup.plate.centre])[0])
    xs, ys = survey.grid.xs_mm, survey.grid.ys_mm
    line = does.send(
        "mesh_begin",
        x_first=xs[0],
        y_first=ys[0],
        x_step=(xs[-1] - xs[0]) / (len(xs) - 1),
        y_step=(ys[-1] - ys[0]) / (len(ys) - 1),
        columns=len(xs),
        rows=len(ys),
    )
    work.session.ask(line)
    for r in range(len(ys)):
        for c in range(len(xs)):
            work.session.progress("sending the mesh", (r * len(xs) + c) / heights.size)
            work.session.ask(does.send("mesh_point", column=c, row=r, height=float(heights[r, c])))
    work.session.ask(does.send("mesh_on"))
    if not work.state.mesh_on:
        work.keep(MeshUsed(on=True))


JOBS = {
    "survey": Job("Measure the mesh", survey),
    "send_mesh": Job("Send the mesh and switch it on", send_mesh),
}


def offers(run: OpenRun, session: Session) -> tuple[Offer, ...]:
    state, mesh, does = run.state, Mesh.of(run.state), session.manner
    grid = grid_of(run)
    if mesh.plan is not None and grid is not None:
        if len(mesh.points) == len(grid.places):
            return ()
        probing = not mesh.plan.owns_zero
        places = [(float(x), float(y), f"({x:g}, {y:g})") for x, y in grid.places]
        moves, wrong = walked(state, does, places, probing=probing)
        return (offer(session, JOBS, "survey", *moves, why_not=wrong or (untried(run) if probing else "")),)
    if state.mesh is not None and does.can("mesh_begin"):
        return (offer(session, JOBS, "send_mesh", "nothing moves"),)
    return ()
