"""Heat and hold, home, and the proving of a new machine."""

from datetime import UTC, datetime, timedelta

from ivory_table.core.defaults import HEAT, PREPARE
from ivory_table.core.hold import Hold, hold
from ivory_table.link.session import Session
from ivory_table.runs.motion import Step, lift
from ivory_table.runs.run import OpenRun
from ivory_table.stations.offers import homing_first, offer
from ivory_table.stations.prepare.entries import CheckDone, Heated
from ivory_table.stations.station import Job, Offer
from ivory_table.stations.work import Failed, Work


def heat(work: Work) -> None:
    run, session = work.now, work.session
    bed, tip = run.state.bed_wanted_c, min(run.setup.filament.nozzle_c, 150.0)
    probe = run.setup.machine.probe
    if probe is not None and probe.heat_sensitive:
        work.ready()
        z = HEAT.park_probe_mm
        work.send(
            Step(line=session.manner.send("height", z=z, feed=480), words=f"the probe waits at z {z:g}, off the heat")
        )
    session.ask(session.manner.send("heat_bed", celsius=bed))
    session.ask(session.manner.send("heat_tip", celsius=tip))
    wanted = float(PREPARE["held_minutes"])
    while True:
        session.pause(3.0)
        now = held(session, bed)
        if now is None:
            continue
        session.progress(f"plate {now.words}", min(now.held_minutes / wanted, 1.0))
        if now.held_minutes >= wanted and now.steady:
            break
    since = datetime.now(UTC) - timedelta(minutes=now.held_minutes)
    work.keep(Heated(bed_c=bed, nozzle_c=tip, held_since=since))


def held(session: Session, target_c: float) -> Hold | None:
    """What the line's temperature reports say of the hold."""
    warmth = list(session.warmth)
    return hold([w.at_s for w in warmth], [w.bed_c for w in warmth], target_c) if target_c else None


def home(work: Work) -> None:
    work.session.home()
    work.keep(CheckDone(check="homed", outcome="done"))
    work.send(lift(work.state, work.session.manner))


def prove(work: Work) -> None:
    """Fans, axes, stops and the probe's trigger, one by one, each told right or wrong by the person."""
    session, does = work.session, work.session.manner
    machine, centre = work.now.setup.machine, work.now.setup.plate.centre

    def told(question: str, wrong: str) -> None:
        if session.question(question, ("yes", "no"), "yes_no") == "no":
            raise Failed(wrong)

    if does.can("fan"):
        session.ask(does.send("fan", share=255))
        told(
            "Does the part fan blow?", "The part fan does not answer. Switch off, look at its plug and its pin setting."
        )
        session.ask(does.send("fan", share=0))
        work.keep(CheckDone(check="fans_proved", outcome="done"))
    session.home()
    told(
        "Did every axis run to its stop and halt there by itself?",
        "A stop did not halt its axis. Switch off; look at the switch and its wire before anything moves again.",
    )
    work.keep(CheckDone(check="stops_proved", outcome="done"))
    z0 = max(session.where()[2], 20.0)
    work.send(Step(line=does.send("height", z=z0, feed=480), words=f"the tip lifts to {z0:g} mm"))
    for axis, where, (dx, dy, dz) in (
        ("x", "to the right", (20, 0, 0)),
        ("y", "so that the tip comes nearer to the back of the plate", (0, 20, 0)),
        ("z", "away from the plate", (0, 0, 10)),
    ):
        x, y, z = centre[0] + dx, centre[1] + dy, z0 + dz
        back = (does.send("move", x=centre[0], y=centre[1], feed=1800), does.send("height", z=z0, feed=480))
        for line in back:
            session.ask(line)
        session.ask(does.send("move", x=x, y=y, feed=1800))
        session.ask(does.send("height", z=z, feed=480))
        work.settle()
        told(
            f"Did it move {dx + dy + dz} mm {where}?",
            f"The {axis} axis runs the wrong way or the wrong distance. Do not go on; correct the machine's settings.",
        )
    work.keep(CheckDone(check="axes_proved", outcome="done"))
    if machine.probe is not None and does.can("trigger"):
        prove_trigger(work)


def prove_trigger(work: Work) -> None:
    session, does = work.session, work.session.manner

    def trigger() -> str:
        found = session.ask(does.send("trigger"), "trigger")
        return found["state"] if found else ""

    if trigger() != "open":
        raise Failed("The probe says it is triggered with nothing near it. Look at its wiring; do not let it descend.")
    session.question("Press the probe by hand (or hold metal under it) and keep it pressed.", ("done",), "touch")
    if trigger() != "closed":
        raise Failed("The probe does not trigger by hand: it would drive the tip into the plate. Look at its wiring.")
    session.question("Let go of the probe.", ("done",), "release")
    if trigger() != "open":
        raise Failed("The probe stays triggered after it was let go. Clean it, look at its wiring.")
    work.keep(CheckDone(check="trigger_proved", outcome="done"))


JOBS = {
    "heat": Job("Heat and hold", heat),
    "home": Job("Home", home),
    "prove": Job("Prove the machine", prove),
}


def offers(run: OpenRun, session: Session) -> tuple[Offer, ...]:
    state, setup = run.state, run.setup
    bed = f"plate to {state.bed_wanted_c:.0f} °C, tip to {min(setup.filament.nozzle_c, 150):.0f} °C"
    parks = setup.machine.probe is not None and setup.machine.probe.heat_sensitive
    waits = (*homing_first(session), f"the probe waits at z {HEAT.park_probe_mm:g}") if parks else ()
    cold = "This plate is trammed cold: there is nothing to heat." if state.school == "cold" else ""
    return (
        offer(session, JOBS, "prove", "the fan runs", "each axis moves by 10 or 20 mm, the tip at least 20 mm up"),
        Offer(job="heat", name=JOBS["heat"].name, moves=(*waits, bed), why_not=cold),
        Offer(
            job="home",
            name=JOBS["home"].name,
            moves=("every axis runs to its stop", lift(state, session.manner).words),
        ),
    )
