"""What the Z offset keeps in mind of a run, and what it makes of its rows."""

from dataclasses import dataclass, replace

import numpy as np

from ivory_table.core.approach import Under
from ivory_table.core.defaults import TRAM
from ivory_table.core.feelcheck import FeelTry
from ivory_table.core.offset import convention
from ivory_table.core.plate import MOST_BESIDE_MM
from ivory_table.core.probe_place import MarkSeen
from ivory_table.core.probe_tilt import PlaceCompared
from ivory_table.core.probecheck import Touch
from ivory_table.core.steps import ScatterTold
from ivory_table.core.tip_heat import TipFelt
from ivory_table.runs.entry import Entry
from ivory_table.runs.record import RunRecord, Slice
from ivory_table.runs.searching import approach_at, searched
from ivory_table.runs.state import RunState, fold
from ivory_table.stations.offset.entries import (
    DisplayShown,
    FeelKept,
    FeelTried,
    Felt,
    GapSeen,
    LimitClosed,
    LimitOpened,
    MarkSighted,
    ProbeCompared,
    ProbePlaced,
    ProbeTilted,
    ProbeTouched,
    SensorMeasured,
    SignShown,
    ThickTried,
    TipFeltAt,
    TipHeatCounted,
    ZeroDoubted,
)


@dataclass(frozen=True)
class Offset(Slice):
    """What was felt and seen at the centre since the value was last stored, and a feel check in the making."""

    moves: tuple[Felt, ...] = ()
    #: What was told of the gap from further away, by eye or by something thick, in its order.
    looks: tuple[GapSeen | ThickTried, ...] = ()
    feel_tries: tuple[FeelTry, ...] = ()
    #: What the machine's display is above the height that is sent, mm: it counts from another zero.
    display_above_mm: float = 0.0
    #: The probe's touches of one place, and the last height of its sensor that was measured.
    touches: tuple[Touch, ...] = ()
    margin: SensorMeasured | None = None
    #: Places where probe and gauge were compared.
    compared: tuple[PlaceCompared, ...] = ()
    #: Marks under the tip and under the probe.
    marks: tuple[MarkSeen, ...] = ()
    #: The drag under the tip at several heats.
    tip_felt: tuple[TipFelt, ...] = ()
    #: How often a value had been stored when it was felt and seen.
    at_change: int = 0

    @property
    def stands_mm(self) -> float:
        """The last height that was told of: felt, else the lowest one looked at; 0 as it homes."""
        return self.moves[-1].z_mm if self.moves else min((look.z_mm for look in self.looks), default=0.0)

    @classmethod
    def of(cls, run: RunRecord) -> "Offset":
        """What was felt since the value was last stored: before that, the tip hung elsewhere."""
        found, changes = super().of(run), len(run.stored_changes)
        return (
            found if found.at_change == changes else replace(found, moves=(), looks=(), tip_felt=(), at_change=changes)
        )


@fold.register
def _felt(what: Felt, run: RunState, entry: Entry) -> RunState:
    run.setup.plate.refuse_outside(what.x_mm, what.y_mm)
    offset = Offset.of(run)
    approach = approach_at(run, what.x_mm, what.y_mm).feel(what.z_mm, what.feel)
    return searched(run, what.x_mm, what.y_mm, approach).put(replace(offset, moves=(*offset.moves, what)))


@fold.register
def _sign_shown(what: SignShown, run: RunState, entry: Entry) -> RunState:
    told = what.convention or run.convention_id
    if what.sign and convention(told).sign == what.sign:
        return replace(run, convention_id=told, sign_proved=True)
    return run


@fold.register
def _display_shown(what: DisplayShown, run: RunState, entry: Entry) -> RunState:
    above = what.shows_mm if what.means == "zero" else 0.0
    return run.put(replace(Offset.of(run), display_above_mm=above))


@fold.register
def _probe_touched(what: ProbeTouched, run: RunState, entry: Entry) -> RunState:
    offset = Offset.of(run)
    return run.put(
        replace(offset, touches=(*offset.touches, Touch(z_mm=what.z_mm, bed_c=what.bed_c, parked_min=what.parked_min)))
    )


@fold.register
def _probe_compared(what: ProbeCompared, run: RunState, entry: Entry) -> RunState:
    run.setup.plate.refuse_outside(what.x_mm, what.y_mm)
    pair = PlaceCompared(x_mm=what.x_mm, y_mm=what.y_mm, probe_z_mm=what.probe_z_mm, drag_z_mm=what.drag_z_mm)
    offset = Offset.of(run)
    return run.put(replace(offset, compared=(*offset.compared, pair)))


