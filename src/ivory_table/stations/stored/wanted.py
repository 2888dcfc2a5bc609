"""What value is to be stored, by all that is known of the plate."""

import numpy as np

from ivory_table.core.manner import Manner
from ivory_table.core.offset import StoredChange, convention, stored_after
from ivory_table.runs.state import RunState


def shift_wanted(state: RunState) -> float:
    """How much further the nozzle must run so that its zero lies on the plate at its centre, mm."""
    centre = [state.setup.plate.centre]
    height, _ = state.belief.height(centre)
    return float(height[0] - state.machine_believes(np.array(centre))[0])


def with_nudges_stored(state: RunState, manner: Manner) -> StoredChange:
    """The value to store so that the nozzle goes on running where live changes have brought it."""
    how = convention(state.convention_id, manner)
    return stored_after(state.stored_mm, state.nudged_mm, how, state.setup.machine.z_step_mm)
