"""A machine on the line at each station: what it offers to do, its jobs started, its questions answered in practice.

Every job says beforehand what will move and asks the core about every target; what it measures is kept row
by row, so that a line that breaks loses nothing.
"""

from collections.abc import Callable

from ivory_table.core.bead import closes
from ivory_table.core.hands import Hands
from ivory_table.core.hold import Hold
from ivory_table.core.proof import ProofChoice
from ivory_table.core.value import StationName, Value
from ivory_table.desk.desk import Desk
from ivory_table.link.session import Session
from ivory_table.link.trouble import Cancelled
from ivory_table.runs.common import STATION_TITLES
from ivory_table.runs.doubts import Refused
from ivory_table.runs.motion import travel_height_mm
from ivory_table.runs.run import OpenRun
from ivory_table.stations import STATIONS
from ivory_table.stations.manner.pages import Pages
from ivory_table.stations.manner.proving import unproved
from ivory_table.stations.prepare.line import held
from ivory_table.stations.station import Job, Offer
from ivory_table.stations.work import Work, cool

from .lines import Lines, LineStatus


class LineView(Value):
    """A run's machine on the line, as one station sees it."""

    status: LineStatus
    offers: tuple[Offer, ...]
    hold: Hold | None
    nudged_mm: float
    speed_percent: float
    printing: bool
    #: Words that this station uses and that were never proved on this machine.
    unproved: tuple[str, ...] = ()


COOL = Job("Cool down, motors off", cool)
#: Every job by its id.
JOBS: dict[str, Job] = {"cool": COOL} | {job: it for station in STATIONS for job, it in station.jobs.items()}
#: Where the plate is measured nothing is cooled down by one press.
_KEPT_HOT: tuple[StationName, ...] = ("tram", "mesh", "offset")


def offers(run: OpenRun, station: StationName, session: Session | None) -> tuple[Offer, ...]:
    """What the machine can do at a station now, with what will move."""
    if run.state.signed_off or session is None:
        return ()
    here = next(s for s in STATIONS if s.name == station)
    found = here.offers(run, session)
    if station in _KEPT_HOT:
        return found
    return (*found, Offer(job="cool", name=COOL.name, moves=("nothing moves; the position is given up",)))


def view(lines: Lines, run: OpenRun, station: StationName) -> LineView:
    """The line as one station of one run sees it."""
    machine_id = run.setup.machine.id
    session = lines.session(machine_id)
    status = lines.status(machine_id)
    return LineView(
        status=status,
        offers=offers(run, station, session) if status.state in ("idle", "busy") else (),
        hold=held(session, status.bed_target_c) if session is not None and status.bed_target_c else None,
        nudged_mm=run.state.nudged_mm,
        speed_percent=run.state.speed_percent,
        printing=status.job == JOBS["print"].name,
        unproved=unproved(
            Pages(lines.desk.workshop, lines.manners), lines.desk.workshop.machine(machine_id), STATION_TITLES[station]
        ),
    )


def start(lines: Lines, run_id: str, station: StationName, job: str, start_id: str, zones: ProofChoice) -> None:
    """Start one of the offered jobs. Raises Refused for one that is not offered or cannot be done now."""
    run = lines.desk.open(run_id)
    machine_id = run.setup.machine.id
    session = lines.session_of(machine_id)
    wanted = next((o for o in offers(run, station, session) if o.job == job), None)
    if wanted is None:
        raise Refused("not_offered", "That cannot be done at this step.", "job")
    if wanted.why_not:
        raise Refused("cannot_do", wanted.why_not, "job")
    work = Work(lines.desk, run_id, station, session, zones)
    lines.start(machine_id, start_id, JOBS[job].name, lambda _: _lifting(work, JOBS[job].act))


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


def change_while_printing(lines: Lines, run_id: str, kind: str, value: float) -> None:
    """A nudge or a speed while the proof prints; nothing else may change it meanwhile."""
    run = lines.desk.open(run_id)
    session = lines.session_of(run.setup.machine.id)
    if session.status.job != JOBS["print"].name:
        raise Refused("not_printing", "Nothing is being printed. Use the Z offset station for a lasting change.")
    if not session.manner.can("nudge" if kind == "nudge" else "speed"):
        raise Refused("cannot_do", f"This machine's manner ({session.manner.name}) has no line for that.")
    if kind == "nudge":
        layer = run.state.proofs[-1].plan.layer_mm if run.state.proofs else 0.2
        if run.state.nudged_mm + value < -0.6 * layer:
            raise Refused("too_close", f"That would be {-(run.state.nudged_mm + value):.2f} mm closer than the program: "
                          "more than half of the layer. Cancel, set the Z offset, print again.", "away_mm")  # fmt: skip
    session.live_changes.append((kind, value))
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
        if kind.startswith("look:"):
            grade = hands.print_zone(run.state.proofs[-1].plan, int(kind.removeprefix("look:"))).grade
            lines.answer(machine_id, status.answers[closes(grade)], status.question)
            return
        if kind in ("touch", "release"):
            hands.touch_probe(kind == "touch")
        # A turn happens to the practice plate when its row is kept, whoever answered.
        lines.answer(machine_id, status.answers[0], status.question)


def crashes_after(desk: Desk, run_id: str, act: Callable[[Hands], None] = lambda _: None) -> tuple[str, ...]:
    """What a trainer does to a run's practice machine; then every crash so far, in words."""
    hands = desk.hands(desk.open(run_id))
    try:
        act(hands)
        return tuple(hands.crashes())
    except ValueError as wrong:
        raise Refused("practice_refused", str(wrong)) from None