@fold.register
def _probe_tilted(what: ProbeTilted, run: RunState, entry: Entry) -> RunState:
    if what.tilt is not None:
        _refuse_without_probe(run)
    return replace(run, probe_tilt=what.tilt)


@fold.register
def _mark_sighted(what: MarkSighted, run: RunState, entry: Entry) -> RunState:
    # The mark is on the plate; the head may stand beside it with the probe.
    run.setup.plate.refuse_outside(what.tip_x_mm, what.tip_y_mm)
    beside = max(abs(what.tip_x_mm - what.probe_x_mm), abs(what.tip_y_mm - what.probe_y_mm))
    if beside > MOST_BESIDE_MM:
        raise ValueError(f"By these numbers the probe sits {beside:.0f} mm beside the tip. Look at them again.")
    offset = Offset.of(run)
    mark = MarkSeen.model_validate(what.model_dump(include=set(MarkSeen.model_fields)))
    return run.put(replace(offset, marks=(*offset.marks, mark)))


@fold.register
def _probe_placed(what: ProbePlaced, run: RunState, entry: Entry) -> RunState:
    if what.place is not None:
        _refuse_without_probe(run)
    return run


def _refuse_without_probe(run: RunState) -> None:
    if run.setup.machine.probe is None:
        raise ValueError("This machine has no probe.")


@fold.register
def _tip_felt_at(what: TipFeltAt, run: RunState, entry: Entry) -> RunState:
    offset = Offset.of(run)
    felt = TipFelt(tip_c=what.tip_c, drag_z_mm=what.drag_z_mm)
    return run.put(replace(offset, tip_felt=(*offset.tip_felt, felt)))


@fold.register
def _tip_heat_counted(what: TipHeatCounted, run: RunState, entry: Entry) -> RunState:
    # What was felt so far was told with the tip as it was then taken to be.
    return replace(run, tip_heat=what.heat, search=None)


@fold.register
def _sensor_measured(what: SensorMeasured, run: RunState, entry: Entry) -> RunState:
    # Touches of a sensor that sat elsewhere are of another trigger.
    return run.put(replace(Offset.of(run), margin=what, touches=()))


@fold.register
def _gap_seen(what: GapSeen, run: RunState, entry: Entry) -> RunState:
    offset, (x, y) = Offset.of(run), run.setup.plate.centre
    approach = approach_at(run, x, y).look(what.z_mm, what.gap_mm)
    return searched(run, x, y, approach).put(replace(offset, looks=(*offset.looks, what)))


@fold.register
def _thick_tried(what: ThickTried, run: RunState, entry: Entry) -> RunState:
    offset, (x, y) = Offset.of(run), run.setup.plate.centre
    tried = Under(z_mm=what.z_mm, under_mm=what.under_mm, not_mm=what.not_mm, typed=what.typed)
    approach = approach_at(run, x, y).slid_under(tried)
    return searched(run, x, y, approach).put(replace(offset, looks=(*offset.looks, what)))


@fold.register
def _feel_tried(what: FeelTried, run: RunState, entry: Entry) -> RunState:
    offset = Offset.of(run)
    return run.put(replace(offset, feel_tries=(*offset.feel_tries, what.feel_try)))


@fold.register
def _feel_kept(what: FeelKept, run: RunState, entry: Entry) -> RunState:
    ln, sd = float(np.log(what.scale.scatter_mm)), max(what.scale.scatter_ln_sd, 0.05)
    belief = run.belief.after(ScatterTold(ln, sd))
    return run.put(replace(Offset.of(run), feel_tries=()), belief=belief, feel=what.scale)


@fold.register
def _limit_opened(what: LimitOpened, run: RunState, entry: Entry) -> RunState:
    return replace(run, limit_open_mm=what.by_mm)


@fold.register
def _limit_closed(what: LimitClosed, run: RunState, entry: Entry) -> RunState:
    return replace(run, limit_open_mm=0.0)


@fold.register
def _zero_doubted(what: ZeroDoubted, run: RunState, entry: Entry) -> RunState:
    """The tip may hang anywhere above the plate again; after a crash each screw may stand elsewhere too."""
    each = TRAM.pause_each_sd_mm * (5 if what.why == "crash" else 0)
    belief = run.belief.loosened(TRAM.common_prior_sd_mm, each, 0.0)
    checks = run.checks if what.why != "crash" else {k: v for k, v in run.checks.items() if k != "homed"}
    return replace(run, belief=belief, checks=checks, search=None).put(
        replace(Offset.of(run), moves=(), looks=(), touches=())
    )
