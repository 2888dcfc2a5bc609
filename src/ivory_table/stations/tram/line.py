"""To a screw and down to the gauge, or every screw read by feel or probe."""

from functools import partial

from ivory_table.core import advice
from ivory_table.core.gauge import Feel
from ivory_table.core.plate import Screw
from ivory_table.core.words import turn_words
from ivory_table.link.session import Session
from ivory_table.runs.doubts import Refused
from ivory_table.runs.motion import lift, probe_reaches
from ivory_table.runs.run import OpenRun
from ivory_table.stations.mesh_used import MeshUsed
from ivory_table.stations.offers import offer, untried, walked
from ivory_table.stations.station import Job, Offer
from ivory_table.stations.tram.entries import CentreFelt, ReadMm, ScrewFelt, Visited
from ivory_table.stations.tram.slice import Tram
from ivory_table.stations.tram.standing import to_read
from ivory_table.stations.tram.step import now_at
from ivory_table.stations.turned import Turned
from ivory_table.stations.work import MOST_ANSWERS, Descent, Work, feel_down, probed


def visit(work: Work) -> None:
    """To the next screw of the count, down to z 0 over it; a plate that stands higher is turned down first."""
    now = now_at(work.now)
    if now.screw is None or now.step not in ("count", "feel", "sense"):
        raise Refused("nothing_to_visit", "No screw is to be visited at this step.")
    name = now.screw
    j = work.now.setup.machine.screw(name)
    work.ready()
    at = work.state.screws[j]
    tip = Descent.over(work, at.x_mm, at.y_mm, name)
    work.keep(Visited(screw=name))
    for _ in range(MOST_ANSWERS):
        state = work.state
        if tip.lowest_mm(state) <= 0:
            tip.down(state, 0.0)
            return
        drag, sd = state.drag_height(tip.x, tip.y)
        if drag > 0.02 and sd <= 0.05:
            screw = state.screws[j]
            marks = round(advice.marks_for(state.belief, state.screws, j, -(drag + 0.05)))
            words = turn_words(marks, screw, state.setup.machine.seen_from)
            tip.lift()
            work.session.question(f"{name} stands {drag:.2f} mm too high. Turn it {words}.", ("turned",), "turn")
            work.keep(Turned(screw=name, marks=marks), "hand")
            continue
        z = tip.next_mm(state)
        felt_z, feel = tip.feel(state, max(drag if z is None else z, tip.lowest_mm(state), 0.0))
        work.keep(ScrewFelt(screw=name, z_mm=felt_z, feel=feel), "hand")
    raise tip.no_end()


def step_screws(work: Work) -> None:
    work.ready()
    while (j := to_read(work.state)) is not None:
        screw = work.state.screws[j]
        work.session.progress(f"{screw.name}", len(Tram.of(work.state).round_read) / len(work.state.screws))
        feel_down(work, screw.x_mm, screw.y_mm, screw.name, partial(_felt_at, screw.name))
    work.leave()


def centre(work: Work) -> None:
    """The centre, after the knobs are done, or the only place to be felt where there are none."""
    work.ready()
    x, y = work.now.setup.plate.centre
    feel_down(work, x, y, "the centre", lambda z, feel: CentreFelt(z_mm=z, feel=feel))
    work.leave()


def _felt_at(screw: str, z_mm: float, feel: Feel) -> ScrewFelt:
    return ScrewFelt(screw=screw, z_mm=z_mm, feel=feel)


def probe_screws(work: Work) -> None:
    work.ready()
    screws = work.state.screws
    for j, s in enumerate(screws):
        if j in Tram.of(work.state).round_read or not probe_reaches(work.state, s.x_mm, s.y_mm):
            continue
        work.session.progress(s.name, j / len(screws))
        _probe_screw(work, s)
        proving = now_at(work.now)
        if proving.step == "prove" and proving.further is not None:
            work.send(lift(work.state, work.session.manner))
            work.settle()
            words = turn_words(proving.further.marks, s, work.now.setup.machine.seen_from)
            asked = f"Turn {s.name} {words}; it is probed again, to see what this knob does. Or leave it."
            made = work.session.question(asked, ("turned", "left"), "turn") == "turned"
            work.keep(Turned(screw=s.name, marks=proving.further.marks if made else 0), "hand")
            if made:
                _probe_screw(work, s)


def _probe_screw(work: Work, screw: Screw) -> None:
    value = probed(work, screw.x_mm, screw.y_mm, screw.name)
    work.keep(ReadMm(x_mm=screw.x_mm, y_mm=screw.y_mm, instrument="probe", value_mm=value, screw=screw.name))


def mesh_off(work: Work) -> None:
    """The machine's mesh switched off, so that the knobs are turned to the plate and not to what was measured of it."""
    does = work.session.manner
    if does.can("mesh_off"):
        work.session.ask(does.send("mesh_off"))
    work.keep(MeshUsed(on=False))


JOBS = {
    "mesh_off": Job("Switch the mesh off", mesh_off),
    "visit": Job("Go to the screw", visit),
    "step_screws": Job("Step down to the gauge at every screw", step_screws),
    "probe_screws": Job("Probe every screw", probe_screws),
    "centre": Job("Go to the centre", centre),
}


def offers(run: OpenRun, session: Session) -> tuple[Offer, ...]:
    state, setup, tram, does = run.state, run.setup, Tram.of(run.state), session.manner
    now = now_at(run)
    if now.step == "mesh_off":
        return (offer(session, JOBS, "mesh_off", "the mesh is switched off; nothing moves"),)
    if now.step == "read":
        unread = [s for j, s in enumerate(state.screws) if j not in tram.round_read or j == to_read(state)]
        moves, wrong = walked(state, does, [(s.x_mm, s.y_mm, s.name) for s in unread], probing=False)
        found = [offer(session, JOBS, "step_screws", *moves, why_not=wrong)]
        read = {state.screws[j].name for j in tram.round_read}
        reached = [s for s in unread if probe_reaches(state, s.x_mm, s.y_mm) and s.name not in read]
        if reached:
            moves, wrong = walked(state, does, [(s.x_mm, s.y_mm, s.name) for s in reached], probing=True)
            left = tuple(
                f"{s.name} is left to the hand: the probe does not reach it" for s in unread if s not in reached
            )
            why = wrong or untried(run)
            found.insert(0, offer(session, JOBS, "probe_screws", *moves, *left, why_not=why))
        return tuple(found)
    if now.step in ("count", "feel", "sense") and now.screw is not None:
        s = state.screws[setup.machine.screw(now.screw)]
        moves, wrong = walked(state, does, [(s.x_mm, s.y_mm, s.name)], probing=False)
        down = "it comes down to z 0, by feel where the plate may be higher"
        return (offer(session, JOBS, "visit", *moves[:2], down, why_not=wrong),)
    if now.step in ("centre", "no_knobs"):
        x, y = setup.plate.centre
        moves, wrong = walked(state, does, [(x, y, "the centre")], probing=False)
        return (offer(session, JOBS, "centre", *moves[:2], why_not=wrong),)
    return ()
