"""To a screw and down to the gauge, or every screw read by feel or probe."""

from typing import Any

from ivory_table.core import advice
from ivory_table.core.entries import FeelTried, ReadMm, Turned, Visited
from ivory_table.core.feelcheck import FeelTry
from ivory_table.core.motion import lift, probe_reaches
from ivory_table.core.plate import Screw

from .. import extras
from ..desk import Refused
from ..sheet import turn_words
from ..tram import now_at
from .work import LOOSEST_FIRST, MOST_ANSWERS, Descent, Work, feel_down, probed


def visit(work: Work) -> None:
    """To the next screw of the count, down to z 0 over it; a plate that stands higher is turned down first."""
    now = now_at(work.now)
    if now.screw is None or now.step not in ("count", "feel", "sense"):
        raise Refused("nothing_to_visit", "No screw is to be visited at this step.")
    name = now.screw
    j = work.now.setup.machine.screw(name)
    work.ready()
    at = work.state.screws[j]
    tip = Descent.over(work, at.x_mm, at.y_mm, name, name)
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
        work.keep(tip.feel(state, max(drag if z is None else z, tip.lowest_mm(state), 0.0)), "hand")
    raise tip.no_end()


def step_screws(work: Work) -> None:
    work.ready()
    while (j := work.state.to_read) is not None:
        screw = work.state.screws[j]
        work.session.progress(f"{screw.name}", len(work.state.round_read) / len(work.state.screws))
        feel_down(work, screw.x_mm, screw.y_mm, screw.name, screw=screw.name)
    work.leave()


def bracket(work: Work) -> None:
    work.ready()
    x, y = work.now.setup.plate.centre
    feel_down(work, x, y, "the centre")


def feel_check(work: Work) -> None:
    """Known heights around the drag, in an order nobody can foretell; the person sees none of them."""
    work.ready()
    x, y = work.now.setup.plate.centre
    tip = Descent.over(work, x, y, "the centre")
    for _ in range(100):
        now = extras.feel_check(work.now)
        if now.why_not:
            raise Refused("not_yet", now.why_not)
        if now.next_z_mm is None or now.next_above_mm is None:
            break
        # Never lower than proven, and always from above: a height that was not reached is not the one asked about.
        tip.down(work.state, max(now.next_z_mm, tip.lowest_mm(work.state)))
        gauge = work.now.setup.gauge.name
        feel: Any = work.session.question(
            f"Try {now.done + 1} of {now.of}: slide the {gauge} under the tip.", LOOSEST_FIRST, "feel"
        )
        above = round(tip.z - now.drag_z_mm, 4)
        work.keep(FeelTried(feel_try=FeelTry(above_mm=above, feel=feel)), "hand")
    work.leave()


def centre(work: Work) -> None:
    """The centre, after the knobs are done, or the only place to be felt where there are none."""
    bracket(work)
    work.leave()


def probe_screws(work: Work) -> None:
    work.ready()
    screws = work.state.screws
    for j, s in enumerate(screws):
        if j in work.state.round_read or not probe_reaches(work.state, s.x_mm, s.y_mm):
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
