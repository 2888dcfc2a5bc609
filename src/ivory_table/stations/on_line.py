"""What each station lets the machine do: heat, step down to the gauge, probe, store, print.

Every job works a run through the same desk as a hand does. It says beforehand what will move,
asks the core about every target, and keeps what it measured row by row, so that a line that
breaks loses nothing.
"""

from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import uuid4

import numpy as np

from ivory_table.core.bead import Swatch
from ivory_table.core.defaults import HEAT, PREPARE, PROOF, SURVEY
from ivory_table.core.entries import (
    CheckDone,
    Felt,
    Heated,
    MeshBase,
    MeshPoint,
    MeshUsed,
    Nudged,
    NudgeMerged,
    OffsetSet,
    ProofEnded,
    ProofStarted,
    Readback,
    ReadMm,
    Source,
    SpeedSet,
    Station,
    Turned,
    Visited,
    What,
)
from ivory_table.core.gauge import FEELS
from ivory_table.core.gcode.reader import read_program
from ivory_table.core.hands import Hands
from ivory_table.core.hold import Hold, hold
from ivory_table.core.mesh import believed_by_machine
from ivory_table.core.motion import Step, come_down, go, lift, lowest_mm, probe_at, refuse_low_zones, travel_height_mm
from ivory_table.core.offset import StoredChange, convention, direction_words, next_move, stored_after
from ivory_table.core.proof import ProofPlan, ZoneCount, plan, seconds_by_line
from ivory_table.core.run import RunState
from ivory_table.core.value import Id, Value
from ivory_table.link.session import Cancelled, Refusal, Session

from . import first_layer, mesh, offset, tram
from .desk import Desk, Keep, OpenRun, Refused
from .lines import Lines, LineStatus
from .sheet import turn_words

#: As the keys offer them at every station.
_LOOSEST_FIRST = tuple(reversed(FEELS))


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


@dataclass
class Work:
    """One job on one run. `now` is the run as it stands; whoever else kept something is seen."""

    desk: Desk
    run_id: str
    station: Station
    session: Session
    zones: ZoneCount = 5

    @property
    def now(self) -> OpenRun:
        return self.desk.open(self.run_id)

    @property
    def state(self) -> RunState:
        return self.now.state

    def keep(self, what: What, source: Source = "machine") -> None:
        """Keep a row after whatever was kept meanwhile."""
        seq = self.now.seq
        self.desk.keep(self.run_id, self.station, Keep(id=uuid4().hex, seen_seq=seq, what=what), source)

    def send(self, *steps: Step) -> None:
        for step in steps:
            self.session.progress(step.words, self.session.status.share, self.session.status.left_s)
            self.session.ask(step.line)

    def settle(self) -> tuple[float, float, float]:
        """Wait until the machine stands still, and where it then is."""
        if self.session.manner.can("settle"):
            self.session.ask(self.session.manner.send("settle"))
        return self.session.where()

    def ready(self) -> None:
        """Home if the position is unknown; homing may have switched the mesh off."""
        if self.session.status.homed:
            return
        self.session.progress("homing")
        self.session.home()
        state = self.state
        if self.session.manner.line.homing_ends_mesh and state.mesh is not None and state.mesh_on:
            self.session.ask(self.session.manner.send("mesh_on"))

    def leave(self) -> None:
        """Lift off, whatever else was cancelled."""
        self.session.go_on()
        self.send(lift(self.state, self.session.manner))


# Prepare


def _heat(work: Work) -> None:
    run, session = work.now, work.session
    bed, tip = run.setup.filament.bed_c, min(run.setup.filament.nozzle_c, 150.0)
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


def _home(work: Work) -> None:
    work.session.home()
    work.keep(CheckDone(check="homed", outcome="done"))
    work.send(lift(work.state, work.session.manner))


class Failed(Refusal):
    """A proving step that came out wrong: nothing further is moved."""


def _prove(work: Work) -> None:
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
        _prove_trigger(work)


def _prove_trigger(work: Work) -> None:
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


# Tram, Z offset and the mesh by feel: stepping down to the gauge


