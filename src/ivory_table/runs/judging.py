"""What a proof's marks say of its gaps, what they teach for good, which zones are wanted sound, and which proof comes next."""

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from ivory_table.core.causes import FAIL_FIRST, HEIGHT, ZERO
from ivory_table.core.defaults import JUDGE, PROOF
from ivory_table.core.proof import ProofChoice, ProofPlan, ladder_aways, plan
from ivory_table.core.proof_field import caliper_after, field_prior, judged_field, learn_proof
from ivory_table.core.zones_sound import chance_sound
from ivory_table.runs.proof import JudgedProof, ProofRun, Wanted

if TYPE_CHECKING:
    from ivory_table.runs.state import RunState

#: What moves plate or nozzle by a number that is known: turns of all knobs, a new stored value, another layer.
MOVED_IN_STEPS = frozenset({"turned_all", "offset_set", "layer_chosen"})


def judge_proof(run: "RunState", proof: ProofRun) -> JudgedProof:
    """The proof's zones before and after its marks."""
    zones, layer = proof.plan.places, proof.plan.layer_mm
    believes = run.machine_believes(zones) + proof.plan.away_mm
    for first, away in proof.nudges:
        # The zones laid before a nudge had not been moved by it.
        believes = believes - np.where(np.arange(len(zones)) < first, away, 0.0)
    rows, mean, cov = field_prior(run.belief, zones, layer, believes)
    bead, marks = proof.plan.bead, tuple(proof.marks.values())
    z = len(zones)
    before = mean[:z], np.sqrt(np.maximum(np.diag(cov)[:z], 0.0))
    places = np.array(proof.plan.zone_places)
    found, eye = judged_field(mean, cov, marks, bead, run.eye, run.causes, places, run.caliper_off, proof.plan.spares)
    constant = np.append(layer + run.belief.shift_mm + believes, 0.0)
    return JudgedProof(rows, constant, before, found, eye)


def with_marks_learnt(run: "RunState") -> "RunState":
    """The newest proof's marks taken into the belief, as the next change needs them; and what was mended since."""
    proof = run.open_proof
    if proof is None or not (proof.marks or proof.cleaned or proof.mended):
        return run
    found, causes, belief = run.judged(proof), run.causes, run.belief
    places = proof.plan.zone_places
    if proof.marks and causes.considered:
        doubt = found.field.doubt
        belief = belief.doubted(doubt.astray_var**0.5, doubt.flow, doubt.flow_var**0.5, doubt.off_mm)
        greasy = {places[k]: float(found.field.greasy[k]) for k in proof.marks}
        causes = causes.learnt(found.field.shared, greasy, found.field.astray)
    if causes.considered:
        for name in sorted(proof.mended):
            causes = causes.mended(name)
        for k in sorted(proof.cleaned):
            causes = causes.cleaned(places[k])
    eye = found.eye
    if proof.promised is not None and len(proof.marks) == len(proof.plan.zones):
        looked = [m.grade == "sound" for m in proof.marks.values() if m.grade is not None]
        eye = eye.kept(proof.promised, sum(looked) / len(looked)) if looked else eye
    return replace(
        run,
        belief=learn_proof(belief, found.rows, found.field, found.constant),
        eye=eye,
        caliper_off=caliper_after(run.caliper_off, found.field, tuple(proof.marks.values())),
        causes=causes,
        judged_places=run.judged_places | {places[k] for k in (*proof.marks, *proof.skipped) if k not in proof.cleaned},
    )


def three_heights(run: "RunState") -> ProofPlan | None:
    """Each zone at three heights, where that tells most: the height is about known and nothing else is suspected; else None.

    An eye tells where a sound zone ends, not where in it one is. The closer patches must surely not scrape. The first proof
    is whole patches until somebody has said whether a caliper is at hand: they show how the plate looks as it stands.
    """
    known = run.with_marks()
    causes = known.causes
    said = run.caliper is not None or bool(run.proofs)
    last = run.proofs[-1] if run.proofs else None
    # Whether what was cleaned or mended holds now, whole patches show; so is what needs no print, to see it as it stands.
    whole = (last is not None and bool(last.cleaned or last.mended)) or run.sound_unseen is not None
    if whole or not said or not causes.considered or run.common_gap[1] > PROOF.heights_known_mm:
        return None
    try:
        laid = plan(run.setup.machine, run.setup.plate, run.setup.filament, "three_heights", bead=run.bead)
    except ValueError:
        return None
    suspected = 1 - causes.shared.get(HEIGHT, 0.0) - causes.shared.get(ZERO, 0.0) >= JUDGE.cause_at
    if suspected or any(causes.greasy_at(place) >= JUDGE.cause_at for place in laid.zone_places):
        return None
    mean, cov = known.gaps_before(laid)
    z = len(laid.zones)
    closest = mean[:z] - PROOF.heights_clear_sds * np.sqrt(np.diag(cov)[:z])
    return laid if (closest > JUDGE.scrape_mm).all() else None


