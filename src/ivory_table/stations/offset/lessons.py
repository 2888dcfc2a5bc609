"""What the Z offset teaches: which way the stored number counts, and the person's feel on this gauge."""

from typing import Any

from ivory_table.runs.lessons import ConventionLesson, FeelLesson, ProbePlaceLesson, TiltLesson, TipHeatLesson, teaches
from ivory_table.runs.run import OpenRun

from .entries import FeelKept, ProbePlaced, ProbeTilted, SignShown, TipHeatCounted


@teaches
def lessons(run: OpenRun) -> dict[str, Any]:
    found: dict[str, Any] = {}
    shown = [e for e in run.kept if isinstance(e.what, SignShown) and e.what.sign]
    if shown and run.state.sign_proved:
        found["convention"] = ConventionLesson(at=shown[-1].at, convention=run.state.convention_id)
    elif "firmware" in run.state.changes and not run.state.sign_proved:
        found["convention"] = ConventionLesson(
            at=run.setup.started_at, convention=run.state.convention_id, proved=False
        )
    tilted = [e for e in run.kept if isinstance(e.what, ProbeTilted)]
    if tilted:
        found["tilt"] = TiltLesson(at=tilted[-1].at, tilt=run.state.probe_tilt)
    placed = [(e.at, e.what.place) for e in run.kept if isinstance(e.what, ProbePlaced)]
    if placed:
        found["probe_place"] = ProbePlaceLesson(at=placed[-1][0], place=placed[-1][1])
    counted = [e for e in run.kept if isinstance(e.what, TipHeatCounted)]
    if counted:
        found["tip_heat"] = TipHeatLesson(at=counted[-1].at, heat=run.state.tip_heat)
    told = [(e.at, e.what.scale) for e in run.kept if isinstance(e.what, FeelKept)]
    if not told:
        return found
    at, scale = told[-1]
    return found | {"feel": FeelLesson(at=at, gauge_id=run.setup.gauge.id, scale=scale)}
