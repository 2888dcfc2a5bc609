"""The probe itself: how well it repeats, and how high its sensor must sit."""

from ivory_table.core.probecheck import Repeats, SensorTurn, repeats, sensor_turn
from ivory_table.core.value import Value
from ivory_table.runs.doubts import Refused
from ivory_table.runs.run import OpenRun, once_per_state
from ivory_table.stations.offset.state import Offset


class ProbeCheck(Value):
    repeats: Repeats
    #: By the last margin that was measured; None before one.
    sensor: SensorTurn | None
    #: What the set-up says of its scatter, mm.
    said_sd_mm: float


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
    )
