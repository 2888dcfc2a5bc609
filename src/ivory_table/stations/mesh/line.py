"""The points of a mesh by probe or by feel, and a mesh sent to the machine, stored there, and read back."""

from ivory_table.core.defaults import SURVEY
from ivory_table.core.mesh_plan import PlanPoint
from ivory_table.link.session import Session
from ivory_table.runs.doubts import Refused
from ivory_table.runs.run import OpenRun
from ivory_table.stations.mesh.entries import (
    MeshBase,
    MeshChecked,
    MeshFelt,
    MeshPoint,
    MeshReadBack,
    MeshSent,
    MeshStored,
)
from ivory_table.stations.mesh.state import Mesh
from ivory_table.stations.mesh.survey import Survey, survey_at
from ivory_table.stations.mesh.use import lines_to_send
from ivory_table.stations.mesh_listed import listed, refuse_off
from ivory_table.stations.mesh_used import MeshUsed
from ivory_table.stations.offers import offer, untried, walked
from ivory_table.stations.station import Job, Offer
from ivory_table.stations.work import MOST_ANSWERS, Descent, Work, feel_down, probed

from .check import check_at


def _at_hand(work: Work) -> Survey:
    survey = survey_at(work.now)
    if survey is None:
        raise Refused("no_mesh_planned", "Choose how many points to measure first.")
    return survey


def _name(point: PlanPoint) -> str:
    return f"point {point.column + 1}, {point.row + 1}" + (f", read beside it ({point.why})" if point.moved else "")


def measure(work: Work) -> None:
    """The points of the planned mesh that tell most, until it is enough; by probe all of them, with the base point."""
    survey = _at_hand(work)
    work.ready()
    _mesh_off(work)
    if survey.plan.owns_zero:
        _by_feel(work)
    else:
        _by_probe(work)
    work.leave()


def _mesh_off(work: Work) -> None:
    """What is read counts from the bare machine: whatever mesh it follows is switched off."""
    if work.state.mesh_on:
        work.keep(MeshUsed(on=False))
    if work.session.manner.can("mesh_off"):
        work.session.ask(work.session.manner.send("mesh_off"))


def _by_feel(work: Work) -> None:
    while True:
        survey = _at_hand(work)
        if Mesh.of(work.state).base_due:
            x, y = survey.base_mm
            work.keep(MeshBase(height_mm=round(feel_down(work, x, y, "the base point"), 4)), "hand")
            continue
        if survey.complete or survey.coming is None:
            return
        _feel_point(work, survey, survey.coming[0])


def _feel_point(work: Work, survey: Survey, point: PlanPoint) -> None:
    assert point.place_mm is not None
    at = (point.column, point.row)
    _progress(work, survey, _name(point))
    tip = Descent.over(work, *point.place_mm, _name(point))
    for _ in range(MOST_ANSWERS):
        tip.approach = _at_hand(work).approach(at)
        z = tip.next_mm(work.state)
        z, feel = tip.feel(work.state, max(z if z is not None else tip.approach.drag[0], tip.lowest_mm(work.state)))
        before = len(Mesh.of(work.state).soundings)
        work.keep(MeshFelt(column=point.column, row=point.row, z_mm=z, feel=feel), "hand")
        if len(Mesh.of(work.state).soundings) > before:
            return
    raise tip.no_end()


def _progress(work: Work, survey: Survey, name: str) -> None:
    read = len(survey.mesh.points)
    left = 60 * survey.minutes_each * max(survey.wanted - read, 0)
    work.session.progress(name, read / max(survey.wanted, 1), left)


