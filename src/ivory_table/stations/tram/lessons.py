"""What a tram teaches: how the knobs work, what the supports give, how far the person's feel scatters."""

from typing import Any

import numpy as np

from ivory_table.core.belief import Belief
from ivory_table.core.defaults import TRAM
from ivory_table.core.setup import Learnt, RunSetup
from ivory_table.core.travel import preload_after
from ivory_table.runs.lessons import FeelLesson, ScrewsLesson, SupportsLesson, teaches
from ivory_table.runs.run import OpenRun
from ivory_table.stations.tram.entries import BackedOff, SenseTried

from .slice import Tram


@teaches
def lessons(run: OpenRun) -> dict[str, Any]:
    state, tram = run.state, Tram.of(run.state)
    found: dict[str, Any] = {}
    if (shown := _shown(run)) is not None:
        found["screws"] = shown
    if not state.signed_off or not tram.stops:
        return found
    at = run.kept[-1].at
    turned_round = state.belief.p_reversed()
    screws = tuple(
        s.model_copy(
            update={
                "sense": -s.sense if p > TRAM.reversed_at else s.sense,
                "sense_proved": s.sense_proved or p > TRAM.reversed_at or p < TRAM.reversed_proved,
            }
        )
        for s, p in zip(state.screws, turned_round, strict=True)
    )
    found["screws"] = ScrewsLesson(at=at, screws=preload_after(screws, state.moved_mm))
    found["supports"] = SupportsLesson(at=at, learnt=_learnt(state.belief, run.setup))
    if len(tram.stops) >= len(screws):
        scatter, ln_sd = state.belief.scatter_learnt()
        scale = state.feel.model_copy(update={"scatter_mm": scatter, "scatter_ln_sd": ln_sd})
        found["feel"] = FeelLesson(at=at, gauge_id=run.setup.gauge.id, scale=scale)
    return found


def _shown(run: OpenRun) -> ScrewsLesson | None:
    """What is taught before the run is signed off: the knobs that were tried, and springs that were all set anew."""
    screws, at = list(run.setup.machine.screws), None
    for entry in run.kept:
        if isinstance(entry.what, SenseTried):
            j, at = run.setup.machine.screw(entry.what.screw), entry.at
            now = run.state.screws[j]
            screws[j] = screws[j].model_copy(update={"sense": now.sense, "sense_proved": now.sense_proved})
        elif isinstance(entry.what, BackedOff):
            at = entry.at
            screws = [
                s.model_copy(update={"preload_mm": t.preload_mm}) for s, t in zip(screws, run.state.screws, strict=True)
            ]
    return ScrewsLesson(at=at, screws=tuple(screws)) if at is not None else None


def _learnt(belief: Belief, setup: RunSetup) -> Learnt:
    """Supports and knobs for the next run."""

    def floats(values: Any) -> tuple[float, ...]:
        return tuple(float(v) for v in np.asarray(values))

    mean, cov = belief.compliance_learnt()
    gains, sds = belief.gains_for_next()
    return Learnt(
        mean_ln=floats(mean),
        cov_ln=tuple(floats(row) for row in cov),
        gains=floats(gains),
        gain_sds=floats(sds),
        answer_ln=belief.answer_learnt(),
        runs=setup.learnt.runs + 1 if setup.learnt else 1,
    )
