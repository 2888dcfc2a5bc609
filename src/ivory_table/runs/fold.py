"""What the rows that are taken everywhere do to a run."""

from dataclasses import replace

from ivory_table.core.changes import change
from ivory_table.core.defaults import TRAM

from .common import CautionSeen, MachineRestarted, Resumed, StationSkipped, TakenBack, WhereNoted
from .entry import Entry
from .state import RunState, fold


@fold.register
def _skipped(what: StationSkipped, run: RunState, entry: Entry) -> RunState:
    return replace(run, skipped=run.skipped | {what.station})


@fold.register
def _caution_seen(what: CautionSeen, run: RunState, entry: Entry) -> RunState:
    return replace(run, cautions=run.cautions | {what.caution})


@fold.register
def _where_noted(what: WhereNoted, run: RunState, entry: Entry) -> RunState:
    return replace(run, where={**run.where, what.step: what.line})


@fold.register
def _taken_back(what: TakenBack, run: RunState, entry: Entry) -> RunState:
    return run  # what is left is folded anew, without the row


@fold.register
def _resumed(what: Resumed, run: RunState, entry: Entry) -> RunState:
    """After a pause the motors may have moved and the plate is cold: home and hold again; more where more changed."""
    for told in what.changes:
        change(told)  # one that is not known cannot be told
    plate = bool({"plate", "layer"} & set(what.changes))
    knobs = bool({"springs", "screws", "moved", "rebuilt"} & set(what.changes))
    zero = bool({"nozzle", "z_stop", "probe", "firmware"} & set(what.changes))
    belief = run.belief.loosened(
        TRAM.common_prior_sd_mm if zero or plate or knobs else TRAM.pause_common_sd_mm,
        TRAM.knob_prior_sd_mm if knobs else TRAM.pause_each_sd_mm,
        TRAM.form_prior_sd_mm if plate else 0.0,
    )
    return replace(
        run.with_changes(what.changes),
        belief=belief,
        slices={kind: one.after_pause() for kind, one in run.slices.items()},
        checks={k: v for k, v in run.checks.items() if k not in ("homed", "tip_clean", "plate_clean")},
        heated=None,
        mesh=None if plate else run.mesh,
        mesh_on=False if plate else run.mesh_on,
    )


@fold.register
def _restarted(what: MachineRestarted, run: RunState, entry: Entry) -> RunState:
    """Live changes are gone; of the mesh the machine has what was stored, and follows it again only once it is told to."""
    return replace(
        run,
        belief=run.belief.nozzle_moved(-run.nudged_mm) if run.nudged_mm else run.belief,
        nudged_mm=0.0,
        speed_percent=100.0,
        checks={k: v for k, v in run.checks.items() if k != "homed"},
        mesh_sent=run.mesh_stored,
        mesh_on=False,
        mesh_on_told=False,
        mesh_back_mm=run.mesh_back_mm if run.mesh_stored else None,
    )
