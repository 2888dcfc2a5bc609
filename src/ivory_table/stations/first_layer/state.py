"""What the rows of the first layer do to a run. Its proofs are asked for by every station that moves something."""

from dataclasses import dataclass, replace

from ivory_table.core.bead import Bead
from ivory_table.core.causes import look_of
from ivory_table.core.defaults import HEAT
from ivory_table.core.placing import SoundArea
from ivory_table.core.signs import Mark
from ivory_table.runs.entry import Entry
from ivory_table.runs.proof import ProofRun
from ivory_table.runs.record import Slice
from ivory_table.runs.state import RunState, fold

from .entries import (
    CauseLookedFor,
    CauseMended,
    FeedCorrected,
    FeedMeasured,
    Judged,
    LadderRead,
    LayerChosen,
    LeftFor,
    Nudged,
    OtherFilamentTold,
    ProofEnded,
    ProofStarted,
    SpeedSet,
    ToolTold,
    ZoneCleaned,
    ZoneSkipped,
)


@dataclass(frozen=True)
class LeftAs(Slice):
    """What the plate was left for, and after which proof of which configuration: anything printed or moved since makes it void."""

    area: SoundArea | None = None
    after: tuple[int, int] = (0, 0)

    @classmethod
    def now(cls, run: RunState) -> SoundArea | None:
        found = cls.of(run)
        return found.area if found.after == (run.configuration, len(run.proofs)) else None


@dataclass(frozen=True)
class LookedFor(Slice):
    """Causes that somebody looked for in this run, whatever came of it: none is asked for twice."""

    causes: frozenset[str] = frozenset()


@fold.register
def _cause_looked_for(what: CauseLookedFor, run: RunState, entry: Entry) -> RunState:
    look_of(what.cause)
    causes = run.causes.looked(what.cause, what.found) if run.causes.considered else run.causes
    return run.put(LookedFor(LookedFor.of(run).causes | {what.cause}), causes=causes)


@fold.register
def _left_for(what: LeftFor, run: RunState, entry: Entry) -> RunState:
    return run.put(LeftAs(what.area, (run.configuration, len(run.proofs))))


@fold.register
def _layer_chosen(what: LayerChosen, run: RunState, entry: Entry) -> RunState:
    return replace(run, layer_chosen=Bead(what.line_mm, what.layer_mm))


@fold.register
def _proof_started(what: ProofStarted, run: RunState, entry: Entry) -> RunState:
    same, came_by = run.open_proof, (run.step_shift_mm, run.step_turns)
    if same is not None and not same.marks:
        # Nothing of it was judged: what was changed before it is judged by this one.
        came_by = (same.came_by_shift_mm + run.step_shift_mm, run.step_turns or same.came_by_turns)
    if same is not None and (not same.plan.shows_the_same(what.proof) or same.mended or same.cleaned):
        same = None
    fresh = ProofRun(
        what.proof,
        configuration=run.configuration,
        repeats=same.repeats + bool(same.marks) if same else 0,
        came_by_shift_mm=came_by[0],
        came_by_turns=came_by[1],
        promised=run.promise(what.proof),
    )
    # What Prepare has looked at is hardly the cause of a bad first print.
    causes = run.causes.checked(_looked_at(run)) if run.causes.considered and not run.proofs else run.causes
    return replace(
        run, proofs=(*run.proofs, fresh), causes=causes, step_shift_mm=0.0, step_turns=None, moved_by=frozenset()
    )


def _looked_at(run: RunState) -> list[str]:
    """Causes that were looked at before the first print: the plate cleaned, its heat held, the feed measured."""
    found = []
    if run.checks.get("plate_clean") == "done":
        found.append("coat")
    if run.heated is not None and run.heated.bed_c >= run.setup.filament.bed_c - HEAT.within_c:
        found.append("cold_plate")
    if run.fed or run.setup.feed is not None or run.checks.get("extrusion_right") == "done":
        found.append("feed")
    if run.checks.get("tip_purged") == "done":
        found.append("priming")
    return found


@fold.register
def _nudged(what: Nudged, run: RunState, entry: Entry) -> RunState:
    """The nozzle really runs elsewhere, though nothing was stored; zones already laid were not moved."""
    now, proof = run, run.open_proof
    if proof is not None:
        first = len(proof.plan.zones) if what.from_zone is None else what.from_zone
        now = run.with_proof(replace(proof, nudges=(*proof.nudges, (first, what.away_mm))))
    live = round(now.nudged_mm + what.away_mm, 6)
    return replace(now, belief=now.belief.nozzle_moved(what.away_mm), nudged_mm=live)


@fold.register
def _speed_set(what: SpeedSet, run: RunState, entry: Entry) -> RunState:
    return replace(run, speed_percent=what.percent)


