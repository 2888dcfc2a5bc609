"""The proof line by line, its nudges and speeds, and the minutes after it."""

from typing import Any

from ivory_table.core.defaults import PROOF
from ivory_table.core.offset import StoredChange, convention, direction_words
from ivory_table.core.plate import Filament
from ivory_table.core.proof import ProofChoice, ProofPlan
from ivory_table.link.session import Session
from ivory_table.link.trouble import Cancelled
from ivory_table.program.laying import CHANGE, LOOK, WARM, seconds_by_line
from ivory_table.program.reader import bare, read_program
from ivory_table.runs.doubts import Refused
from ivory_table.runs.motion import refuse_low_zones
from ivory_table.runs.run import OpenRun
from ivory_table.stations.first_layer.entries import LadderRead, Nudged, ProofEnded, ProofStarted, SpeedSet
from ivory_table.stations.first_layer.files import plan_of, program_for
from ivory_table.stations.first_layer.step import next_steps
from ivory_table.stations.mesh_listed import refuse_another_mesh
from ivory_table.stations.station import Job, Offer
from ivory_table.stations.stored.entries import NudgeMerged
from ivory_table.stations.stored.line import read_back, send_offset
from ivory_table.stations.stored.wanted import with_nudges_stored
from ivory_table.stations.work import Work, cool

#: The job that follows a proof.
RESTING = "Lifted and warm"


def print_proof(work: Work) -> None:
    """The proof, line by line; nudges and speed changes in between are kept as they happen."""
    run, session = work.now, work.session
    newest = run.state.proofs[-1] if run.state.proofs else None
    waiting = newest is not None and newest is run.state.open_proof and not newest.marks and newest.printed is None
    laid = proof_at_hand(run, work.zones)
    refuse_low_zones(run.state, laid)
    refuse_another_mesh(work)
    text = program_for(run, laid, session.manner).text
    if not waiting:
        work.keep(ProofStarted(proof=laid))
    lines = text.splitlines()
    seconds = seconds_by_line(read_program(text, own_words=True), len(lines))
    last = next(k for k, line in enumerate(lines) if line.startswith("; lifted"))
    total = float(seconds[:last].sum())
    zone, words = -1, "heating"
    whole, looking = 0, False
    speed_was = run.state.speed_percent
    try:
        for k, line in enumerate(lines[:last]):
            if line.startswith("; patch "):
                zone, words = zone + 1, line[2:]
                whole = zone
            elif line.startswith(("; prime", "; skirt")):
                words = line[2:].split(",")[0]
            if line.endswith(LOOK):
                # A ladder goes on only where somebody has looked.
                whole, looking = zone + 1, True
                if holds(session, laid, zone):
                    work.keep(LadderRead(first=zone))
                    end_proof(work, "cancelled", whole, lines[last:])
                    return
                looking = False
                continue
            if line.endswith(CHANGE) and laid.other is not None:
                session.question(changing(laid.other), (LOADED,), "change")
                continue
            told = bare(line)
            if not told:
                continue
            left = float(seconds[k:last].sum()) * 100 / work.state.speed_percent
            session.progress(words, 1 - left / total if total else None, left)
            if told == session.manner.does.home:
                session.home()
            else:
                session.ask(told)
            send_live_changes(work, zone + 1)
        if laid.kind == "ladder":
            work.keep(LadderRead(first=None))
        end_proof(work, "printed", len(laid.zones), lines[last:])
    except Cancelled:
        session.go_on()
        end_proof(work, "cancelled", whole, lines[last:])
        # Of a step that was asked about nobody has said whether it holds.
        if laid.kind == "ladder" and whole and not looking:
            work.keep(LadderRead(first=None))
        raise Cancelled(f"The proof was cancelled; {whole} zones are whole. Lifted and kept warm.") from None
    finally:
        if work.state.speed_percent != speed_was and session.status.state in ("busy", "waiting"):
            session.ask(session.manner.send("speed", percent=speed_was))
            work.keep(SpeedSet(percent=speed_was))
    if abs(work.state.nudged_mm) > 5e-4:
        settle_nudges(work)


#: The answer once the filament was changed.
LOADED = "it is loaded"


def changing(other: Filament) -> str:
    return f"Load {other.name}, push until it comes clean of the old one, and wipe the tip, which is hot. Is it loaded?"


