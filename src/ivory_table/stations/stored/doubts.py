"""What is refused of a stored value: one that runs into the plate, one that was not stored as meant."""

import numpy as np

from ivory_table.core.defaults import OFFSET
from ivory_table.core.offset import convention, readback_agrees, shift_of
from ivory_table.runs.doubts import Refused, doubt
from ivory_table.runs.entry import Source
from ivory_table.runs.run import OpenRun
from ivory_table.stations.stored.entries import OffsetSet, Readback


@doubt.register
def _offset_set(what: OffsetSet, run: OpenRun, source: Source) -> None:
    if what.sure:
        return
    state, centre = run.state, [run.setup.plate.centre]
    shift = shift_of(state.stored_mm, what.stored_mm, convention(run.setup.machine.convention))
    # By the same belief that the advice is made from: the marks on the newest proof are in it.
    height, sd = state.with_marks().belief.height(centre)
    deep = float(height[0]) - shift - float(state.machine_believes(np.array(centre))[0])
    if deep > OFFSET.closer_asks_mm and shift < 0:
        raise Refused(
            "closer_than_proven",
            f"{what.stored_mm:g} would run the tip about {deep:.2f} mm into the plate at its centre, by what "
            f"is known here (±{float(sd[0]):.2f}). Check the sign, or say that you are sure.",
            "stored_mm",
            insist=True,
        )


@doubt.register
def _readback(what: Readback, run: OpenRun, source: Source) -> None:
    reported = what.reported_mm
    if reported is not None and not readback_agrees(run.state.stored_mm, reported, run.setup.machine.z_step_mm):
        raise Refused(
            "readback_differs",
            f"The machine reports {reported:g}, meant was {run.state.stored_mm:g}. "
            "It was not stored as meant: send the line again and read it back.",
            "reported_mm",
        )