@fold.register
def _proof_ended(what: ProofEnded, run: RunState, entry: Entry) -> RunState:
    return run.with_proof(replace(_newest(run), printed=what.zones))


@fold.register
def _judged(what: Judged, run: RunState, entry: Entry) -> RunState:
    proof = _open(run)
    _refuse_unprinted(proof, what.zone)
    mark = Mark(what.zone, what.grade, what.caliper_mm, what.greasy, what.signs, what.short_mm, what.foot_mm)
    now = replace(proof, marks={**proof.marks, what.zone: mark}, skipped=proof.skipped - {what.zone})
    return replace(run.with_proof(now), caliper=True if what.caliper_mm is not None else run.caliper)


@fold.register
def _ladder_read(what: LadderRead, run: RunState, entry: Entry) -> RunState:
    proof = _open(run)
    if proof.plan.kind != "ladder":
        raise ValueError("This proof is no ladder. Judge its zones one by one.")
    upto = proof.zones_laid if what.first is None else what.first
    if what.first is not None:
        _refuse_unprinted(proof, what.first)
    # What was said of a step by itself is known better.
    marks = {k: Mark(k, open=True) for k in range(upto)} | {k: m for k, m in proof.marks.items() if k <= upto}
    if what.first is not None and what.grade is not None:
        marks[what.first] = Mark(what.first, what.grade)
    printed = proof.zones_laid if what.first is None else what.first + 1
    return run.with_proof(replace(proof, marks=marks, printed=printed))


@fold.register
def _zone_skipped(what: ZoneSkipped, run: RunState, entry: Entry) -> RunState:
    proof = _newest(run)
    _refuse_unprinted(proof, what.zone)
    # Of a ladder's step that did not close that stays known.
    marks = {k: m for k, m in proof.marks.items() if k != what.zone or m.open}
    return run.with_proof(replace(proof, marks=marks, skipped=proof.skipped | {what.zone}))


@fold.register
def _cause_mended(what: CauseMended, run: RunState, entry: Entry) -> RunState:
    proof = run.open_proof
    if proof is None:
        return replace(run, causes=run.causes.mended(what.cause) if run.causes.considered else run.causes)
    return run.with_proof(replace(proof, mended=proof.mended | {what.cause}))


@fold.register
def _feed_measured(what: FeedMeasured, run: RunState, entry: Entry) -> RunState:
    """The mean of the lengths tells the flow's error, which the proofs share."""
    unit = run.belief.surface.unit(run.belief.surface.extrusion)
    share, sd = what.off
    # Whatever was believed of it is little beside a rule.
    belief = run.belief.doubted(0.0, 0.0, 0.1).read(unit, share, sd)
    causes = run.causes.mended("feed", 0.95) if run.causes.considered else run.causes
    return replace(run, belief=belief, fed=True, feed_off=share, causes=causes)


@fold.register
def _feed_corrected(what: FeedCorrected, run: RunState, entry: Entry) -> RunState:
    return replace(run, belief=run.belief.flow_changed(what.times), feed_off=0.0)


@fold.register
def _tool_told(what: ToolTold, run: RunState, entry: Entry) -> RunState:
    if what.tool == "mesh":
        return replace(run, mesh_declined=not what.here)
    return replace(run, caliper=what.here) if what.tool == "caliper" else replace(run, rule=what.here)


@fold.register
def _other_filament_told(what: OtherFilamentTold, run: RunState, entry: Entry) -> RunState:
    """Whoever lays another filament beside it suspects this one."""
    return replace(
        run, other_filament=what.filament, causes=run.causes.suspected("roll", after_proofs=bool(run.proofs))
    )


@fold.register
def _zone_cleaned(what: ZoneCleaned, run: RunState, entry: Entry) -> RunState:
    proof = _newest(run)
    _refuse_unprinted(proof, what.zone)
    return run.with_proof(replace(proof, cleaned=proof.cleaned | {what.zone}))


def _refuse_unprinted(proof: ProofRun, zone: int) -> None:
    if proof.printed is not None and proof.printed <= zone < len(proof.plan.zones):
        raise ValueError(f"Zone {zone + 1} was not printed: the proof was cancelled before it.")
    if zone >= len(proof.plan.zones):
        raise ValueError(f"There is no zone {zone + 1} on this proof; it has {len(proof.plan.zones)}.")


def _open(run: RunState) -> ProofRun:
    proof = _newest(run)
    if run.open_proof is None:
        raise ValueError("This proof was printed before the last change. Print it again, then judge it.")
    return proof


def _newest(run: RunState) -> ProofRun:
    if not run.proofs:
        raise ValueError("There is no proof yet. Print one first, then judge it.")
    return run.proofs[-1]