def sound_unseen(run: "RunState") -> float | None:
    """The chance that every zone is sound once something was moved after a proof that held everywhere.

    None where it is too low to do without a print of how it stands now, nobody saw all zones hold, or more was done than a
    step of the offset or of the knobs: a mesh measured anew, or another feed, is seen printed first.
    """
    proof = run.proofs[-1] if run.proofs else None
    if proof is None or run.open_proof is not None or not run.setup.causes_considered:
        return None
    if not proof.held_everywhere or not run.moved_by <= MOVED_IN_STEPS:
        return None
    field = replace(run.wanted.field, looked_at=frozenset(range(len(run.wanted.plan.zones))))
    p = run.eye.trust * chance_sound(field, run.wanted.plan.bead)
    return p if p >= JUDGE.unseen_at else None


def wanted_zones(run: "RunState") -> Wanted:
    """The zones that are to be sound, and all that is known of them: of the newest proof that shows the whole plate."""
    proof = run.open_proof
    laid = next((p.plan for p in reversed(run.proofs) if p.plan.judges_all), None)
    if laid is None and run.proofs and run.proofs[-1].plan.kind == "patches":
        laid = run.proofs[-1].plan
    laid = laid or plan(run.setup.machine, run.setup.plate, run.setup.filament, 5)
    if proof is None or laid is not proof.plan:
        # Another first layer than it was printed in may have been chosen since.
        laid = laid.with_bead(run.bead if proof is None else proof.plan.bead)
    places = run.judged_places
    if proof is not None:
        seen = {*proof.marks, *proof.skipped}
        places = places | {place for k, place in enumerate(proof.plan.zone_places) if k in seen}
    judged = frozenset(k for k, place in enumerate(laid.zone_places) if place in places)
    if proof is not None and laid == proof.plan:
        return Wanted(laid, run.zone_field(proof), tuple(proof.marks.values()), judged)
    return Wanted(laid, replace(run.foreseen(laid), looked_at=judged), (), judged)


def in_telling_order(run: "RunState", laid: ProofPlan) -> ProofPlan:
    """Patches in reverse order where a tip that still primes may have spoilt the one that was laid first.

    That goes with the order, and grease or a low place does not; to lay another one first costs nothing.
    """
    newest = run.proofs[-1].plan
    same_first = laid.kind == "patches" and laid.zone_places[0] == newest.zone_places[0]
    return laid.in_reverse if same_first and may_prime(run) else laid


def may_prime(run: "RunState") -> bool:
    """Whether what was laid first may have been spoilt by the tip, and not by where it lies."""
    shared = run.with_marks().causes.shared
    return any(shared.get(name, 0.0) >= JUDGE.order_at for name in FAIL_FIRST)


def next_proof(run: "RunState", choice: ProofChoice) -> ProofPlan:
    """The proof to print next. As advised: the same again, all of it; first the most telling one. Raises ValueError for want of room."""
    setup = run.setup
    if choice == "advised" and run.height_unknown and (not run.proofs or run.proofs[-1].plan.kind == "ladder"):
        choice = "ladder"
    elif choice == "advised" and run.three_heights is not None:
        return run.three_heights
    elif choice in ("advised", "reversed") and run.proofs:
        newest = run.proofs[-1].plan
        same = (newest if newest.judges_all else run.wanted.plan).with_bead(run.bead)
        return same.in_reverse if choice == "reversed" else in_telling_order(run, same)
    elif choice == "advised":
        choice = 5
    aways = ladder_aways(*run.common_gap, run.bead.layer_mm) if choice == "ladder" else (0.0,)
    grid = run.mesh.grid if run.mesh else None
    return plan(setup.machine, setup.plate, setup.filament, choice, grid, aways, run.bead, run.other_filament)