def _feel_down(work: Work, x: float, y: float, name: str, *, screw: str | None = None, keep: bool = True) -> float:
    """From above to the drag, answer by answer; the z at which the gauge drags."""
    session, setup = work.session, work.now.setup
    state = work.state
    work.send(*go(state, session.manner, x, y, name))
    at = work.settle()[2]
    free: float | None = None
    z_last: float | None = None
    feel_last: Any = None
    for _ in range(40):
        drag, sd = state.drag_height(x, y)
        z = next_move(drag, sd, z_last, feel_last, setup.machine.z_step_mm)
        if z is None:
            return drag
        z = max(z, lowest_mm(state, x, y, free))
        work.send(*come_down(state, session.manner, x, y, z, at, free))
        at = work.settle()[2]
        feel_last = session.question(
            f"{name}, z {at:.3f}: slide the {setup.gauge.name} under the tip.", _LOOSEST_FIRST, "feel"
        )
        z_last = at
        what = Felt(x_mm=x, y_mm=y, z_mm=round(at, 4), feel=feel_last, screw=screw)
        if keep:
            work.keep(what, "hand")
            state = work.state
        else:
            state = state.apply_felt(what)
        if feel_last == "free":
            free = at if free is None else min(free, at)
    raise Cancelled(f"{name}: 40 answers did not agree. Clean the tip and the gauge, then try again.")


def _visit(work: Work) -> None:
    """To the next screw of the count, down to z 0 over it; a plate that stands higher is turned down first."""
    now = tram.now_at(work.now)
    if now.screw is None or now.step not in ("count", "sense"):
        raise Refused("nothing_to_visit", "No screw is to be visited at this step.")
    name, session = now.screw, work.session
    j = work.now.setup.machine.screw(name)
    work.ready()
    at_screw = work.state.screws[j]
    x, y = at_screw.x_mm, at_screw.y_mm
    work.send(*go(work.state, session.manner, x, y, name))
    work.keep(Visited(screw=name))
    at, free = work.settle()[2], None
    z_last: float | None = None
    feel_last: Any = None
    for _ in range(40):
        state = work.state
        drag, sd = state.drag_height(x, y)
        if lowest_mm(state, x, y, free) <= 0:
            work.send(*come_down(state, session.manner, x, y, 0.0, at, free))
            work.settle()
            session.progress(f"the tip is at z 0 over {name}: turn until it drags, count the marks")
            return
        if drag > 0.02 and sd <= 0.05:
            screw = state.screws[j]
            passed = float(state.belief.weight @ state.belief.passes[:, j, j])
            marks = round(-(drag + 0.05) / passed / (screw.mm_per_mark * screw.sense))
            words = turn_words(marks, screw, work.now.setup.machine.seen_from)
            work.send(lift(state, session.manner))
            at = work.settle()[2]
            session.question(f"{name} stands {drag:.2f} mm too high. Turn it {words}.", ("turned",), "turn")
            work.keep(Turned(screw=name, marks=marks), "hand")
            free = z_last = feel_last = None
            continue
        z = next_move(drag, sd, z_last, feel_last, state.setup.machine.z_step_mm)
        z = max(z if z is not None else drag, lowest_mm(state, x, y, free), 0.0)
        work.send(*come_down(state, session.manner, x, y, z, at, free))
        z_last = at = work.settle()[2]
        gauge = work.now.setup.gauge.name
        feel_last = session.question(f"{name}, z {at:.3f}: slide the {gauge} under the tip.", _LOOSEST_FIRST, "feel")
        work.keep(Felt(x_mm=x, y_mm=y, z_mm=round(at, 4), feel=feel_last, screw=name), "hand")
        if feel_last == "free":
            free = at if free is None else min(free, at)


def _step_screws(work: Work) -> None:
    work.ready()
    for j, screw in enumerate(work.state.screws):
        if j not in work.state.round_read:
            work.session.progress(f"{screw.name}", j / len(work.state.screws))
            _feel_down(work, screw.x_mm, screw.y_mm, screw.name, screw=screw.name)
    work.leave()


def _bracket(work: Work) -> None:
    work.ready()
    x, y = work.now.setup.plate.centre
    _feel_down(work, x, y, "the centre")


def _centre(work: Work) -> None:
    """The centre, after the knobs are done, or the only place to be felt where there are none."""
    _bracket(work)
    work.leave()


# Probing


