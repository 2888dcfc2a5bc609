"""The probe itself: how well it repeats, and how high its sensor must sit."""

import numpy as np

from ivory_table.core.plate import ProbeTilt
from ivory_table.core.probe_place import PlaceFound, beside_words, place_found
from ivory_table.core.probe_tilt import PlaceCompared, TiltFound, tilt_found
from ivory_table.core.probecheck import Repeats, SensorTurn, repeats, sensor_turn
from ivory_table.core.value import Value
from ivory_table.runs.doubts import Refused
from ivory_table.runs.lessons import lessons
from ivory_table.runs.run import OpenRun, once_per_state
from ivory_table.stations.offset.state import Offset


class ProbeCheck(Value):
    repeats: Repeats
    #: By the last margin that was measured; None before one.
    sensor: SensorTurn | None
    #: What the set-up says of its scatter, mm.
    said_sd_mm: float
    #: Whether it leans, by the places where a gauge was felt beside it; and what is counted in now.
    tilt: TiltFound
    counted_in: ProbeTilt | None
    compared: tuple[PlaceCompared, ...]
    #: Where it sits beside the tip by the marks that were sighted; in words, where it is taken to sit and where from the next run on.
    place: PlaceFound
    place_taken: str
    place_kept: str | None


@once_per_state
def probe_check(run: OpenRun) -> ProbeCheck:
    probe = run.setup.machine.probe
    if probe is None:
        raise Refused("no_probe", f"{run.setup.machine.name} has no probe.")
    offset = Offset.of(run.state)
    margin = offset.margin
    return ProbeCheck(
        repeats=repeats(offset.touches, run.state.bead.layer_mm),
        sensor=sensor_turn(margin.margin_mm, margin.pitch_mm, clockwise_raises=margin.clockwise_raises)
        if margin
        else None,
        said_sd_mm=probe.sd_mm,
        tilt=tilt_found(offset.compared, run.setup.plate, float(np.hypot(probe.sd_mm, run.setup.feel.drag_sd_mm))),
        counted_in=run.state.probe_tilt,
        compared=offset.compared,
        place=place_found(offset.marks, probe.beside, run.state.belief, run.setup.plate),
        place_taken=beside_words(probe.beside),
        place_kept=beside_words(kept.place) if (kept := lessons(run).probe_place) and kept.place else None,
    )
