"""The starting values, read once from the tables beside this file and validated."""

import tomllib
from importlib.resources import files
from typing import Any

from .plate_tables import Drift, Feel, Field, Heat, Layout, Motion, Offset, OldMesh, Probe, SecondTip, Survey, Tram
from .print_tables import Bead, Faces, HoldDown, JobCheck, Judge, Layer, Proof


def _table(name: str) -> dict[str, Any]:
    return tomllib.loads(files(__package__).joinpath(f"{name}.toml").read_text("utf-8"))


_job = _table("job")
FEEL = Feel.model_validate(_job["feel"])
TRAM = Tram.model_validate(_job["tram"])
OFFSET = Offset.model_validate(_job["offset"])
PROBE = Probe.model_validate(_job["probe"])
SECOND = SecondTip.model_validate(_job["second_tip"])
BEAD = Bead.model_validate(_job["bead"])
JUDGE = Judge.model_validate(_job["judge"])
PROOF = Proof.model_validate(_job["proof"])
MOTION = Motion.model_validate(_job["motion"])
HEAT = Heat.model_validate(_job["heat"])
JOB_CHECK = JobCheck.model_validate(_job["job_check"])
SURVEY = Survey.model_validate(_job["survey"])
FIELD = Field.model_validate(_job["field"])
LAYOUT = Layout.model_validate(_job["layout"])
OLD_MESH = OldMesh.model_validate(_job["old_mesh"])
#: Signs of a first layer, and what may lie behind them.
LAYER = Layer.model_validate(_table("first_layer"))
FACES = Faces.model_validate(_table("faces"))
HOLD_DOWN = HoldDown.model_validate(_table("hold_down"))
DRIFT = Drift.model_validate(_table("drift"))
CONVENTIONS: dict[str, Any] = _table("conventions")
PREPARE: dict[str, Any] = _table("prepare")
#: What a workshop begins with: gauges, filaments, and where knobs usually are.
FIRST: dict[str, Any] = _table("first")
GONE_BAD: dict[str, Any] = _table("gone_bad")
