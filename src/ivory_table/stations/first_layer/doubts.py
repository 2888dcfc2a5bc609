"""What the first layer asks about: a caliper that says what no patch can be."""

from dataclasses import replace

import numpy as np

from ivory_table.core.defaults import BEAD, LAYER
from ivory_table.runs.doubts import Refused, doubt
from ivory_table.runs.entry import Source
from ivory_table.runs.judging import next_proof
from ivory_table.runs.run import OpenRun
from ivory_table.runs.state import RunState
from ivory_table.stations.asked import refuse_open_limit

from .entries import FeedMeasured, Judged, OtherFilamentTold, ProofStarted


@doubt.register
def _proof_started(what: ProofStarted, run: OpenRun, source: Source) -> None:
    # A ladder may have to run below the machine's own zero: that is what its limit is opened for.
    if what.proof.layer_mm + float(what.proof.away_mm.min()) >= 0:
        refuse_open_limit(run, "proof")
    plate = run.setup.plate
    for zone in what.proof.zones:
        if not plate.holds(zone.x_mm, zone.y_mm):
            raise Refused("zone_off_plate", f"{zone.name} would lie off {plate.name}.", "proof")


@doubt.register
def _other_filament_told(what: OtherFilamentTold, run: OpenRun, source: Source) -> None:
    if what.filament.id == run.setup.filament.id:
        raise Refused(
            "same_filament", f"{what.filament.name} is what this run prints with. Take another one.", "filament"
        )
    try:
        next_proof(replace(run.state, other_filament=what.filament), "two_filaments")
    except ValueError as wrong:
        raise Refused("does_not_fit_beside", str(wrong), "filament") from None


@doubt.register
def _judged(what: Judged, run: OpenRun, source: Source) -> None:
    if source != "hand" or (odd := doubtful_caliper(run.state, what)) is None:
        return
    about, instead_mm = odd
    raise Refused(
        "caliper_doubtful",
        f"{what.caliper_mm:g} mm is not what a patch of this layer can be: about {about:.2f} mm is expected"
        + (f"; did you mean {instead_mm:.2f}?" if instead_mm is not None else ".")
        + " Measure it again, or keep it as it is.",
        "caliper_mm",
        insist=True,
    )


@doubt.register
def _feed_measured(what: FeedMeasured, run: OpenRun, source: Source) -> None:
    off = max((abs(m - what.commanded_mm), m) for m in what.measured_mm)[1]
    if source != "hand" or what.sure or abs(off - what.commanded_mm) <= LAYER.feed.asked_mm * what.commanded_mm / 100:
        return
    left = what.commanded_mm - off
    likely = LAYER.feed.mark_mm - off
    hint = ""
    if abs(10 * off - what.commanded_mm) <= LAYER.feed.asked_mm:
        hint = f" Did you mean {10 * off:g} mm?"
    elif abs(likely - what.commanded_mm) <= LAYER.feed.asked_mm:
        hint = f" Is that what was left up to a mark at {LAYER.feed.mark_mm:g} mm? Then {likely:g} mm went in."
    raise Refused(
        "feed_doubtful",
        f"{off:g} mm is {abs(left):g} mm {'less' if left > 0 else 'more'} than was asked for; a feed is seldom so far off.{hint} "
        "Measure it again, or keep it as it is.",
        "measured_mm",
        insist=True,
    )


def doubtful_caliper(run: RunState, what: Judged) -> tuple[float, float | None] | None:
    """What a patch can be about where a caliper says something else, in mm, and the slip that would explain it.

    A patch is fused up to about the layer's thickness; twice that is a slip of the decimal point, or no patch.
    """
    proof = run.proofs[-1] if run.proofs else None
    if what.caliper_mm is None or what.sure or proof is None or what.zone >= len(proof.plan.zones):
        return None
    gaps, sds = run.judged(proof).before
    about, sd = float(gaps[what.zone]), float(np.hypot(sds[what.zone], BEAD.caliper_sd_mm))
    layer = proof.plan.layer_mm
    possible = BEAD.starved_below * layer / 2 <= what.caliper_mm <= 2 * layer
    if possible and abs(what.caliper_mm - about) <= max(5 * sd, layer / 2):
        return None
    about = min(max(about, BEAD.starved_below * layer), 1.5 * layer)
    slips = (what.caliper_mm / 10, what.caliper_mm * 10, what.caliper_mm / 100)
    fits = [s for s in slips if BEAD.starved_below * layer <= s <= 1.6 * layer]
    return about, min(fits, key=lambda s: abs(s - about), default=None)