#: What is asked of a step of a ladder, and the answer that ends it.
GOES_ON, HOLDS = "not yet, go on", "it holds, stop here"


def holds(session: Session, laid: ProofPlan, zone: int) -> bool:
    """Whether the step of a ladder that was just laid holds and closes, by whoever stands there."""
    said = session.question(
        f"{laid.zones[zone].name.capitalize()}: does it hold, and do its lines close?", (GOES_ON, HOLDS), f"look:{zone}"
    )
    return said == HOLDS


def proof_at_hand(run: OpenRun, choice: ProofChoice = "advised") -> ProofPlan:
    """The proof at hand: one that was begun and waits for the machine, or the one that is asked for."""
    proof = run.state.open_proof
    if proof is not None and not proof.marks and proof.printed is None:
        return proof.plan
    return plan_of(run, choice)


def end_proof(work: Work, outcome: Any, zones: int, tail: list[str]) -> None:
    """Retracted and lifted as the program says, then kept warm by `rest`, so that the next try starts at once."""
    for line in tail:
        if line == WARM:
            break
        if told := bare(line):
            work.session.ask(told)
    work.session.where()
    work.session.ask(work.session.manner.send("heat_tip", celsius=150))
    work.keep(ProofEnded(outcome=outcome, zones=zones))
    work.session.start(RESTING, lambda _: rest(work))


def send_live_changes(work: Work, next_zone: int) -> None:
    """What the person changed while it prints, sent between two lines and kept."""
    session = work.session
    while session.live_changes:
        kind, value = session.live_changes.popleft()
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
    how = convention(run.state.convention_id, session.manner)
    merged = with_nudges_stored(run.state, session.manner)
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
            read_back(work)
        return
    session.ask(session.manner.send("nudge", away=-away))
    work.keep(Nudged(away_mm=-away))


def rest(work: Work) -> None:
    """Warm for some minutes, then off; whoever wants the machine meanwhile has it warm."""
    session, seconds = work.session, PROOF.warm_minutes * 60
    ends = session.now_s() + seconds
    while (left := ends - session.now_s()) > 0:
        if session.others_wait:
            return
        session.progress("lifted and warm for the next try", 1 - left / seconds, left)
        session.pause(min(left, 2.0))
    cool(work)


def store_advised(work: Work) -> None:
    """The value that the judged proof asks for, sent, stored and read back."""
    best = advised_offset(work.now)
    if best is None:
        raise Refused("not_advised", "The offset is not what the proof asks for now.")
    send_offset(work, best.new_mm)


def advised_offset(run: OpenRun) -> StoredChange | None:
    steps = next_steps(run)
    return steps[0].stored if steps and steps[0].action.kind == "offset" else None


JOBS = {
    "print": Job("Print the proof", print_proof),
    "store_advised": Job("Send the advised offset, store, read back", store_advised),
    "settle_nudges": Job("Merge the nudge, or put it back", settle_nudges),
    "rest": Job(RESTING, rest),
}


def offers(run: OpenRun, session: Session) -> tuple[Offer, ...]:
    state, setup = run.state, run.setup
    too_low = ""
    try:
        refuse_low_zones(state, proof_at_hand(run))
    except ValueError as wrong:
        too_low = str(wrong)
    found = [
        Offer(
            job="print",
            name=JOBS["print"].name,
            moves=(
                f"plate to {setup.filament.bed_c:.0f} °C, tip to {setup.filament.nozzle_c:.0f} °C",
                "every axis runs to its stop (home)",
                "prime line, then each step closer than the last; you are asked after each"
                if proof_at_hand(run).kind == "ladder"
                else "prime line, skirt and patches at the first layer's height",
                f"at the end the tip lifts to {PROOF.park_mm:g} mm and stays warm",
            ),
            why_not=too_low,
        )
    ]
    change = advised_offset(run)
    if change is not None and not state.readback_due:
        moves = ("the tip lifts, if it is known where it is", f"it will run {change.words}", *change.lines)
        found.insert(0, Offer(job="store_advised", name=JOBS["store_advised"].name, moves=moves))
    if abs(state.nudged_mm) > 5e-4:
        name = JOBS["settle_nudges"].name
        found.append(Offer(job="settle_nudges", name=name, moves=("the tip moves by the nudge",)))
    return tuple(found)
