"""What the first layer asks about: a caliper that says what no patch can be."""

import numpy as np

from ivory_table.core.defaults import BEAD
from ivory_table.runs.doubts import Refused, doubt
from ivory_table.runs.entry import Source
from ivory_table.runs.run import OpenRun
from ivory_table.runs.state import RunState
from ivory_table.stations.asked import refuse_open_limit

from .entries import Judged, ProofStarted


@doubt.register
def _proof_started(what: ProofStarted, run: OpenRun, source: Source) -> None:
    refuse_open_limit(run, "proof")


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
