"""The tip stepped down to the gauge at the centre, a feel check, and the value found, stored."""

from functools import partial
from typing import Any

from ivory_table.core.approach import Under
from ivory_table.core.defaults import OFFSET, PROBE
from ivory_table.core.feelcheck import FeelTry
from ivory_table.core.gauge import Feel
from ivory_table.core.offset import convention
from ivory_table.link.session import Session
from ivory_table.runs.doubts import Refused
from ivory_table.runs.motion import lift, probe_at, probe_reaches
from ivory_table.runs.run import OpenRun
from ivory_table.stations.offers import offer, untried, walked
from ivory_table.stations.offset.entries import (
    FeelTried,
    Felt,
    LimitClosed,
    LimitOpened,
    ProbeTouched,
    SignShown,
    ThickTried,
)
from ivory_table.stations.offset.state import Offset
from ivory_table.stations.offset.step import now_at
from ivory_table.stations.offset.view import sign_try
from ivory_table.stations.station import Job, Offer
from ivory_table.stations.stored.line import read_back, send_offset
from ivory_table.stations.work import LOOSEST_FIRST, Descent, Failed, Work, feel_down

from .feel import feel_check as check_now


def store(work: Work) -> None:
    """The value found by feel, sent, stored and read back."""
    send_offset(work, now_at(work.now).wanted.new_mm)


def bracket(work: Work) -> None:
    work.ready()
    x, y = work.now.setup.plate.centre
    does = work.session.manner
    if not does.can("limit_open"):
        feel_down(work, x, y, "the centre", partial(_felt, x, y), _went_under)
        return
    # The tip may have to go below zero: opened for this, closed whatever comes of it.
    work.session.ask(does.send("limit_open", lowest=-OFFSET.limit_mm))
    work.keep(LimitOpened(by_mm=OFFSET.limit_mm))
    try:
        feel_down(work, x, y, "the centre", partial(_felt, x, y), _went_under)
    finally:
        if work.session.status.state in ("busy", "waiting"):
            work.session.go_on()
            work.session.ask(does.send("limit_close"))
            work.keep(LimitClosed())


def feel_check(work: Work) -> None:
    """Known heights around the drag, in an order nobody can foretell; the person sees none of them."""
    work.ready()
    x, y = work.now.setup.plate.centre
    tip = Descent.over(work, x, y, "the centre")
    for _ in range(100):
        now = check_now(work.now)
        if now.why_not:
            raise Refused("not_yet", now.why_not)
        if now.next_z_mm is None or now.next_above_mm is None:
            break
        # Never lower than proven, and always from above: a height that was not reached is not the one asked about.
        tip.down(work.state, max(now.next_z_mm, tip.lowest_mm(work.state)))
        words = work.now.setup.gauge.try_words
        feel: Any = work.session.question(f"Try {now.done + 1} of {now.of}: {words}.", LOOSEST_FIRST, "feel")
        above = round(tip.z - now.drag_z_mm, 4)
        work.keep(FeelTried(feel_try=FeelTry(above_mm=above, feel=feel)), "hand")
    work.leave()


def _felt(x_mm: float, y_mm: float, z_mm: float, feel: Feel) -> Felt:
    return Felt(x_mm=x_mm, y_mm=y_mm, z_mm=z_mm, feel=feel)


def _went_under(told: Under) -> ThickTried:
    return ThickTried(z_mm=told.z_mm, under_mm=told.under_mm, not_mm=told.not_mm)


def touch_again(work: Work) -> None:
    """The same place touched again and again, each kept with the plate's temperature: how well the probe repeats."""
    work.ready()
    x, y = work.now.setup.plate.centre
    up, down = probe_at(work.state, work.session.manner, x, y, "the centre")
    work.send(up)
    for n in range(PROBE.touches):
        work.session.progress(f"touch {n + 1} of {PROBE.touches}", n / PROBE.touches)
        touched = work.session.ask(down.line, "touched")
        if touched is None or "z" not in touched:
            raise Failed("The probe did not trigger. Prove its trigger by hand, and look at the sensor's height.")
        z = float(touched["z"])
        work.keep(ProbeTouched(z_mm=round(z, 4), bed_c=work.session.status.bed_c))
        # High enough for the probe to let go.
        work.session.ask(work.session.manner.send("height", z=z + 2.0, feed=480))
    work.leave()


def show_sign(work: Work) -> None:
    """The stored number is changed for a moment with the tip high above the plate; a person says which way it went."""
    work.ready()
    session, tried = work.session, sign_try(work.now)
    work.send(lift(work.state, session.manner))
    first, *rest = tried.lines
    session.ask(first)
    session.question(
        f"The tip stands {tried.height_mm:g} mm high. Watch it: it will move a little.", ("ready",), "ready"
    )
    try:
        for line in rest:
            session.ask(line)
        went: Any = session.question("Which way did the tip go?", ("closer", "further", "nowhere"), "went")
    finally:
        for line in tried.back:
            session.ask(line)
    work.keep(SignShown(larger_by_mm=tried.larger_by_mm, went=went), "hand")


JOBS = {
    "show_sign": Job("Show which way the stored number counts", show_sign),
    "bracket": Job("Step down to the gauge at the centre", bracket),
    "feel_check": Job("Feel check at the centre", feel_check),
    "touch_again": Job("Touch the centre again and again", touch_again),
    "store": Job("Send, store and read back", store),
    "read_back": Job("Read it back", read_back),
}


def offers(run: OpenRun, session: Session) -> tuple[Offer, ...]:
    now, does = now_at(run), session.manner
    x, y = run.setup.plate.centre
    moves, wrong = walked(run.state, does, [(x, y, "the centre")], probing=False)
    found = [offer(session, JOBS, "bracket", *moves, why_not=wrong)] if now.step in ("feel", "done") else []
    if now.step == "set" or (now.step == "feel" and Offset.of(run.state).moves):
        found.append(Offer(job="store", name=JOBS["store"].name, moves=("the tip lifts", *now.wanted.lines)))
    if run.setup.machine.probe is not None and probe_reaches(run.state, x, y):
        probing, why = walked(run.state, does, [(x, y, "the centre")], probing=True)
        found.append(offer(session, JOBS, "touch_again", *probing, why_not=why or untried(run)))
    if not run.state.sign_proved:
        found.append(Offer(job="show_sign", name=JOBS["show_sign"].name, moves=sign_try(run).lines))
    check = check_now(run)
    if not check.why_not and check.next_z_mm is not None and now.step in ("set", "done"):
        found.append(offer(session, JOBS, "feel_check", *moves, why_not=wrong))
    if now.step == "read_back" and convention(run.state.convention_id, does).read:
        found.append(Offer(job="read_back", name=JOBS["read_back"].name, moves=("nothing moves",)))
    return tuple(found)