def _by_probe(work: Work) -> None:
    """Every point that can be reached, the base point again every few of them; then those in doubt once more."""
    since = 0
    while (survey := _at_hand(work)).waiting and not survey.complete:
        if since % SURVEY.base_every == 0:
            work.keep(MeshBase(height_mm=probed(work, *survey.base_mm, "the base point")))
        since += 1
        point = survey.waiting[0]
        assert point.place_mm is not None
        _progress(work, survey, _name(point))
        height = probed(work, *point.place_mm, _name(point))
        work.keep(MeshPoint(column=point.column, row=point.row, height_mm=height))
    for doubt in _at_hand(work).doubts[: SURVEY.most_again]:
        x, y = _at_hand(work).place_of[doubt.point]
        column, row = doubt.point
        name = f"point {column + 1}, {row + 1} again: {doubt.words}"
        work.session.progress(name)
        work.keep(MeshPoint(column=column, row=row, height_mm=probed(work, x, y, name), again=True))
    work.keep(MeshBase(height_mm=probed(work, *_at_hand(work).base_mm, "the base point")))


def send_mesh(work: Work) -> None:
    """Sent point by point, read back where the machine can list it, stored where it can, then switched on."""
    if work.state.mesh is None:
        raise Refused("no_mesh", "There is no kept mesh to send.")
    does, lines = work.session.manner, lines_to_send(work.now)
    for k, line in enumerate(lines):
        work.session.progress("sending the mesh", k / len(lines))
        work.session.ask(line)
    work.session.ask(does.send("mesh_on"))
    work.keep(MeshSent())
    work.keep(MeshUsed(on=True))
    if does.can("mesh_store"):
        work.session.ask(does.send("mesh_store"))
        work.keep(MeshStored())
    if does.can("mesh_read"):
        read_back(work)


def read_back(work: Work) -> None:
    """The mesh as the machine lists it, compared with the kept one. Raises Refused with the point that differs."""
    heights = listed(work)
    try:
        work.keep(MeshReadBack(heights_mm=heights))
    except ValueError as wrong:
        raise Refused("mesh_differs", str(wrong)) from None
    refuse_off(work.state.mesh_back_mm or 0.0, "Send it again, then read it back.")


def check_earlier(work: Work) -> None:
    """The places of an earlier mesh that tell most, until it is known whether it still holds."""
    work.ready()
    _mesh_off(work)
    while (check := check_at(work.now)) is not None and check.to_read:
        x, y = check.to_read[0]
        name = f"({x:g}, {y:g})"
        work.session.progress(f"checking the earlier mesh at {name}")
        felt = check.earlier.survey.owns_zero
        height = feel_down(work, x, y, name) if felt else probed(work, x, y, name)
        work.keep(MeshChecked(x_mm=x, y_mm=y, height_mm=round(height, 4)), "hand" if felt else "machine")
    work.leave()


def where(work: Work) -> None:
    """Where the tip stands: driven to two corners, they bound what is measured."""
    work.session.where()


JOBS = {
    "where": Job("Ask where the tip stands", where),
    "survey": Job("Measure the mesh", measure),
    "send_mesh": Job("Send the mesh, store it and switch it on", send_mesh),
    "read_mesh": Job("Ask the machine for its mesh", read_back),
    "check_mesh": Job("Check the earlier mesh", check_earlier),
}


def offers(run: OpenRun, session: Session) -> tuple[Offer, ...]:
    state, does = run.state, session.manner
    survey, check = survey_at(run), check_at(run)
    if survey is not None:
        if not survey.waiting and not Mesh.of(state).base_due:
            return ()
        probing = not survey.plan.owns_zero
        places = [(*place, f"({place[0]:g}, {place[1]:g})") for place in survey.place_of.values()]
        moves, wrong = walked(state, does, places, probing=probing)
        return (offer(session, JOBS, "survey", *moves, why_not=wrong or (untried(run) if probing else "")),)
    if check is not None and check.to_read:
        probing = not check.earlier.survey.owns_zero
        moves, wrong = walked(state, does, [(x, y, f"({x:g}, {y:g})") for x, y in check.to_read], probing=probing)
        return (offer(session, JOBS, "check_mesh", *moves, why_not=wrong or (untried(run) if probing else "")),)
    out = [Offer(job="where", name=JOBS["where"].name, moves=("nothing moves",))]
    if state.mesh is not None and does.can("mesh_point"):
        out.insert(0, offer(session, JOBS, "send_mesh", "nothing moves"))
        if does.can("mesh_read"):
            out.insert(1, offer(session, JOBS, "read_mesh", "nothing moves"))
    return tuple(out)