def _probed(work: Work, x: float, y: float, name: str) -> float:
    """The median of some probings of one place; more of them when they differ too much."""
    probe = work.now.setup.machine.probe
    assert probe is not None
    found: list[float] = []
    for n in range(SURVEY.most_repeats):
        up, down = probe_at(work.state, work.session.manner, x, y, name)
        if n == 0:
            work.send(up)
        else:
            # Only as high as the probe needs to let go.
            work.session.ask(work.session.manner.send("height", z=found[-1] + 2.0, feed=480))
        work.session.progress(f"{name}, probing {n + 1}", work.session.status.share, work.session.status.left_s)
        touched = work.session.ask(down.line, "touched")
        if touched is None or "z" not in touched.groupdict():
            work.send(lift(work.state, work.session.manner))
            raise Failed(
                f"The probe did not trigger over {name}. It may be mounted too high or not deployed: prove its trigger, "
                "put a card under the tip and look at the margin. Nothing more is probed."
            )
        found.append(float(touched["z"]))
        if len(found) >= SURVEY.repeats and np.ptp(found) <= 4 * probe.sd_mm:
            break
    work.send(lift(work.state, work.session.manner))
    return round(float(np.median(found)), 4)


def _probe_screws(work: Work) -> None:
    work.ready()
    screws = work.state.screws
    for j, s in enumerate(screws):
        if j in work.state.round_read:
            continue
        work.session.progress(s.name, j / len(screws))
        value = _probed(work, s.x_mm, s.y_mm, s.name)
        work.keep(ReadMm(x_mm=s.x_mm, y_mm=s.y_mm, instrument="probe", value_mm=value, screw=s.name))


def _survey(work: Work) -> None:
    """The points of the planned mesh that are still missing, the base point again every few of them."""
    work.ready()
    state = work.state
    planned = state.mesh_plan
    if planned is None:
        raise Refused("no_mesh_planned", "Choose how many points to measure first.")
    grid = mesh.grid_of(work.now)
    assert grid is not None
    order = mesh.walk(planned.columns, planned.rows)
    row, column = order[0]
    base = (grid.xs_mm[column], grid.ys_mm[row])
    began = work.session.now_s()
    done_before = len(state.mesh_points)
    missing = [(r, c) for r, c in order if (c, r) not in state.mesh_points]
    for k, (r, c) in enumerate(missing):
        name = f"point {c + 1}, {r + 1}"
        x, y = grid.xs_mm[c], grid.ys_mm[r]
        share = (done_before + k) / len(order)
        left = (work.session.now_s() - began) / k * (len(missing) - k) if k else None
        work.session.progress(name, share, left)
        if planned.owns_zero:
            z = _feel_down(work, x, y, name, keep=False)
            work.keep(MeshPoint(column=c, row=r, height_mm=round(z, 3)), "hand")
            continue
        if k % SURVEY.base_every == 0:
            work.keep(MeshBase(height_mm=_probed(work, *base, "the base point")))
        work.keep(MeshPoint(column=c, row=r, height_mm=_probed(work, x, y, name)))
    if not planned.owns_zero:
        work.keep(MeshBase(height_mm=_probed(work, *base, "the base point")))
    work.leave()


def _send_mesh(work: Work) -> None:
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


# Z offset


def _store(work: Work) -> None:
    """The value found by feel, sent, stored and read back."""
    _send_offset(work, offset.now_at(work.now).wanted.new_mm)


def _store_advised(work: Work) -> None:
    """The value that the judged proof asks for, sent, stored and read back."""
    best = _advised_offset(work.now)
    if best is None:
        raise Refused("not_advised", "The offset is not what the proof asks for now.")
    _send_offset(work, best.new_mm)


def _advised_offset(run: OpenRun) -> StoredChange | None:
    steps = first_layer.next_steps(run)
    return steps[0].stored if steps and steps[0].action.kind == "offset" else None


def _send_offset(work: Work, stored_mm: float) -> None:
    run, session = work.now, work.session
    what = OffsetSet(stored_mm=stored_mm)
    work.desk.refuse(run, what)
    if session.status.homed:
        work.send(lift(work.state, session.manner))
    for line in convention(run.setup.machine.convention, session.manner).lines(stored_mm):
        session.progress(f"sending {line}")
        session.ask(line)
    work.keep(what)
    _read_back(work)


def _read_back(work: Work) -> None:
    how = convention(work.now.setup.machine.convention, work.session.manner)
    if not how.read:
        raise Cancelled("This machine stores nothing: the value is in the job's start code, and its readback is yours.")
    found = work.session.ask(how.read, "stored")
    if found is None:
        raise Failed(f"The machine did not say what it stored. Ask it yourself: {how.read}.")
    work.keep(Readback(reported_mm=float(found["value"])))


