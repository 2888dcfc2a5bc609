"""An earlier mesh looked at again: where to read, and whether it still holds."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ivory_table.core.defaults import OLD_MESH
from ivory_table.core.mesh_check import OldMesh, Verdict
from ivory_table.core.mesh_plan import plan_points, used_places, walk
from ivory_table.runs.run import OpenRun, once_per_state
from ivory_table.runs.state import RunState

from .state import Earlier, Mesh


@dataclass(frozen=True, eq=False)
class Check:
    """An earlier mesh with what was read of it today."""

    earlier: Earlier
    old: OldMesh
    state: RunState

    @property
    def verdict(self) -> Verdict:
        if len(self.old.reads) < OLD_MESH.first_reads:
            return "cannot tell yet"
        return self.old.verdict

    @cached_property
    def to_read(self) -> tuple[tuple[float, float], ...]:
        """The places that tell most: three first, then one more as long as nobody can tell."""
        done = len(self.old.reads)
        if done >= OLD_MESH.most_reads or self.verdict != "cannot tell yet":
            return ()
        setup = self.state.setup
        probe = None if self.earlier.survey.owns_zero else setup.machine.probe
        able = [p.place_mm for p in walk(plan_points(self.earlier.survey.grid, setup.plate, probe)) if p.place_mm]
        able = [p for p in able if p not in {(r.x_mm, r.y_mm) for r in self.old.reads}]
        if not able:
            return ()
        sd = self.state.reading_noise(felt=self.earlier.survey.owns_zero)
        chosen = self.old.to_read(np.array(able), max(OLD_MESH.first_reads - done, 1), sd)
        return tuple(able[k] for k in chosen)

    @property
    def words(self) -> str:
        """What is said of it."""
        if self.verdict == "holds":
            return f"It still holds: {self.old.p_holds:.0%} that nothing printed on is off by more than {self.old.tol_mm:.2f} mm."
        if self.verdict == "does not hold":
            return f"It does not hold any more: only {self.old.p_holds:.0%} that it does. Measure a new one."
        if len(self.old.reads) >= OLD_MESH.most_reads:
            return f"{len(self.old.reads)} readings do not settle it ({self.old.p_holds:.0%} that it holds). Measure a new one."
        by = "By its age alone" if not self.old.reads else "So far"
        return f"{by}: {self.old.p_holds:.0%} that it still holds."


def old_mesh(state: RunState, earlier: Earlier, days: float) -> OldMesh:
    """An earlier mesh of the mounted plate, so many days old, with what was read of it today."""
    plate, survey = state.setup.plate, earlier.survey
    return OldMesh(survey, plate, used_places(plate, survey.grid, 9), days, state.tol_mm, earlier.reads)


@once_per_state
def check_at(run: OpenRun) -> Check | None:
    """The check at hand; None where none is."""
    earlier = Mesh.of(run.state).earlier
    if earlier is None:
        return None
    days = (run.setup.started_at - earlier.measured_at).total_seconds() / 86400
    return Check(earlier, old_mesh(run.state, earlier, days), run.state)
