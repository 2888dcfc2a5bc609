"""A machine on the line at each station: what it offers to do, its jobs started, its questions answered in practice.

Every job says beforehand what will move and asks the core about every target; what it measures is kept row
by row, so that a line that breaks loses nothing.
"""

from collections.abc import Callable

from ivory_table.core.bead import Swatch
from ivory_table.core.defaults import HEAT, PROOF
from ivory_table.core.entries import (
    Station,
)
from ivory_table.core.hands import Hands
from ivory_table.core.hold import Hold
from ivory_table.core.motion import go, lift, probe_at, probe_reaches, refuse_low_zones, travel_height_mm
from ivory_table.core.offset import convention
from ivory_table.core.proof import ZoneCount
from ivory_table.core.run import RunState
from ivory_table.core.value import Id, Value
from ivory_table.link.session import Cancelled, Session

from . import mesh, offset, tram
from .desk import Desk, OpenRun, Refused
from .extras import feel_check
from .jobs import JOBS
from .jobs.offset import advised_offset
from .jobs.prepare import held
from .jobs.proof import proof_at_hand
from .jobs.work import Work
from .lines import Lines, LineStatus


class Offer(Value):
    """Something the machine can do here: what will move and how far, and why not, if it cannot."""

    job: Id
    name: str
    moves: tuple[str, ...]
    why_not: str = ""


class LineView(Value):
    """A run's machine on the line, as one station sees it."""

    status: LineStatus
    offers: tuple[Offer, ...]
    hold: Hold | None
    nudged_mm: float
    speed_percent: float
    printing: bool


def offers(run: OpenRun, station: Station, session: Session | None) -> tuple[Offer, ...]:
    """What the machine can do at a station now, with what will move."""
    state, setup = run.state, run.setup
    does = session.manner if session else run.manner
    first = () if session and session.status.homed else ("every axis runs to its stop (home)",)

    def offer(job: str, *moves: str, why_not: str = "") -> Offer:
        return Offer(job=job, name=JOBS[job][0], moves=(*first, *moves), why_not=why_not)

    def walked(places: list[tuple[float, float, str]], probing: bool) -> tuple[tuple[str, ...], str]:
        try:
            for x, y, name in places:
                steps = probe_at(state, does, x, y, name) if probing else go(state, does, x, y, name)
        except ValueError as wrong:
            return (), str(wrong)
        how = (
            "the probe comes down until it triggers" if probing else "the tip steps down to the gauge, answer by answer"
        )
        many = f"{len(places)} places" if len(places) > 1 else places[0][2]
        return (steps[0].words, f"{'the probe' if probing else 'the tip'} goes over {many}", how), ""

    untried = ""
    if setup.machine.probe and state.checks.get("trigger_proved") != "done":
        untried = "Prove the probe's trigger first (Prepare): one that does not trigger drives the tip into the plate."
    if run.state.signed_off is not None:
        return ()
    match station:
        case "prepare":
            bed = f"plate to {state.bed_wanted_c:.0f} °C, tip to {min(setup.filament.nozzle_c, 150):.0f} °C"
            parks = setup.machine.probe is not None and setup.machine.probe.heat_sensitive
            heat = (f"the probe waits at z {HEAT.park_probe_mm:g}",) if parks else ()
            cold = "This plate is trammed cold: there is nothing to heat." if state.school == "cold" else ""
            return (
                offer("prove", "the fan runs", "each axis moves by 10 or 20 mm, the tip at least 20 mm up"),
                Offer(
                    job="heat", name=JOBS["heat"][0], moves=((*first, *heat) if parks else ()) + (bed,), why_not=cold
                ),
                Offer(job="home", name=JOBS["home"][0], moves=("every axis runs to its stop", lift(state, does).words)),
                Offer(job="cool", name=JOBS["cool"][0], moves=("nothing moves; the position is given up",)),
            )
        case "tram":
            return _tram_offers(run, offer, walked, untried)
        case "mesh":
            grid = mesh.grid_of(run)
            if state.mesh_plan is not None and grid is not None:
                if len(state.mesh_points) == len(grid.places):
                    return ()
                probing = not state.mesh_plan.owns_zero
                moves, wrong = walked([(float(x), float(y), f"({x:g}, {y:g})") for x, y in grid.places], probing)
                return (offer("survey", *moves, why_not=wrong or (untried if probing else "")),)
            if state.mesh is not None and does.can("mesh_begin"):
                return (Offer(job="send_mesh", name=JOBS["send_mesh"][0], moves=("nothing moves",)),)
            return ()
        case "offset":
            now = offset.now_at(run)
            x, y = setup.plate.centre
            moves, wrong = walked([(x, y, "the centre")], False)
            found = [offer("bracket", *moves, why_not=wrong)] if now.step in ("feel", "done") else []
            if now.step == "set" or (now.step == "feel" and state.moves):
                found.append(Offer(job="store", name=JOBS["store"][0], moves=("the tip lifts", *now.wanted.lines)))
            check = feel_check(run)
            if not check.why_not and check.next_z_mm is not None and now.step in ("set", "done"):
                found.append(offer("feel_check", *moves, why_not=wrong))
            if now.step == "read_back" and convention(setup.machine.convention, does).read:
                found.append(Offer(job="read_back", name=JOBS["read_back"][0], moves=("nothing moves",)))
            return tuple(found)
        case "first_layer":
            too_low = ""
            try:
                refuse_low_zones(state, proof_at_hand(run))
            except ValueError as wrong:
                too_low = str(wrong)
            found = [
                Offer(
                    job="print",
                    name=JOBS["print"][0],
                    moves=(
                        f"plate to {setup.filament.bed_c:.0f} °C, tip to {setup.filament.nozzle_c:.0f} °C",
                        "every axis runs to its stop (home)",
                        "prime line, skirt and patches at the first layer's height",
                        f"at the end the tip lifts to {PROOF.park_mm:g} mm and stays warm",
                    ),
                    why_not=too_low,
                )
            ]
            change = advised_offset(run)
            if change is not None and not state.readback_due:
                moves = ("the tip lifts, if it is known where it is", f"it will run {change.words}", *change.lines)
                found.insert(0, Offer(job="store_advised", name=JOBS["store_advised"][0], moves=moves))
            if abs(state.nudged_mm) > 5e-4:
                found.append(
                    Offer(job="settle_nudges", name=JOBS["settle_nudges"][0], moves=("the tip moves by the nudge",))
                )
            found.append(Offer(job="cool", name=JOBS["cool"][0], moves=("nothing moves; the position is given up",)))
            return tuple(found)
        case _:
            return (Offer(job="cool", name=JOBS["cool"][0], moves=("nothing moves; the position is given up",)),)