# First layer


def _print(work: Work) -> None:
    """The proof, line by line; nudges and speed changes in between are kept as they happen."""
    run, session = work.now, work.session
    newest = run.state.proofs[-1] if run.state.proofs else None
    waiting = newest is not None and not newest.closed and not newest.marks and newest.printed is None
    laid = _laid(run, work.zones)
    refuse_low_zones(run.state, laid)
    text = first_layer.program_for(run, laid, session.manner).text
    if not waiting:
        work.keep(ProofStarted(proof=laid))
    lines = text.splitlines()
    seconds = seconds_by_line(read_program(text), len(lines))
    last = next(k for k, line in enumerate(lines) if line.startswith("; lifted"))
    total = float(seconds[:last].sum())
    zone, words = -1, "heating"
    speed_was = run.state.speed_percent
    try:
        for k, line in enumerate(lines[:last]):
            if line.startswith("; patch "):
                zone, words = zone + 1, line[2:]
            elif line.startswith(("; prime", "; skirt")):
                words = line[2:].split(",")[0]
            bare = line.split(";")[0].strip()
            if not bare:
                continue
            left = float(seconds[k:last].sum()) * 100 / work.state.speed_percent
            session.progress(words, 1 - left / total if total else None, left)
            if bare == session.manner.does.home or bare.startswith("G28"):
                session.home()
            else:
                session.ask(bare)
            _asides(work, zone + 1)
        _end_proof(work, "printed", len(laid.zones), lines[last:])
    except Cancelled:
        session.go_on()
        _end_proof(work, "cancelled", max(zone, 0), lines[last:])
        raise Cancelled(f"The proof was cancelled; {max(zone, 0)} zones are whole. Lifted and kept warm.") from None
    finally:
        if work.state.speed_percent != speed_was and session.status.state in ("busy", "waiting"):
            session.ask(session.manner.send("speed", percent=speed_was))
            work.keep(SpeedSet(percent=speed_was))
    if abs(work.state.nudged_mm) > 5e-4:
        settle_nudges(work)


def _laid(run: OpenRun, zones: ZoneCount = 5) -> ProofPlan:
    """The proof at hand: the newest again, or a first one."""
    if run.state.proofs:
        return run.state.proofs[-1].plan
    return plan(run.setup.machine, run.setup.plate, run.setup.filament, zones)


def _end_proof(work: Work, outcome: Any, zones: int, tail: list[str]) -> None:
    """Retracted and lifted as the program says, then kept warm by `_rest`, so that the next try starts at once."""
    for line in tail:
        bare = line.split(";")[0].strip()
        if bare.startswith(("M104", "G4")):
            break
        if bare:
            work.session.ask(bare)
    work.session.where()
    work.session.ask(work.session.manner.send("heat_tip", celsius=150))
    work.keep(ProofEnded(outcome=outcome, zones=zones))
    work.session.start(JOBS["rest"][0], lambda _: _rest(work))


def _asides(work: Work, next_zone: int) -> None:
    """What the person changed while it prints, sent between two lines and kept."""
    session = work.session
    while session.asides:
        kind, value = session.asides.popleft()
        if kind == "nudge":
            session.ask(session.manner.send("nudge", away=value))
            zones = len(work.state.proofs[-1].plan.zones)
            work.keep(Nudged(away_mm=value, from_zone=min(next_zone, zones)))
        else:
            session.ask(session.manner.send("speed", percent=value))
            work.keep(SpeedSet(percent=value))


def settle_nudges(work: Work) -> None:
    """A live change that nobody stored is lost or forgotten: merge it, or put it back."""
    session, run = work.session, work.now
    away = run.state.nudged_mm
    how = convention(run.setup.machine.convention, session.manner)
    merged = stored_after(run.state.stored_mm, away, how, run.setup.machine.z_step_mm)
    said = session.question(
        f"It was nudged {direction_words(away)} and that is not stored. Merge it (stored {run.state.stored_mm:.3f} becomes "
        f"{merged.new_mm:.3f}), or put it back?",
        ("merge", "put back"),
        "choice",
    )
    if said == "merge":
        for line in how.lines(merged.new_mm):
            session.ask(line)
        session.ask(session.manner.send("nudge", away=-away))
        work.keep(NudgeMerged(stored_mm=merged.new_mm))
        if how.read:
            _read_back(work)
        return
    session.ask(session.manner.send("nudge", away=-away))
    work.keep(Nudged(away_mm=-away))


