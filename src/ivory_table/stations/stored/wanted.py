"""What value is to be stored, by all that is known of the plate."""

import numpy as np

from ivory_table.runs.state import RunState


def shift_wanted(state: RunState) -> float:
    """How much further the nozzle must run so that its zero lies on the plate at its centre, mm."""
    centre = [state.setup.plate.centre]
    height, _ = state.belief.height(centre)
    return float(height[0] - state.machine_believes(np.array(centre))[0])