def _tram_offers(
    run: OpenRun,
    offer: Callable[..., Offer],
    walked: Callable[[list[tuple[float, float, str]], bool], tuple[tuple[str, ...], str]],
    untried: str,
) -> tuple[Offer, ...]:
    state, setup = run.state, run.setup
    now = tram.now_at(run)
    if now.step == "read":
        unread = [s for j, s in enumerate(state.screws) if j not in state.round_read or j == state.to_read]
        moves, wrong = walked([(s.x_mm, s.y_mm, s.name) for s in unread], False)
        found = [offer("step_screws", *moves, why_not=wrong)]
        reached = [s for s in unread if probe_reaches(state, s.x_mm, s.y_mm) and s.name not in _read_names(state)]
        if reached:
            moves, wrong = walked([(s.x_mm, s.y_mm, s.name) for s in reached], True)
            left = tuple(
                f"{s.name} is left to the hand: the probe does not reach it" for s in unread if s not in reached
            )
            found.insert(0, offer("probe_screws", *moves, *left, why_not=wrong or untried))
        return tuple(found)
    if now.step in ("count", "feel", "sense") and now.screw is not None:
        s = state.screws[setup.machine.screw(now.screw)]
        moves, wrong = walked([(s.x_mm, s.y_mm, s.name)], False)
        return (
            offer("visit", *moves[:2], "it comes down to z 0, by feel where the plate may be higher", why_not=wrong),
        )
    if now.step in ("centre", "no_knobs"):
        x, y = setup.plate.centre
        moves, wrong = walked([(x, y, "the centre")], False)
        return (offer("centre", *moves[:2], why_not=wrong),)
    return ()


def _read_names(state: RunState) -> set[str]:
    return {state.screws[j].name for j in state.round_read}