def _rest(work: Work) -> None:
    """Warm for some minutes, then off; whoever wants the machine meanwhile has it warm."""
    session, seconds = work.session, PROOF.warm_minutes * 60
    ends = session.now_s() + seconds
    while (left := ends - session.now_s()) > 0:
        if session.others_wait:
            return
        session.progress("lifted and warm for the next try", 1 - left / seconds, left)
        session.pause(min(left, 2.0))
    _cool(work)


def _cool(work: Work) -> None:
    does = work.session.manner
    work.session.ask(does.send("heat_tip", celsius=0))
    work.session.ask(does.send("heat_bed", celsius=0))
    if does.can("motors_off"):
        work.session.ask(does.send("motors_off"))
        work.session.motors_released()


JOBS: dict[str, tuple[str, Callable[[Work], None]]] = {
    "heat": ("Heat and hold", _heat),
    "home": ("Home", _home),
    "prove": ("Prove the machine", _prove),
    "cool": ("Cool down, motors off", _cool),
    "visit": ("Go to the screw", _visit),
    "step_screws": ("Step down to the gauge at every screw", _step_screws),
    "probe_screws": ("Probe every screw", _probe_screws),
    "centre": ("Go to the centre", _centre),
    "survey": ("Measure the mesh", _survey),
    "send_mesh": ("Send the mesh and switch it on", _send_mesh),
    "bracket": ("Step down to the gauge at the centre", _bracket),
    "store": ("Send, store and read back", _store),
    "store_advised": ("Send the advised offset, store, read back", _store_advised),
    "read_back": ("Read it back", _read_back),
    "print": ("Print the proof", _print),
    "settle_nudges": ("Merge the nudge, or put it back", settle_nudges),
    "rest": ("Lifted and warm", _rest),
}


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
            bed = f"plate to {setup.filament.bed_c:.0f} °C, tip to {min(setup.filament.nozzle_c, 150):.0f} °C"
            parks = setup.machine.probe is not None and setup.machine.probe.heat_sensitive
            heat = (f"the probe waits at z {HEAT.park_probe_mm:g}",) if parks else ()
            return (
                offer("prove", "the fan runs", "each axis moves by 10 or 20 mm, the tip at least 20 mm up"),
                Offer(job="heat", name=JOBS["heat"][0], moves=((*first, *heat) if parks else ()) + (bed,)),
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
            if now.step == "read_back" and convention(setup.machine.convention, does).read:
                found.append(Offer(job="read_back", name=JOBS["read_back"][0], moves=("nothing moves",)))
            return tuple(found)
        case "first_layer":
            too_low = ""
            try:
                refuse_low_zones(state, _laid(run))
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
            change = _advised_offset(run)
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
        places = [(s.x_mm, s.y_mm, s.name) for j, s in enumerate(state.screws) if j not in state.round_read]
        moves, wrong = walked(places, False)
        found = [offer("step_screws", *moves, why_not=wrong)]
        if setup.machine.probe:
            moves, wrong = walked(places, True)
            found.insert(0, offer("probe_screws", *moves, why_not=wrong or untried))
        return tuple(found)
    if now.step in ("count", "sense") and now.screw is not None:
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


def view(lines: Lines, run: OpenRun, station: Station) -> LineView:
    """The line as one station of one run sees it."""
    machine_id = run.setup.machine.id
    session = lines.session(machine_id)
    status = lines.status(machine_id)
    return LineView(
        status=status,
        offers=offers(run, station, session) if session is not None and status.state in ("idle", "busy") else (),
        hold=held(session, run.setup.filament.bed_c) if session is not None and status.bed_target_c else None,
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
    status = lines.status(machine_id)
    if status.state != "waiting":
        raise Refused("not_asked", "The machine is not waiting for an answer.")
    hands = lines.desk.hands(run)
    kind = status.question_kind
    if kind == "feel":
        lines.answer(machine_id, hands.slide_here())
        return
    if kind in ("touch", "release"):
        hands.touch_probe(kind == "touch")
    # A turn happens to the practice plate when its row is kept, whoever answered.
    lines.answer(machine_id, status.answers[0])


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