def view(lines: Lines, run: OpenRun, station: Station) -> LineView:
    """The line as one station of one run sees it."""
    machine_id = run.setup.machine.id
    session = lines.session(machine_id)
    status = lines.status(machine_id)
    return LineView(
        status=status,
        offers=offers(run, station, session) if session is not None and status.state in ("idle", "busy") else (),
        hold=held(session, status.bed_target_c) if session is not None and status.bed_target_c else None,
        nudged_mm=run.state.nudged_mm,
        speed_percent=run.state.speed_percent,
        printing=status.job == JOBS["print"][0],
    )


def start(lines: Lines, run_id: str, station: Station, job: str, start_id: str, zones: ZoneCount) -> None:
    """Start one of the offered jobs. Raises Refused for one that is not offered or cannot be done now."""
    run = lines.desk.open(run_id)
    machine_id = run.setup.machine.id
    session = lines.must(machine_id)
    wanted = next((o for o in offers(run, station, session) if o.job == job), None)
    if wanted is None:
        raise Refused("not_offered", "That cannot be done at this step.", "job")
    if wanted.why_not:
        raise Refused("cannot_do", wanted.why_not, "job")
    name, act = JOBS[job]
    work = Work(lines.desk, run_id, station, session, zones)
    lines.start(machine_id, start_id, name, lambda _: _lifting(work, act))


def _lifting(work: Work, act: Callable[[Work], None]) -> None:
    """A job that is cancelled leaves the tip lifted: nobody shall turn a knob against a tip that stopped half way."""
    try:
        act(work)
    except Cancelled:
        position = work.session.status.position_mm
        work.session.go_on()
        if work.session.status.homed and position is not None and position[2] < travel_height_mm(work.state):
            work.leave()
        raise


def aside(lines: Lines, run_id: str, kind: str, value: float) -> None:
    """A nudge or a speed while the proof prints; nothing else may change it meanwhile."""
    run = lines.desk.open(run_id)
    session = lines.must(run.setup.machine.id)
    if session.status.job != JOBS["print"][0]:
        raise Refused("not_printing", "Nothing is being printed. Use the Z offset station for a lasting change.")
    if not session.manner.can("nudge" if kind == "nudge" else "speed"):
        raise Refused("cannot_do", f"This machine's manner ({session.manner.name}) has no line for that.")
    if kind == "nudge":
        layer = run.state.proofs[-1].plan.layer_mm if run.state.proofs else 0.2
        if run.state.nudged_mm + value < -0.6 * layer:
            raise Refused("too_close", f"That would be {-(run.state.nudged_mm + value):.2f} mm closer than the program: "
                          "more than half of the layer. Cancel, set the Z offset, print again.", "away_mm")  # fmt: skip
    session.asides.append((kind, value))
    lines.changed()


def practice_answer(lines: Lines, run_id: str) -> None:
    """Let the practice person answer the question at hand."""
    run = lines.desk.open(run_id)
    machine_id = run.setup.machine.id
    # One after the other, each for the question it saw.
    with lines.practising:
        status = lines.status(machine_id)
        if status.state != "waiting":
            raise Refused("not_asked", "The machine is not waiting for an answer.")
        hands = lines.desk.hands(run)
        kind = status.question_kind
        if kind == "feel":
            lines.answer(machine_id, hands.slide_here(), status.question)
            return
        if kind in ("touch", "release"):
            hands.touch_probe(kind == "touch")
        # A turn happens to the practice plate when its row is kept, whoever answered.
        lines.answer(machine_id, status.answers[0], status.question)


def train(desk: Desk, run_id: str, act: Callable[[Hands], None] = lambda _: None) -> tuple[str, ...]:
    """What a trainer does to a run's practice machine; then every crash so far, in words."""
    hands = desk.hands(desk.open(run_id))
    try:
        act(hands)
        return tuple(hands.crashes())
    except ValueError as wrong:
        raise Refused("practice_refused", str(wrong)) from None


def seen_patch(desk: Desk, run_id: str, zone: int) -> Swatch:
    """One patch of the newest proof as a drawing, for an eye that wants to judge for itself."""
    run = desk.open(run_id)
    proof = run.state.proofs[-1] if run.state.proofs else None
    if proof is None or zone >= len(proof.plan.zones if proof.printed is None else range(proof.printed)):
        raise Refused("not_printed", "That zone has not been printed yet.")
    return desk.hands(run).see_zone(proof.plan, zone)
